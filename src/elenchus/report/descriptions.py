"""Descriptions of a site as text."""

from __future__ import annotations

from itertools import chain
from typing import TYPE_CHECKING

from elenchus.pieces.grid import Heading, grid
from elenchus.pieces.piece import Piece, Role, printable

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from elenchus.engine.describing.describe import Block

__all__ = ["descriptions"]

_NUMBERS = ("entries", "public", "terms", "in use", "set", "missing", "not fitting", "with those below")


def descriptions(blocks: Iterable[Block], width: int | None) -> Iterator[Piece]:
    """Yield blocks below one another, each with its title, its facts and its table."""
    for number, block in enumerate(blocks):
        if number:
            yield Piece("\n")
        yield Piece(f"{printable(block.title)}\n", Role.HEADING)
        yield from _facts(block)
        if block.headings:
            headings = [_heading(name, at) for at, name in enumerate(block.headings)]
            yield from chain.from_iterable(grid(headings, block.rows, width))
        for text in block.write:
            yield Piece("write  ", Role.FAINT)
            yield Piece(f"{printable(text)}\n", Role.HINT)


def _facts(block: Block) -> Iterator[Piece]:
    """Yield pairs of a name and a text, aligned."""
    room = max((len(name) for name, _ in block.facts), default=0)
    for name, text in block.facts:
        yield Piece(f"{name:<{room}}  ", Role.FAINT)
        yield Piece(f"{printable(text)}\n")


def _heading(name: str, at: int) -> Heading:
    """Return the heading of a column."""
    return Heading(
        name, Role.NAME if at == 0 else Role.PLAIN, right=name in _NUMBERS, flexible=name not in _NUMBERS
    )
