"""Questions and listings from text to answer: parsed, checked against a site, run."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from elenchus.asking.choices import choices_of
from elenchus.asking.here import with_here
from elenchus.asking.names import row_of
from elenchus.asking.parameters import absent_choice, ground, settled
from elenchus.asking.supposing import with_more
from elenchus.engine.explain import explain
from elenchus.engine.run import run
from elenchus.engine.verdict import judge
from elenchus.errors import NoSuchName, Place, Problem, QuestionError
from elenchus.language.nodes import Parameter
from elenchus.language.parser import read, read_changes
from elenchus.language.tree import walk
from elenchus.language.words import is_keyword
from elenchus.plan.check import check
from elenchus.site.files import NAME
from elenchus.site.inheritance import Listing, changed_by
from elenchus.site.listings import ListingRule
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.engine.answer import Answer
    from elenchus.engine.explain import Explanation
    from elenchus.engine.verdict import Verdict
    from elenchus.plan.nodes import Plan
    from elenchus.site.site import Site

    Values = Mapping[str, str | Sequence[str]]

__all__ = ["ask", "listing_named", "plan_of", "resolved", "why", "why_entry"]

TRIED = Place("--try")
LONGEST_NAME = 100


def ask(
    site: Site,
    question: str,
    *,
    page: int | str = 1,
    given: Values | None = None,
    changes: str = "",
    as_if: int = 0,
) -> Answer:
    """Return one page of the answer to a question about a site, or of a listing by its name.

    ``given`` holds the values of its parameters, a text or several for each name. ``changes`` are
    clauses that replace those of the question, as in a listing that is based on another. ``as_if``
    adds that many entries which match and are newer than all others.
    Raises QuestionError with every problem of form and meaning at once, NoSuchName for a listing that
    there is not, NoSuchPage for a page outside 1 … pages, SiteError when the content cannot be read.
    """
    listing = resolved(site, question, changes)
    values = with_here(site, listing, several(given))
    if as_if:
        site = with_more(site, lambda each: plan_of(each, listing, values), as_if)
    plan = plan_for(site, listing, values)
    answer = run(plan, site.dataset, site.clock, listing.text, page)
    answer = replace(answer, formulas=site.definition.formulas)
    rule = absent_choice(listing, values)
    if rule is None:
        return answer
    return replace(answer, choices=choices_of(site, listing, rule, values))


def why(site: Site, question: str, *, given: Values | None = None, changes: str = "") -> Explanation:
    """Return why the answer to a question or a listing is as it is: what each step leaves and removes.

    Raises QuestionError, NoSuchName, SiteError.
    """
    listing = resolved(site, question, changes)
    return explain(
        plan_for(site, listing, with_here(site, listing, several(given))),
        site.dataset,
        site.clock,
        listing.text,
    )


def why_entry(
    site: Site, question: str, name: str, *, given: Values | None = None, changes: str = ""
) -> Verdict:
    """Return what becomes of one entry (or term, where the rows are terms) in the answer to a question.

    ``name`` is an id, a slug or kind/slug. Raises NoSuchName, QuestionError, SiteError.
    """
    listing = resolved(site, question, changes)
    plan = plan_for(site, listing, with_here(site, listing, several(given)))
    return judge(plan, site.dataset, site.clock, row_of(site.dataset, plan.taxonomy, name))


def of_parameters(listing: Listing, problems: Sequence[Problem]) -> list[Problem]:
    """Return problems, those of values that stand for a parameter with its name."""
    names = {node.span: node.name for node in walk(listing.question) if isinstance(node, Parameter)}
    return [
        replace(each, parameter=names[each.span])
        if not each.parameter and each.code in OF_VALUES and each.span in names
        else each
        for each in problems
    ]


def at_value(problem: Problem, given: Mapping[str, Sequence[str]]) -> Problem:
    """Return a problem of a value that was given for a parameter as one of that value.

    It stands where the parameter does, and nothing is wrong there.
    """
    if problem.code in OF_VALUES and problem.parameter in given:
        return replace(problem, span=None, place=Place(f"--with {problem.parameter}"))
    return problem


# Codes of problems that a value by itself can have.
OF_VALUES = frozenset(
    {"unknown-term", "ambiguous-term", "unknown-entry", "ambiguous-entry", "unknown-choice", "bad-date",
     "not-a-number", "not-yes-or-no"}
)  # fmt: skip


def plan_for(site: Site, listing: Listing, given: Mapping[str, Sequence[str]]) -> Plan:
    """Return the plan of what somebody asks; a problem of a value that is given stands at that value."""
    try:
        return plan_of(site, listing, given)
    except QuestionError as error:
        raise QuestionError(error.text, [at_value(each, given) for each in error.problems]) from None


def several(given: Values | None) -> dict[str, Sequence[str]]:
    """Return given values as lists."""
    return {name: [value] if isinstance(value, str) else value for name, value in (given or {}).items()}


def resolved(
    site: Site, text: str, changes: str = "", *, comments: bool = False, place: Place = TRIED
) -> Listing:
    """Return the listing that a text names, or the question that it is, with changes from a place.

    ``comments`` lets the question have comments, as in files. Raises NoSuchName, and QuestionError where
    the changes cannot be read.
    """
    word = text.strip()
    is_name = len(word) <= LONGEST_NAME and bool(NAME.fullmatch(word))
    is_name = is_name and (not is_keyword(word) or word in site.library.names)
    found = listing_named(site, word) if is_name else written(text, comments=comments, place=place)
    if not changes:
        return found
    wrong = read_changes(changes)[1]
    if wrong:
        located = [replace(each, place=each.place or place) for each in wrong]
        raise QuestionError(changes, located if place != TRIED else wrong)
    rule = ListingRule(found.name, place, ask=changes, lines={"ask": place})
    return changed_by(found, rule)


def listing_named(site: Site, name: str) -> Listing:
    """Return a listing by its name. Raises NoSuchName."""
    if name in site.library.names:
        return site.library.get(name)
    near = nearest(name, site.library.names)
    known = f"Listings: {', '.join(site.library.names)}." if site.library.names else "The site has none."
    hint = f"Did you mean {either(near)}?" if near else f"{known} A question begins with from or where."
    raise NoSuchName([Problem("unknown-listing", f"there is no listing {quoted(name)}", hint)])


def written(text: str, *, comments: bool, place: Place) -> Listing:
    """Return a question without a name."""
    question, problems = read(text, comments=comments)
    return Listing("", place, text, question, problems=tuple(problems))


def plan_of(
    site: Site, listing: Listing, given: Mapping[str, Sequence[str]], *, show: Sequence[str] = ()
) -> Plan:
    """Return the checked plan of a listing, which also shows some fields. Raises QuestionError."""
    asked = settled(site, listing, given)
    asked = replace(asked, show=(*asked.show, *show))
    plan, problems = check(asked, ground(site))
    if problems:
        problems = of_parameters(listing, problems)
        has_place = listing.name or listing.place != TRIED
        located = [listing.located(problem) for problem in problems] if has_place else problems
        raise QuestionError(listing.text, located)
    return plan
