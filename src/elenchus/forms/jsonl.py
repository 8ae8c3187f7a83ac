"""The rows of an answer as JSON Lines: one object a line."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

from elenchus.forms._record import Form
from elenchus.forms.json import row_object
from elenchus.pieces.piece import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer

__all__ = ["FORM"]


def _write(answer: Answer, _frame: Frame) -> Iterator[Piece]:
    """Yield the rows of one page, each once; with groups, in the order in which they stand there."""
    for row in answer.rows:
        yield Piece(json.dumps(row_object(row), ensure_ascii=False) + "\n")


FORM = Form(name="jsonl", label="JSON Lines", media_type="application/jsonl", write=_write, ending=".jsonl")
