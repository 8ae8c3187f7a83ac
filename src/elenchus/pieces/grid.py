"""Cells in aligned columns, fitted to a width."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import Frozen
from elenchus.pieces.piece import Piece, Role, clipped, printable, width_of

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

__all__ = ["Heading", "grid"]

_GAP = "  "
_NARROWEST = 8


class Heading(Frozen):
    """A column: its name, the role of its cells, on which side they stand, whether they may be cut."""

    name: str
    role: Role = Role.PLAIN
    right: bool = False
    flexible: bool = False


def grid(headings: Sequence[Heading], rows: Sequence[Sequence[str]], width: int | None) -> list[list[Piece]]:
    """Return a line of headings and a line for each row; an empty cell shows as a dash.

    With a width, flexible columns are cut, the widest first, until the lines fit or nothing more can go.
    """
    cells = [[printable(cell) or "–" for cell in row] for row in rows]
    widths = [
        max([width_of(heading.name), *(width_of(row[at]) for row in cells)])
        for at, heading in enumerate(headings)
    ]
    if width is not None:
        _fit(headings, widths, width)
    names = [heading.name for heading in headings]
    lines = [_line(names, headings, widths, heading=True)]
    lines += [_line(row, headings, widths, heading=False) for row in cells]
    return [list(found) for found in lines]


def _fit(headings: Sequence[Heading], widths: list[int], width: int) -> None:
    """Narrow the flexible columns until a line fits into so many columns of the terminal."""
    flexible = [at for at, heading in enumerate(headings) if heading.flexible]
    over = sum(widths) + len(_GAP) * (len(widths) - 1) - width
    while over > 0 and flexible:
        widest = max(flexible, key=lambda at: widths[at])
        if widths[widest] <= _NARROWEST:
            return
        widths[widest] -= 1
        over -= 1


def _line(
    cells: Sequence[str], headings: Sequence[Heading], widths: Sequence[int], *, heading: bool
) -> Iterator[Piece]:
    """Yield the cells of one line with the gaps between them, without blanks at its end."""
    for at, (cell, column) in enumerate(zip(cells, headings, strict=True)):
        text = clipped(cell, widths[at])
        blank = " " * (widths[at] - width_of(text))
        role = Role.FAINT if heading or cell == "–" else column.role
        last = at == len(headings) - 1
        if column.right:
            yield Piece(blank)
        yield Piece(text, role)
        if not column.right and not last:
            yield Piece(blank)
        if not last:
            yield Piece(_GAP)
    yield Piece("\n")
