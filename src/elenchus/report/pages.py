"""Pages as text: all addresses, the sections of one page, the pages of a set."""

from __future__ import annotations

from itertools import chain
from typing import TYPE_CHECKING

from elenchus.pieces.flowing import flowing
from elenchus.pieces.grid import Heading, grid
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.pieces.problems import plain_problems

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.errors import Problem
    from elenchus.pages.overview import AddressLine, PageReport, SetLine
    from elenchus.pages.section import Section
    from elenchus.pages.sections import Placed
    from elenchus.plan.answer import Answer

__all__ = ["address_table", "page_sections", "set_table"]

_FEW = 6  # ids of a section, or of entries that stand nowhere
_MOST_UNPLACED = 12
_LETTERS = "abcdefghijklmnopqrstuvwxyz"


def address_table(
    lines: Sequence[AddressLine], problems: Sequence[Problem], width: int | None
) -> Iterator[Piece]:
    """Yield a line for each address, then what is wrong with them."""
    if not lines and not problems:
        yield Piece("The site has no pages; they are written in pages.toml.\n")
        return
    headings = [
        Heading("address", Role.NAME),
        Heading("title", flexible=True),
        Heading("entries", right=True),
        Heading("pages", right=True),
        Heading("page"),
        Heading("state", Role.NOTICE),
    ]
    cells = [
        (f"/{each.address}", each.title, str(each.entries), str(each.pages), each.page, each.state)
        for each in lines
    ]
    yield from chain.from_iterable(grid(headings, cells, width))
    files = sum(each.pages for each in lines)
    one = "1 address" if len(lines) == 1 else f"{len(lines)} addresses"
    yield Piece(f"\n{one}, {files} with their later pages\n", Role.FAINT)
    yield from _found_problems(problems)


def _found_problems(problems: Sequence[Problem]) -> Iterator[Piece]:
    """Yield the problems of pages."""
    if problems:
        yield Piece("\n")
        yield from plain_problems(problems)


def page_sections(report: PageReport, width: int | None) -> Iterator[Piece]:
    """Yield what each section of a page shows, how they overlap, and what stands in none."""
    page = report.placed.page
    yield Piece(printable(page.title), Role.HEADING)
    yield Piece(f"  /{page.address}", Role.NAME)
    rule = "nothing stands twice" if page.rule.no_repeats else "sections may repeat one another"
    yield Piece(f"  {rule}\n", Role.FAINT)
    before, after = report.around
    places = [f"before it /{before}"] * bool(before) + [f"after it /{after}"] * bool(after)
    if places:
        yield Piece(f"{' · '.join(places)}\n", Role.FAINT)
    for section in report.placed.sections:
        yield Piece("\n")
        yield from _section_lines(section, report.placed, report.groups[section.number])
    if sum(section.takes_part for section in report.placed.sections) > 1:
        yield from _overlap_lines(report, width)
    yield from _unplaced_lines(report, width)
    yield from _found_problems(report.placed.problems)


def _section_lines(section: Section, page: Placed, groups: Sequence[str]) -> Iterator[Piece]:
    """Yield one section: what it asks, what it shows, what it leaves out."""
    yield Piece(f"{_LETTERS[section.number % 26]}  ", Role.FAINT)
    yield Piece(printable(section.title or section.name), Role.STRONG)
    yield Piece(f"  {section.name if section.title else ''}", Role.NAME)
    turn = f"  chooses {_ordinal(section.turn)}" if section.turn != section.number else ""
    yield Piece(f"{turn}\n", Role.FAINT)
    if section.listing and section.answer:
        yield Piece(f"   {printable(section.listing.asks)}\n", Role.FAINT)
        yield from _answer_lines(section.answer, groups, rows=section.takes_part)
    for name, number in section.left_out[:_FEW]:
        yield Piece("   left out ", Role.FAINT)
        yield Piece(name, Role.NAME)
        yield Piece(f", which stands in {page.sections[number].name}\n", Role.FAINT)
    if len(section.left_out) > _FEW:
        yield Piece(f"   and {len(section.left_out) - _FEW} more left out\n", Role.FAINT)


