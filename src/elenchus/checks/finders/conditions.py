"""Checks of what a listing asks: conditions that never matter or are never met, orders without direction."""

from __future__ import annotations

import re
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np

from elenchus.asking.query import Query, resolved
from elenchus.errors import Problem, QuestionError, Replacement, in_file
from elenchus.frozen import replace
from elenchus.plan.conflicts import Range, ranges_of
from elenchus.plan.nodes import AllOf, AnyOf, Negation, TermValue, Test
from elenchus.plan.walking import parts
from elenchus.plan.words import condition_words
from elenchus.schema.types import Type
from elenchus.site.keys import SITE_FILE
from elenchus.site.toml import open_toml
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.pages.survey import Survey
    from elenchus.plan.nodes import Condition, Plan
    from elenchus.site.inheritance import Listing

__all__ = ["find"]

_PARAMETER = re.compile(r":[^\W\d]")
_BARE = ("date", "updated", "expires")
_BEYOND = "\U0010ffff"  # after every slug: paths compare step by step, so that a subtree is one range


def find(survey: Survey) -> Iterator[Problem]:
    """Yield what is wrong with the questions of listings, sections and page sets, or odd about them."""
    yield from _named_conditions(survey)
    for listing in survey.listings:
        yield from survey.problems(listing)
        yield from _asked(survey, listing, survey.plan(listing))
    for listing, plan in survey.questions:
        yield from _asked(survey, listing, plan)


def _asked(survey: Survey, listing: Listing, plan: Plan | None) -> Iterator[Problem]:
    """Yield what is odd about one question."""
    found = list(_bare_orders(listing))
    if plan:
        found += (*plan.notices, *_idle(plan.condition), *_cuts(listing, plan))
        today = (*_never_met(survey, plan), *_inner_terms(survey, plan))
        found += (problem for problem in today if not _is_given(listing, problem))
    yield from (listing.located(problem) for problem in found)


def _named_conditions(survey: Survey) -> Iterator[Problem]:
    """Yield what is wrong with the conditions to which the site gives names, used or not."""
    conditions = survey.site.definition.schema.conditions
    if not conditions:
        return
    file = open_toml(survey.site.definition.folder / SITE_FILE, SITE_FILE)
    for name in conditions:
        try:
            _ = Query(survey.site, resolved(survey.site, f"where {name}")).plan
        except QuestionError as error:
            for problem in (in_file(error.text, each) for each in error.problems):
                yield replace(problem, span=None, place=file.place(("conditions", name)))


def _is_given(listing: Listing, problem: Problem) -> bool:
    """Say whether a condition depends on a parameter: with another value it is another one."""
    span = problem.span
    return bool(span and _PARAMETER.search(listing.text[span.start : span.end]))


def _bare_orders(listing: Listing) -> Iterator[Problem]:
    """Yield orders by a date that do not say which way."""
    for key in listing.question.order.keys if listing.question.order else ():
        written = listing.text[key.span.start : key.span.end]
        if (
            key.path
            and key.path.names[-1] in _BARE
            and not re.search(r"\b(asc|desc)\b", written, re.IGNORECASE)
        ):
            name = ".".join(key.path.names)
            message = f"“order by {name}” has the oldest first"
            newest = "newest" if name == "date" else f"{name} desc"
            hint = f"Write {newest}, or {name} asc to say that it is meant."
            cure = Replacement(key.span, f"{written} asc")  # which it is
            yield Problem("bare-date-order", message, hint, span=key.span, cure=cure)


def _cuts(listing: Listing, plan: Plan) -> Iterator[Problem]:
    """Yield clauses that cut nothing off."""
    clause = listing.question.per_page
    if (
        clause
        and plan.limit is not None
        and plan.per_page
        and plan.limit <= plan.per_page
        and not plan.groups
    ):
        message = f"“per page {plan.per_page}” never makes a second page: the limit is {plan.limit}"
        yield Problem("idle-setting", message, "Leave one of the two out.", span=clause.span)


