"""What is to be reported of pages: their addresses, the sections of one, the pages of a set."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.asking.here import HERE
from elenchus.asking.query import Query
from elenchus.asking.supposing import with_more
from elenchus.errors import NoSuchName, Problem
from elenchus.frozen import Frozen
from elenchus.pages.book import Book, here_names, section_listing
from elenchus.pages.paths import unsafe
from elenchus.pages.sections import Placed, given_to, placed, without_repeats
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from elenchus.pages.book import Page
    from elenchus.pages.section import Section
    from elenchus.site.site import Site

__all__ = ["AddressLine", "PageReport", "SetLine", "addresses", "page_report", "pages_named", "set_lines"]


class AddressLine(Frozen):
    """One address: its page, title, how many entries stand there, on how many pages, and its state.

    ``entries`` are those of its group or of the section with pages of its own, else all on the page;
    where a page shows counts only, those that are counted.
    """

    page: str
    address: str
    title: str
    entries: int
    pages: int
    state: str


class PageReport(Frozen):
    """One page with its sections.

    ``overlaps`` holds for each section the number of rows that it would share with each other, were
    nothing left out. ``unplaced`` are the entries of the same kinds that stand in no section; of a page
    in a set they are not told. ``groups`` are for each section its groups with their counts, ``around``
    the addresses of the pages before and after this one in its set, empty at the ends.
    """

    placed: Placed
    freely: Placed
    overlaps: tuple[tuple[int, ...], ...]
    kinds: tuple[str, ...]
    unplaced: tuple[str, ...]
    groups: tuple[tuple[str, ...], ...]
    around: tuple[str, str] = ("", "")


class SetLine(Frozen):
    """One page of a set: its address, its row, the values that its sections take from it, what it shows."""

    address: str
    row: str
    values: tuple[tuple[str, str], ...]
    resolved: bool
    entries: int
    first: str
    state: str


def _entries_of(found: Placed) -> int:
    """Return how many entries a page has, on all its pages."""
    if found.page.count is not None:
        return found.page.count
    paged = found.paged
    if paged and paged.answer:
        return paged.answer.total
    counted = (each.answer.total for each in found.sections if each.answer and each.answer.groups is not None)
    return len(found.ids) or max(counted, default=0)


def _state_of(found: Placed) -> str:
    """Return what is to be said of a page: unsafe, a problem, private, empty, or nothing."""
    if unsafe(found.page.path):
        return "unsafe"
    if found.problems:
        return "problem"
    if found.page.rule.private:
        return "private"
    if found.sections and not any(
        each.answer and (each.ids or each.answer.groups) for each in found.sections
    ):
        return "empty"
    return ""


def addresses(
    book: Book, tick: Callable[[], None] = lambda: None
) -> tuple[list[AddressLine], dict[str, int]]:
    """Return all addresses of a site, and for how many pages each goes on; ``tick`` is called for each."""
    lines: list[AddressLine] = []
    pages_of: dict[str, int] = {}
    for page in book.pages:
        found = placed(book, page)
        pages_of[page.path] = found.pages
        state = _state_of(found)
        lines.append(
            AddressLine(page.rule.name, page.address, page.title, _entries_of(found), found.pages, state)
        )
        tick()
    return lines, pages_of


def pages_named(book: Book, name: str) -> list[Page]:
    """Return the pages that a name, a path or an address means. Raises NoSuchName."""
    found = book.find(name)
    if found or name in book.rules:
        return found
    near = nearest(name, book.rules) or nearest(name, [page.address for page in book.pages])
    hint = "elenchus pages alone lists all addresses."
    raise NoSuchName([Problem("unknown-page", f"there is no page {quoted(name)}", hint, near=near)])


def page_report(book: Book, page: Page, *, as_if: int = 0) -> PageReport:
    """Return one page with its sections; ``as_if`` adds entries that match its first section."""
    then = Book(_with_more_first(book.site, page, as_if)) if as_if else book
    site = then.site
    found, freely = placed(then, page), without_repeats(then, page)
    parts = [set(each.ids) if each.takes_part else set() for each in freely.sections]
    overlaps = tuple(tuple(len(one & other) for other in parts) for one in parts)
    kinds = [kind for each in found.sections if each.takes_part and each.plan for kind in each.plan.kinds]
    names = tuple(name for name in site.dataset.kind_names if name in kinds)
    alone = page.here is None
    rest = tuple(_unplaced(site, found, kinds)) if alone else ()
    groups = tuple(tuple(_group_words(book, each)) for each in found.sections)
    before, after = book.neighbours(page) if not alone else (None, None)
    around = (before.address if before else "", after.address if after else "")
    return PageReport(found, freely, overlaps, names if alone else (), rest, groups, around)


def _group_words(book: Book, section: Section) -> Iterable[str]:
    """Yield the groups of a section with their counts and the addresses of their pages."""
    answer = section.answer
    if answer is None:
        return
    for group in answer.groups or ():
        address = book.address_of_group(answer, group)
        yield f"{book.label(answer, group)} {group.count}" + (f" → /{address}" if address else "")


def _with_more_first(site: Site, page: Page, count: int) -> Site:
    """Return the site with more entries that match the first section of a page."""
    rule = page.rule.sections[0]
    query = Query(site, section_listing(site, rule), given_to(page, rule))
    return with_more(query, count).site


def _unplaced(site: Site, found: Placed, kinds: Iterable[str]) -> Iterable[str]:
    """Yield the public entries of some kinds that stand in no section, on whatever page."""
    shown = {*found.ids}
    for section in found.sections:
        if section.takes_part and section.query and section.has_pages:
            shown.update(section.query.ids())
    data, wanted = site.dataset, set(kinds)
    for row in np.flatnonzero(site.engine.view().visible).tolist():
        if data.kind_of(row) in wanted and data.entries.ids[row] not in shown:
            yield data.entries.ids[row]


def set_lines(book: Book, name: str, tick: Callable[[], None] = lambda: None) -> list[SetLine]:
    """Return a line for each page of a set."""
    found = []
    for page in book.of(name).pages:
        on_page = placed(book, page)
        values = tuple(_taken(book.site, page, on_page.sections))
        is_resolved = all(text for _, text in values) and not on_page.problems
        first = next((each.ids[0] for each in on_page.sections if each.ids), "")
        row = page.here.name if page.here else ""
        state = _state_of(on_page)
        found.append(SetLine(page.address, row, values, is_resolved, _entries_of(on_page), first, state))
        tick()
    return found


def _taken(site: Site, page: Page, sections: Iterable[Section]) -> Iterable[tuple[str, str]]:
    """Yield each value that the sections of a page take from its row, with what it is there."""
    given = page.here.given() if page.here else {}
    names = dict.fromkeys(name for section in sections for name in here_names(site, section.rule))
    for name in names:
        if name != HERE or len(names) == 1:
            yield f":{name}", ", ".join(given.get(name, ()))