def _answer_lines(answer: Answer, groups: Sequence[str], *, rows: bool) -> Iterator[Piece]:
    """Yield how much a section shows, its first groups or rows, and the notices of its answer."""
    yield Piece(f"   {_counts(answer)}\n")
    for words in groups[:_FEW]:
        yield Piece(f"     {printable(words)}\n")
    if len(groups) > _FEW:
        yield Piece(f"     and {len(groups) - _FEW} more\n", Role.FAINT)
    if rows and not groups:
        for row in answer.rows[:_FEW]:
            yield Piece("     ")
            yield Piece(row.id, Role.NAME)
            yield Piece(f"  {printable(str(row.values.get('title') or row.values.get('name') or ''))}\n")
        if len(answer.rows) > _FEW:
            yield Piece(f"     and {len(answer.rows) - _FEW} more\n", Role.FAINT)
    for notice in answer.notices:
        yield Piece("   note: ", Role.NOTICE)
        yield Piece(f"{printable(notice.message)}\n")


def _counts(answer: Answer) -> str:
    """Return how many rows an answer shows, and of how many."""
    if answer.groups is not None:
        words = "1 group" if len(answer.groups) == 1 else f"{len(answer.groups)} groups"
        return f"{answer.total} in {words}"
    own, more = answer.own_and_more(len(answer.rows))
    words = f"{own} of {answer.matched}" if own != answer.matched else str(own)
    words += f" and {more} more" if more else ""
    return f"shows {words}" + (f", {answer.pages} pages" if answer.pages > 1 else "")


def _ordinal(turn: int) -> str:
    """Return a place as an ordinal word."""
    words = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth")
    return words[turn] if turn < len(words) else f"as number {turn + 1}"


def _overlap_lines(report: PageReport, width: int | None) -> Iterator[Piece]:
    """Yield the matrix of rows that sections would share."""
    taking = [section for section in report.placed.sections if section.takes_part]
    yield Piece("\nWhat they would share if none left anything out\n", Role.STRONG)
    letters = [_LETTERS[section.number % 26] for section in taking]
    headings = [Heading("", Role.FAINT), *(Heading(letter, right=True) for letter in letters)]
    headings.append(Heading("section"))
    cells = []
    for section, letter in zip(taking, letters, strict=True):
        shared = [report.overlaps[section.number][other.number] for other in taking]
        row = [str(count or "·") for count in shared]
        cells.append((letter, *row, section.name))
    yield from chain.from_iterable(grid(headings, cells, width))


def _unplaced_lines(report: PageReport, width: int | None) -> Iterator[Piece]:
    """Yield the entries of the same kinds that stand in no section."""
    if not report.kinds:
        return
    kinds = ", ".join(report.kinds)
    if not report.unplaced:
        yield Piece(f"\nEvery public entry of {kinds} stands in a section.\n", Role.FAINT)
        return
    heading = Piece(f"{len(report.unplaced)} of {kinds} in no section", Role.STRONG)
    names = ", ".join(report.unplaced[:_MOST_UNPLACED])
    more = len(report.unplaced) - _MOST_UNPLACED
    yield Piece("\n")
    yield from flowing([heading, Piece(f": {names}{f' and {more} more' if more > 0 else ''}")], width, 3)


def set_table(lines: Sequence[SetLine], problems: Sequence[Problem], width: int | None) -> Iterator[Piece]:
    """Yield a line for each page of a set: its value, whether it is resolved, count, first entry."""
    names = list(dict.fromkeys(name for each in lines for name, _ in each.values if name != ":here"))
    headings = [
        Heading("address", Role.NAME),
        Heading("row"),
        *(Heading(name, flexible=True) for name in names),
        Heading("resolved"),
        Heading("entries", right=True),
        Heading("first", flexible=True),
        Heading("state", Role.NOTICE),
    ]
    cells = [
        (
            f"/{each.address}",
            each.row,
            *(dict(each.values).get(name, "") for name in names),
            "yes" if each.resolved else "no",
            str(each.entries),
            each.first,
            each.state,
        )
        for each in lines
    ]
    yield from chain.from_iterable(grid(headings, cells, width))
    empty = sum(each.state == "empty" for each in lines)
    words = "1 page" if len(lines) == 1 else f"{len(lines)} pages"
    yield Piece(f"\n{words}{f', {empty} of them empty' if empty else ''}\n", Role.FAINT)
    yield from _found_problems(problems)
