"""Checks of listings: settings without effect, choices, expectations, listings that stand nowhere."""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING

from elenchus.asking.names import row_named
from elenchus.asking.query import Query, resolved
from elenchus.errors import About, ElenchusError, Problem
from elenchus.frozen import replace
from elenchus.language.nodes import Argument, Literal
from elenchus.language.printer import print_arguments
from elenchus.language.tree import rows_named_in
from elenchus.values.texts import either, fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.pages.survey import Survey
    from elenchus.site.inheritance import Listing
    from elenchus.site.listings import Expectation, ParameterRule

__all__ = ["find"]

_FEW = 4
_WITHOUT_EFFECT = (
    ("per_row", "layout", ("cards",), 'per_row means nothing without layout = "cards"'),
    ("empty_message", "if_empty", ("message",), 'empty_message means nothing without if_empty = "message"'),
)


def find(survey: Survey) -> Iterator[Problem]:
    """Yield what is wrong with the listings of a site beside their questions."""
    yield from survey.site.library.problems
    for listing in survey.listings:
        yield from listing.idle
        yield from _idle_settings(listing)
        yield from _titles_in_tables(listing)
        yield from _parameters(survey, listing)
        yield from _expectations(survey, listing)
    yield from _unplaced(survey)
    yield from _headings(survey)


def _idle_settings(listing: Listing) -> Iterator[Problem]:
    """Yield the listing's own settings that have no effect."""
    own = {key: origin for key, (_, origin) in listing.settings.items() if origin.name == listing.name}
    for key, needs, words, message in _WITHOUT_EFFECT:
        if key in own and listing.setting(needs) not in words:
            yield Problem("idle-setting", message, "Leave it out, or add the other.", place=own[key].place)
    for key, other in (("at_least", "fill_from"), ("fill_from", "at_least")):
        if key in own and other not in listing.settings:
            message = f"{key} means nothing without {other}"
            yield Problem("idle-setting", message, f"Add {other}, or leave it out.", place=own[key].place)
    if "summary_words" in own and "summary" not in (listing.setting("show") or ("summary",)):
        message = "summary_words means nothing where no summary is shown"
        yield Problem("idle-setting", message, "Add summary to show.", place=own["summary_words"].place)


def _titles_in_tables(listing: Listing) -> Iterator[Problem]:
    """Yield tables that show neither title nor name, so that no row leads to its page."""
    shown = listing.setting("show") or ("title",)
    if listing.setting("layout") == "table" and not {"title", "name"} & set(shown):
        origin = listing.settings["show"][1]
        if origin.name == listing.name:
            message = f"the table {listing.name} shows no title, so no row of it leads to its page"
            yield Problem("table-without-title", message, "Add title to show.", place=origin.place)


def _parameters(survey: Survey, listing: Listing) -> Iterator[Problem]:
    """Yield parameters that nothing asks for or nothing declares, and choices that fail or find nothing."""
    asked = listing.parameter_names
    for name, (rule, origin) in listing.parameters.items():
        if origin.name == listing.name and name not in asked:
            near = nearest(name, asked)
            hint, offered = f"Write :{name} in ask, or leave it out.", tuple(f":{each}" for each in near)
            message = f"the question does not ask for :{name}"
            yield Problem("idle-setting", message, hint, place=rule.place, near=offered)
        elif name in asked and survey.plan(listing):
            yield from _choices(survey, listing, rule)
    for name in asked:
        if name not in listing.parameters and name.split(".")[0] != "here":
            message = f":{name} is not declared, so nobody is told what it can be"
            hint = f"Add {name} = {{ type = … }} to [{listing.name}.parameters]."
            yield Problem("undeclared-parameter", message, hint, place=listing.asked_at)


def _choices(survey: Survey, listing: Listing, rule: ParameterRule) -> Iterator[Problem]:
    """Yield the choices of a parameter that cannot be asked, and those that find nothing."""
    given = {name: texts for name, texts in survey.sample(listing).items() if name != rule.name}
    query = Query(survey.site, listing, given)
    found = query.choices(rule).choices
    for each in found:
        if each.count is None:
            yield from _failing(query.given_also({rule.name: [each.value]}), rule, each.value)
    empty = [each.value for each in found if each.count == 0]
    if empty and rule.words:
        verb = "finds" if len(empty) == 1 else "find"
        message = f"of the choices of :{rule.name}, {either(empty[:_FEW])} {verb} nothing"
        hint = "Take such a choice away, unless it is to fill up."
        yield Problem("choice-without-entries", message, hint, place=rule.place)


