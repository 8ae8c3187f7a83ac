"""One question from text to answer: parsed, checked against a site, run."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.engine.run import run
from elenchus.errors import QuestionError
from elenchus.language.parameters import bind
from elenchus.language.parser import read
from elenchus.plan.check import check

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.engine.answer import Answer
    from elenchus.plan.nodes import Plan
    from elenchus.site.site import Site

__all__ = ["ask", "plan_of"]


def ask(
    site: Site, question: str, *, page: int | str = 1, given: Mapping[str, str | Sequence[str]] | None = None
) -> Answer:
    """Return one page of the answer to a question about a site.

    ``given`` holds the values of the question's parameters, a text or several for each name.
    Raises QuestionError with every problem of form and meaning at once, NoSuchPage for a page outside
    1 … pages, SiteError when the content cannot be read.
    """
    return run(plan_of(site, question, given), site.dataset, site.clock, question, page)


def plan_of(site: Site, question: str, given: Mapping[str, str | Sequence[str]] | None = None) -> Plan:
    """Return the checked plan of a question. Raises QuestionError."""
    tree, problems = read(question)
    texts = {name: [value] if isinstance(value, str) else value for name, value in (given or {}).items()}
    tree, unbound = bind(tree, texts)
    plan, wrong = check(tree, site.dataset, site.clock, salt=site.definition.seed)
    if problems or unbound or wrong:
        raise QuestionError(question, [*problems, *unbound, *wrong])
    return plan
