"""The sections of a page: who chooses first, what each leaves out, what it shows."""

from __future__ import annotations

from functools import partial
from itertools import chain, islice
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.asking.here import HERE, names_of_here
from elenchus.asking.query import Query
from elenchus.asking.together import answered_together
from elenchus.errors import About, ElenchusError, Problem
from elenchus.frozen import Frozen, replace
from elenchus.pages.book import section_listing
from elenchus.pages.section import Section

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Mapping, Sequence

    from elenchus.pages.book import Book, Page
    from elenchus.plan.answer import Answer
    from elenchus.site.inheritance import Listing
    from elenchus.site.pages import SectionRule

    _Values = Mapping[str, Sequence[str]]

_AHEAD = 256  # pages of a set that are asked for together

__all__ = [
    "Placed",
    "free_parameters",
    "given_to",
    "placed",
    "without_repeats",
]


class Placed(Frozen):
    """A page with its sections, in the order in which they are written, and what is wrong on it."""

    page: Page
    sections: tuple[Section, ...]
    problems: tuple[Problem, ...] = ()

    @property
    def paged(self) -> Section | None:
        """The section whose pages are those of the page."""
        return next((each for each in self.sections if each.has_pages and not each.rule.pages_at), None)

    @property
    def pages(self) -> int:
        """The number of pages that the page goes on for."""
        section = self.paged
        return section.answer.pages if section and section.answer else 1

    @property
    def ids(self) -> list[str]:
        """The entries that stand on the first page, each once."""
        of_entries = (each for each in self.sections if each.answer and each.answer.subject.is_entries)
        return list(dict.fromkeys(name for each in of_entries for name in each.ids))


def placed(book: Book, page: Page, *, repeats: bool | None = None, visitor: _Values | None = None) -> Placed:
    """Return a page with its sections.

    Sections choose one after the other, those with a priority first. Where the page says
    ``no_repeats``, a section leaves out what those before it show on their first page, before its own
    offset and limit, so that it is refilled. ``repeats`` says otherwise than the page does. ``visitor``
    has values for the parameters that a listing declares and its section does not bind.
    """
    no_repeats = page.rule.no_repeats if repeats is None else not repeats
    shown: dict[str, int] = {}  # id of a row → number of the section that shows it
    found: list[Section] = []
    for turn in _turns_of(page):
        section = _chosen(book, page, turn, shown, visitor, no_repeats=no_repeats)
        found.append(section)
        if no_repeats:
            shown.update(_shown_by(section, shown))
    if len(found) > 1:
        found.sort(key=lambda section: section.number)
    sections = tuple(found)
    return Placed(page, sections, tuple(_page_problems(page, sections)))


def without_repeats(book: Book, page: Page) -> Placed:
    """Return a page as it would be if its sections never left anything out."""
    return placed(book, page, repeats=True)


def _turns_of(page: Page) -> list[_Turn]:
    """Return the sections of a page in the order in which they choose."""
    rules = list(enumerate(page.rule.sections))
    if len(rules) > 1:
        rules.sort(key=lambda pair: (pair[1].priority is None, pair[1].priority or 0, pair[0]))
    return [_Turn(number, turn, rule) for turn, (number, rule) in enumerate(rules)]


def _shown_by(section: Section, before: Mapping[str, int]) -> dict[str, int]:
    """Return the rows that a section adds to those that a page shows, each with its number."""
    if not section.takes_part:
        return {}
    return {name: section.number for name in section.ids if name not in before}


def _shown_above(book: Book, page: Page, turns: Sequence[_Turn]) -> dict[str, int]:
    """Return what some sections show that choose first on a page, each row with the number of its section."""
    if not turns:
        return {}

    def made() -> dict[str, int]:
        before = _shown_above(book, page, turns[:-1])
        section = _chosen(book, page, turns[-1], before, None, no_repeats=True)
        return before | _shown_by(section, before)

    return book.above.get((page.rule.name, page.place, len(turns)), made)


class _Turn(NamedTuple):
    """A section that is to choose: its number as it is written, its turn, and what its page says of it."""

    number: int
    turn: int
    rule: SectionRule

    def key(self, query: Query, shown: Mapping[str, int]) -> tuple[Any, ...]:
        """Return what its rows depend on. Who keeps a section by that keeps the rule, too."""
        return self.number, self.turn, id(self.rule), query.given_to_it, tuple(shown.items())


