"""How many rows an answer has on all its pages, as one number for scripts."""

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
    """Yield the total after offset and limit."""
    yield Piece(f"{answer.total}\n")


FORM = Form(name="number", label="Number", media_type="text/plain", write=_write)