def _failing(query: Query, rule: ParameterRule, word: str) -> Iterator[Problem]:
    """Yield why a choice cannot be asked."""
    try:
        _ = query.plan
    except ElenchusError as error:
        for problem in error.problems:
            message = f"with :{rule.name} = {word}: {problem.message}"
            yield replace(problem, message=message, span=None, place=rule.place)


def _expectations(survey: Survey, listing: Listing) -> Iterator[Problem]:
    """Yield the expectations of a listing that are not met."""
    for each in listing.expect:
        try:
            yield from _unmet(survey, listing, each)
        except ElenchusError as error:
            for problem in error.problems:
                yield replace(problem, message=f"in expect: {problem.message}", span=None, place=each.place)


def _unmet(survey: Survey, listing: Listing, expected: Expectation) -> Iterator[Problem]:
    """Yield what an expectation says that is not so."""
    site = survey.site
    given = {**survey.sample(listing), **expected.given}
    query = Query(site, listing, given)
    listed = query.ids()
    count = len(listed)
    what = f"{listing.name} has"
    if expected.ask:
        here = {name: texts for name, texts in given.items() if name.split(".")[0] == "here"}
        arguments = tuple(
            Argument(name, tuple(map(Literal, texts)))
            for name, texts in given.items()
            if name not in here and texts
        )
        inner = resolved(site, f"from {listing.name}{print_arguments(arguments)} where {expected.ask}")
        count = Query(site, inner, here).count()
        what = f"of {listing.name}, “{expected.ask}” is met by"
    for wanted, holds, words in (
        (expected.count, count == expected.count, "exactly"),
        (expected.at_least, count >= (expected.at_least or 0), "at least"),
        (expected.at_most, count <= (expected.at_most or 0), "at most"),
    ):
        if wanted is not None and not holds:
            entries = "1 entry" if count == 1 else f"{count} entries"
            message = f"{what} {entries}, and {words} {wanted} {'is' if wanted == 1 else 'are'} expected"
            hint = f"elenchus why {listing.name} tells how its rows come about."
            yield Problem("failed-expectation", message, hint, place=expected.place)
    for names, is_wanted in ((expected.includes, True), (expected.excludes, False)):
        for name in names:
            if (row_named(site.dataset, query.plan.subject, name) in listed) != is_wanted:
                verb = "lacks" if is_wanted else "lists"
                message = f"{listing.name} {verb} {name}, against what is expected"
                hint = f"elenchus why {listing.name} {name} tells why."
                yield Problem("failed-expectation", message, hint, place=expected.place)


def _unplaced(survey: Survey) -> Iterator[Problem]:
    """Yield the listings that no page and no other listing uses, unless the pages are not known."""
    if any(problem.about is About.FILE for problem in survey.site.pages.problems):
        return
    used = {section.listing for rule in survey.book.rules.values() for section in rule.sections}
    used |= {rule.within for rule in survey.book.rules.values()}
    used |= {rule.each.strip() for rule in survey.book.rules.values()}
    used |= {rule.based_on for rule in survey.site.library.rules.values()}
    used |= {listing.setting("fill_from") for listing in survey.listings}
    for listing in (*survey.listings, *(listing for listing, _ in survey.questions)):
        used.update(rows_named_in(listing.question))
    for listing in survey.listings:
        if listing.name not in used:
            message = f"the listing {listing.name} stands on no page, and no other listing uses it"
            yield Problem("unplaced-listing", message, "Place it, or take it away.", place=listing.place)


def _headings(survey: Survey) -> Iterator[Problem]:
    """Yield listings that have the same title as another one and ask something else."""
    by_title: dict[str, list[Listing]] = defaultdict(list)
    for listing in survey.listings:
        if "title" in listing.settings:
            by_title[fold(listing.title)].append(listing)
    for found in by_title.values():
        for other in found[1:]:
            if other.question != found[0].question:
                names = f"{other.name} and {found[0].name}"
                message = f"{names} have the title {quoted(other.title)} over different questions"
                place = (
                    other.settings["title"][1].place
                    if other.settings["title"][1].name == other.name
                    else other.place
                )
                yield Problem("same-title", message, "Give one of them a title of its own.", place=place)
