"""The ids of an answer's rows, one a line, for scripts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.layout.pieces import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer

__all__ = ["write"]


def write(answer: Answer, _width: int | None) -> Iterator[Piece]:
    """Yield the ids of one page."""
    for row in answer.rows:
        yield Piece(f"{row.id}\n")
