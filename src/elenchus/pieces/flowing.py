"""Running text broken between words, each piece keeping its role."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.pieces.piece import Piece, width_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

__all__ = ["flowing"]


def flowing(pieces: Iterable[Piece], width: int | None, indent: int) -> Iterator[Piece]:
    """Yield pieces as one paragraph that ends its lines within a width; lines after the first are indented.

    Without a width everything stands on one line. A word longer than a line is left whole.
    """
    column, is_fresh = 0, False  # fresh: nothing stands on the line but its indent
    for text, role in pieces:
        for word in re.findall(r"\s+|\S+", text):
            if (
                width is not None
                and not word.isspace()
                and column > indent
                and column + width_of(word) > width
            ):
                yield Piece("\n" + " " * indent)
                column, is_fresh = indent, True
            elif word.isspace() and is_fresh:
                continue
            yield Piece(word, role)
            column += width_of(word)
            is_fresh = False
    yield Piece("\n")
