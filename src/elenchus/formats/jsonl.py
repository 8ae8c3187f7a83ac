"""The rows of an answer as JSON Lines: one object a line."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from elenchus.formats.json import row_object
from elenchus.layout.pieces import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer

__all__ = ["write"]


def write(answer: Answer, _width: int | None) -> Iterator[Piece]:
    """Yield the rows of one page, each once; with groups, in the order in which they stand there."""
    for row in answer.rows:
        yield Piece(json.dumps(row_object(row), ensure_ascii=False) + "\n")