def _chosen(
    book: Book,
    page: Page,
    turn: _Turn,
    shown: Mapping[str, int],
    visitor: _Values | None,
    *,
    no_repeats: bool,
) -> Section:
    """Return a section with the rows that it shows; ``shown`` are those that it must not.

    Pages that give it the same values share it. ``no_repeats`` says that ``shown`` are those above it.
    """
    rule = turn.rule
    try:
        listing = section_listing(book.site, rule)
        own = visitor or {}
        if own:
            free = free_parameters(listing, rule)
            own = {name: texts for name, texts in own.items() if name in free}
        given = given_to(page, rule, own, names_of_here(book.site, listing))
        query = Query(book.site, listing, given, without=tuple(shown))
        key = turn.key(query, shown)
        if book.in_bulk and page.rule.each and not own and key not in book.tried:
            _ask_ahead(book, page, turn, listing, no_repeats=no_repeats)
        return book.sections.get(key, lambda: _section(query, turn, query.answer(), shown))
    except ElenchusError as error:
        problems = tuple(_at_section(rule, each) for each in error.problems)
        return Section(turn.number, turn.turn, rule, problems=problems)


def _ask_ahead(book: Book, page: Page, turn: _Turn, listing: Listing, *, no_repeats: bool) -> None:
    """Ask for a section of a page and of those behind it in its set, all together where that can be.

    Pages that nobody will ask for are left out. With ``no_repeats`` each leaves out what its page shows
    before.
    """
    names, queries = names_of_here(book.site, listing), dict[tuple[Any, ...], tuple[Query, dict[str, int]]]()
    before = _turns_of(page)[: turn.turn] if no_repeats else []
    behind = book.of(page.rule.name).pages[page.place + 1 :]
    wanted = (each for each in behind if book.only is None or each.path in book.only)
    for each in islice(chain([page], wanted), _AHEAD):
        shown = _shown_above(book, each, before)
        query = Query(book.site, listing, given_to(each, turn.rule, None, names), without=tuple(shown))
        if (key := turn.key(query, shown)) not in book.tried:
            queries.setdefault(key, (query, shown))
    book.tried.update(queries)
    together = [query for query, _ in queries.values()]
    answers = answered_together(together) if len(together) > 1 else []
    for (key, (query, shown)), answer in zip(queries.items(), answers, strict=False):
        if answer:
            book.sections.get(key, partial(_section, query, turn, answer, shown))


def _section(query: Query, turn: _Turn, answer: Answer, shown: Mapping[str, int]) -> Section:
    """Return a section with its answer; ``shown`` is what other sections show."""
    number, place, rule = turn
    takes_part = query.plan.takes_part and not answer.choices
    return Section(number, place, rule, query, answer, takes_part, tuple(shown.items()))


def free_parameters(listing: Listing, rule: SectionRule) -> list[str]:
    """Return the parameters that a listing declares and its section leaves to the visitor."""
    return [name for name in listing.parameters if name in listing.parameter_names and name not in rule.given]


def _at_section(rule: SectionRule, problem: Problem) -> Problem:
    """Return a problem of a listing at its own place, or at the section where that gives it wrong values."""
    # One that a section gives has no place in any question; one that a question gives to a listing has.
    is_given = problem.about is About.PARAMETER and problem.span is None
    by_section = is_given or problem.about in (About.ABSENCE, About.CHOICE)
    place = rule.place if by_section else problem.place or rule.place
    return replace(problem, place=place, span=None)


def given_to(
    page: Page,
    rule: SectionRule,
    visitor: _Values | None = None,
    names: Collection[str] | None = None,
) -> dict[str, Sequence[str]]:
    """Return what a section is given: what the visitor chose, the row of its page, its bound values.

    ``names`` are those that its question asks of the row, so that no others are looked up.
    """
    given = page.here.given() if page.here else {}
    found: dict[str, Sequence[str]] = dict(visitor or {})
    found |= {name: given[name] for name in (given if names is None else names) if name in given}
    for name, texts in rule.given.items():
        values: list[str] = []
        for text in texts:
            wanted = text[1:].rstrip("?")
            if text.startswith(":") and wanted.split(".")[0] == HERE:
                values += given.get(wanted, ())
            else:
                values.append(text)
        found[name] = values
    return found


def _page_problems(page: Page, sections: Sequence[Section]) -> Iterable[Problem]:
    """Yield what is wrong with the sections of a page together."""
    for section in sections:
        yield from section.problems
    paged = [each for each in sections if each.has_pages and not each.rule.pages_at]
    for section in paged[1:]:
        message = f"{section.label} has pages of its own, and so has {paged[0].label}"
        hint = 'Give one of them pages_at = "…/", or a limit in place of per page.'
        yield Problem("two-paged-sections", message, hint, place=section.rule.place)
    for section in sections:
        if section.plan and section.plan.unpublished and not page.rule.private:
            message = (
                f"{section.label} shows unpublished rows on the page {page.rule.name}, which is not private"
            )
            hint = "Take “including unpublished” away, or write private = true for the page."
            yield Problem("unpublished-on-page", message, hint, place=section.rule.place)
