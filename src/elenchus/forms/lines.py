"""The ids of an answer's rows, one a line, for scripts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.forms._record import Form
from elenchus.pieces.piece import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer

__all__ = ["FORM"]


def _write(answer: Answer, _frame: Frame) -> Iterator[Piece]:
    """Yield the ids of one page."""
    for row in answer.rows:
        yield Piece(f"{row.id}\n")


FORM = Form(name="lines", label="Ids", media_type="text/plain", write=_write, ending=".txt")
