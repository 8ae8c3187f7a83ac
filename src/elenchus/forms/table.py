"""An answer as a table for people."""

from __future__ import annotations

from itertools import chain
from typing import TYPE_CHECKING

from elenchus.forms._measures import measure_texts, measured_lines
from elenchus.forms._record import Form
from elenchus.pieces.grid import Heading, grid
from elenchus.pieces.piece import Piece, Role, clipped, printable, width_of
from elenchus.pieces.problems import notice_lines
from elenchus.values.dates import to_minute
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer, Choices, Group

__all__ = ["FORM", "columns"]

_BAR = 24  # columns of the longest bar
_EIGHTHS = " ▏▎▍▌▋▊▉"
_INDENT = 2


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield the rows with the fields that the question names, then the counts and the notices."""
    if answer.choices is not None:
        yield from _choice_lines(answer.choices, frame.width)
    elif answer.groups is not None:
        yield from _group_lines(answer, frame.width)
    elif answer.rows:
        yield from chain.from_iterable(_row_lines(answer, frame.width))
    if answer.rows or answer.groups or answer.choices:
        yield Piece("\n")
    if answer.measures and answer.groups is None:
        yield from _measure_lines(answer)
    if not answer.choices:
        yield from _summary(answer, frame.place)
    yield from notice_lines(answer.notices)


def _row_lines(answer: Answer, width: int | None) -> list[list[Piece]]:
    """Return the line of headings and the lines of the rows."""
    names = columns(answer)
    rows = [[spoken(row.values[name]) for name in names] for row in answer.rows]
    return grid([_heading(answer, name) for name in names], rows, width)


def _choice_lines(choices: Choices, width: int | None) -> Iterator[Piece]:
    """Yield the choices of a parameter with the number of rows that each would leave."""
    yield Piece(f"{printable(choices.label)}: choose with --with {choices.parameter}=…\n\n", Role.STRONG)
    headings = [Heading("value", Role.NAME), Heading("name", flexible=True), Heading("rows", right=True)]
    rows = [
        (each.value, "  " * each.depth + each.label, "" if each.count is None else str(each.count))
        for each in choices.choices
    ]
    yield from chain.from_iterable(grid(headings, rows, width))


def _measure_lines(answer: Answer) -> Iterator[Piece]:
    """Yield each measure of all rows on a line."""
    room = max(width_of(printable(each.label)) for each in answer.measures)
    values = measure_texts(answer, [each.value for each in answer.measures])
    for each, text in zip(answer.measures, values, strict=True):
        label = printable(each.label)
        yield Piece(f"{label}{' ' * (room - width_of(label))}  ")
        yield Piece(f"{text}\n", Role.STRONG)
    yield Piece("\n")


def _measured_groups(answer: Answer, width: int | None) -> list[list[Piece]]:
    """Return a line of headings, one for each group with its count and its measures, and one for all rows."""
    numeric = [isinstance(each.value, int | float) for each in answer.measures]
    headings = [
        Heading(", ".join(answer.grouped_by), Role.HEADING, flexible=True),
        Heading("rows", right=True),
    ]
    headings += [
        Heading(each.label, right=is_number, flexible=not is_number)
        for each, is_number in zip(answer.measures, numeric, strict=True)
    ]
    lines = measured_lines(answer)
    rows = [(label, str(count), *measure_texts(answer, values)) for label, count, values in lines]
    return grid(headings, rows, width)


def _group_lines(answer: Answer, width: int | None) -> Iterator[Piece]:
    """Yield each group with its count as a bar, or with its measures, and its rows below it."""
    groups = answer.groups or ()
    if answer.measures and not any(group.rows for group in groups):
        yield from chain.from_iterable(_measured_groups(answer, width))
        return
    inner = None if width is None else width - _INDENT
    lines = {row.id: line for row, line in zip(answer.rows, _row_lines(answer, inner)[1:], strict=True)}
    labels = [printable(group.label) for group in groups]
    room = max(map(width_of, labels), default=0)
    room = room if width is None else min(room, max(width - _BAR - 12, 12))
    most = max((group.count for group in groups), default=0)
    for number, (group, label) in enumerate(zip(groups, labels, strict=True)):
        if number and any(each.rows for each in groups):
            yield Piece("\n")
        yield from _group_heading(group, clipped(label, room), room, most)
        for each, text in zip(answer.measures, measure_texts(answer, group.measures), strict=True):
            yield Piece(f"{' ' * _INDENT}{printable(each.label)} {text}\n", Role.NOTICE)
        for row in group.rows:
            yield Piece(" " * _INDENT)
            yield from lines[row]


def _group_heading(group: Group, label: str, room: int, most: int) -> Iterator[Piece]:
    """Yield the label of a group, its count, a bar, and how much of it is to be seen."""
    yield Piece(label, Role.HEADING if group.keys[-1] is not None else Role.NOTICE)
    yield Piece(f"{' ' * (room - width_of(label))}  {group.count:>{len(str(most))}}")
    if group.count:
        yield Piece(f"  {_bar(group.count, most)}", Role.NAME)
    if 0 < len(group.rows) < group.count:
        yield Piece(f"  {len(group.rows)} shown", Role.FAINT)
    yield Piece("\n")


def _bar(count: int, most: int) -> str:
    """Return a bar in proportion to the largest count, to an eighth of a column."""
    eighths = round(count * _BAR * 8 / most) if most else 0
    return ("█" * (eighths // 8) + _EIGHTHS[eighths % 8]).rstrip()


def columns(answer: Answer) -> list[str]:
    """Return the names of the columns: those that a listing shows, or id, title and what is asked about.

    The kind is among them where ids do not tell it.
    """
    if answer.columns:
        return list(dict.fromkeys(("id", *answer.columns)))
    if answer.subject.is_terms:
        return list(dict.fromkeys(("id", "name", "own", "with_below", *answer.mentioned)))
    kinds = {row["kind"] for row in answer.rows}
    untold = len(kinds) > 1 and not all(row.id.startswith(f"{row['kind']}/") for row in answer.rows)
    first = ("id", "kind", "title", "date") if untold else ("id", "title", "date")
    return list(dict.fromkeys((*first, *answer.mentioned)))


def _heading(answer: Answer, name: str) -> Heading:
    """Return the heading of a column."""
    numeric = any(isinstance(row.values[name], (int, float)) for row in answer.rows)
    numeric = numeric and not any(isinstance(row.values[name], bool) for row in answer.rows)
    role = {"id": Role.NAME, "title": Role.STRONG, "name": Role.STRONG}.get(name, Role.PLAIN)
    return Heading(name, role, right=numeric, flexible=not numeric and name != "date")


def _summary(answer: Answer, place: str) -> Iterator[Piece]:
    """Yield one line of counts, the time at which they hold, and the tables that gave them."""
    noun = answer.subject.counted(answer.matched)
    own, more = answer.own_and_more(answer.total)
    words = f"{own} {noun}" if own == answer.matched else f"{own} of {answer.matched} {noun}"
    parts = [f"{words} and {more} more" if more else words]
    if answer.groups is not None:
        parts.append(_placed(answer))
    if answer.pages > 1:
        parts.append(f"page {answer.page} of {answer.pages}")
    parts.append(f"as of {to_minute(answer.at)} {answer.at.tzinfo}")
    parts += [f"asked of {place}"] if place else []
    yield Piece(" · ".join(parts) + "\n", Role.FAINT)


def _placed(answer: Answer) -> str:
    """Return how the counts of groups add up."""
    if not answer.overlap:
        return f"{answer.placements} in groups"
    return f"{answer.placements} in groups, {len(answer.overlap)} in more than one"


FORM = Form(name="table", label="Table", media_type="text/plain", write=_write, tells=True)
