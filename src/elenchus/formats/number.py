"""How many rows an answer has on all its pages, as one number for scripts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.layout.pieces import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer

__all__ = ["write"]


def write(answer: Answer, _width: int | None) -> Iterator[Piece]:
    """Yield the total after offset and limit."""
    yield Piece(f"{answer.total}\n")
