"""What the package offers: a question or a listing asked, explained, and an entry judged by it."""

from __future__ import annotations

import time
from contextlib import contextmanager
from typing import TYPE_CHECKING

from elenchus.asking.query import Query, as_lists
from elenchus.asking.supposing import with_more
from elenchus.errors import About, Place, QuestionError
from elenchus.frozen import replace
from elenchus.plan.explanation import Spent

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.errors import Problem
    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Explanation, Verdict
    from elenchus.site.site import Site

    _Values = Mapping[str, str | Sequence[str]]

__all__ = ["ask", "timed", "why", "why_entry"]


def ask(  # noqa: PLR0913 - each is another part of what is asked
    site: Site,
    question: str,
    *,
    page: int | str = 1,
    given: _Values | None = None,
    changes: str = "",
    as_if: int = 0,
    show: Sequence[str] = (),
) -> Answer:
    """Return one page of the answer to a question about a site, or of a listing by its name.

    ``given`` holds the values of its parameters, a text or several for each name. ``changes`` are
    clauses that replace those of the question, as in a listing that is based on another. ``as_if``
    adds that many entries which match and are newer than all others. ``show`` are the fields that its rows
    have in place of those that it would show.
    Raises QuestionError with every problem of form and meaning at once, NoSuchName for a listing that
    there is not, NoSuchPage for a page outside 1 … pages, SiteError when the content cannot be read.
    """
    with _as_given(given):
        query = Query.of(site, question, as_lists(given or {}), changes)
        if show:
            query = query.showing(show)
        return (with_more(query, as_if) if as_if else query).answer(page)


def why(site: Site, question: str, *, given: _Values | None = None, changes: str = "") -> Explanation:
    """Return why the answer to a question or a listing is as it is: what each step leaves and removes.

    Raises QuestionError, NoSuchName, SiteError.
    """
    with _as_given(given):
        return Query.of(site, question, as_lists(given or {}), changes).explanation()


def timed(
    site: Site, question: str, *, page: int | str = 1, given: _Values | None = None, changes: str = ""
) -> list[Spent]:
    """Return the way to a page of an answer: each step with the rows that it leaves and its time.

    Raises QuestionError, NoSuchName, NoSuchPage, SiteError.
    """
    with _as_given(given):
        _ = Query.of(
            site, question, as_lists(given or {}), changes
        ).plan  # what the site needs is made by that
        site.plans.results.clear()
        started = time.perf_counter()
        query = Query.of(site, question, as_lists(given or {}), changes)
        plan = query.plan
        read = Spent("the text read and checked", 0, (time.perf_counter() - started) * 1e6)
        return [read, *site.executor.timed(plan, page)]


def why_entry(
    site: Site, question: str, name: str, *, given: _Values | None = None, changes: str = ""
) -> Verdict:
    """Return what becomes of one entry (or term, where the rows are terms) in the answer to a question.

    ``name`` is an id, a slug or kind/slug. Raises NoSuchName, QuestionError, SiteError.
    """
    with _as_given(given):
        return Query.of(site, question, as_lists(given or {}), changes).verdict(name)


@contextmanager
def _as_given(given: _Values | None) -> Iterator[None]:
    """Let problems of values that somebody gives stand at those values, in what is raised meanwhile."""
    try:
        yield
    except QuestionError as error:
        raise QuestionError(error.text, [_at_value(each, given or {}) for each in error.problems]) from None


def _at_value(problem: Problem, given: _Values) -> Problem:
    """Return a problem of a value that was given for a parameter as one of that value.

    It stands where the parameter does, and nothing is wrong there.
    """
    if problem.about is About.VALUE and problem.parameter in given:
        return replace(problem, span=None, place=Place(f"--with {problem.parameter}"))
    return problem
