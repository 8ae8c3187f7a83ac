"""One question from text to answer: parsed, checked against a site, run."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.engine.run import run
from elenchus.errors import QuestionError
from elenchus.language.parser import read
from elenchus.plan.check import check

if TYPE_CHECKING:
    from elenchus.engine.answer import Answer
    from elenchus.site.site import Site

__all__ = ["ask"]


def ask(site: Site, question: str, *, page: int | str = 1) -> Answer:
    """Return one page of the answer to a question about a site.

    Raises QuestionError with every problem of form and meaning at once, NoSuchPage for a page outside
    1 … pages, SiteError when the content cannot be read.
    """
    tree, problems = read(question)
    plan, more = check(tree, site.dataset, site.clock)
    if problems or more:
        raise QuestionError(question, [*problems, *more])
    return run(plan, site.dataset, site.clock, question, page)
