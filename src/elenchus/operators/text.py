"""Comparisons of texts."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.operators.record import Example, Operands, Operator

if TYPE_CHECKING:
    from elenchus.table.schema import FieldType

__all__ = ["RECORDS"]


def text(field: FieldType) -> bool:
    """Say whether a field holds texts."""
    return field.type.is_text


RECORDS = (
    Operator(
        name="contains",
        operands=Operands.ONE,
        types="text",
        doc="The text has this in it, whatever the case; on a list: some element has.",
        examples=(Example('where title contains "seal"', "seal, Seals, SEAL"),),
        fits=text,
        rows=lambda column, values: column.texts_where(
            lambda texts: np.strings.find(texts, values[0].text) >= 0
        ),
        instead="On terms and references follow a path, such as habitat.name or author.title; else use =.",
    ),
)