def _idle(condition: Condition | None) -> Iterator[Problem]:
    """Yield conditions that never matter, because another one beside them says as much or more."""
    match condition:
        case AllOf() | AnyOf():
            joined = "and" if isinstance(condition, AllOf) else "or"
            for one, other in combinations(condition.parts, 2):
                yield from _idle_pair(one, other, joined)
            for part in condition.parts:
                yield from _idle(part)
        case Negation():
            yield from _idle(condition.part)
        case _:
            return


def _idle_pair(one: Condition, other: Condition, joined: str) -> Iterator[Problem]:
    """Yield the one of two conditions that never matters beside the other."""
    if not (isinstance(one, Test) and isinstance(other, Test)) or one.field != other.field:
        return
    if one == other:
        message = f"“{condition_words(one)}” is asked twice"
        yield Problem("idle-condition", message, "Keep one of them.", span=other.span)
        return
    first, second = _reach(one), _reach(other)
    if first is None or second is None:
        return
    wide = joined == "and"
    for mine, its, test, beside in ((first, second, one, other), (second, first, other, one)):
        if (_inside(its, mine) if wide else _inside(mine, its)) and not (
            _inside(mine, its) and _inside(its, mine)
        ):
            why = "which asks for more" if wide else "which lets more in"
            message = f"“{condition_words(test)}” never matters beside “{condition_words(beside)}”, {why}"
            yield Problem("idle-condition", message, "Leave it out.", span=test.span)


def _reach(test: Test) -> list[Range] | None:
    """Return the ranges of values that meet a comparison; None where it is not about ranges."""
    if test.negated:
        return None
    if test.operator in ("under", "below") and all(isinstance(value, TermValue) for value in test.values):
        after = int(test.operator == "below")  # the term itself is not below itself
        return [
            ((1, value.path, after), (1, (*value.path, _BEYOND), 0))
            for value in test.values
            if isinstance(value, TermValue)
        ]
    return ranges_of(test)


def _inside(inner: Sequence[Range], outer: Sequence[Range]) -> bool:
    """Say whether each range lies within one of some others."""
    return all(any(low <= one[0] and one[1] <= high for low, high in outer) for one in inner)


def _never_met(survey: Survey, plan: Plan) -> Iterator[Problem]:
    """Yield the conditions that no row meets, whatever the others say."""
    stages = survey.site.engine.select(plan)
    asked = int(stages.asked.sum())
    for part in parts(plan.condition):
        if asked and not np.any(stages.asked & stages.selection.rows(part)):
            words = "the one row" if asked == 1 else f"the {asked} rows"
            message = f"none of {words} asked meets “{condition_words(part)}”"
            span = part.span if hasattr(part, "span") else None
            yield Problem("never-met", message, "elenchus why shows what each condition leaves.", span=span)


def _inner_terms(survey: Survey, plan: Plan) -> Iterator[Problem]:
    """Yield comparisons with a term that has others below it, where those would add rows."""
    stages = survey.site.engine.select(plan)
    for part in parts(plan.condition):
        if not (isinstance(part, Test) and part.operator in ("=", "in") and not part.negated):
            continue
        if part.field.type.type is not Type.TERM or not part.field.type.tree:
            continue
        terms = survey.site.dataset.taxonomies[part.field.type.taxonomy]
        inner = [
            value for value in part.values if isinstance(value, TermValue) and terms.has_below(value.path)
        ]
        if not inner:
            continue
        below = Test(part.field, "under", part.values, span=part.span)
        more = int((stages.asked & stages.selection.rows(below) & ~stages.selection.rows(part)).sum())
        if more:
            names = either(value.shown for value in inner)
            message = f"{part.field.name} = {names} leaves {more} more out that have a term below it"
            hint = f"Write {part.field.name} under {names} if they are meant."
            yield Problem("only-the-term", message, hint, span=part.span)
