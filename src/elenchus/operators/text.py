"""Comparisons of texts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.operators.record import Example, Operands, Operator

if TYPE_CHECKING:
    from elenchus.schema.types import FieldType

__all__ = ["RECORDS"]

_INSTEAD = "Use = or in; from terms and references follow a path to a text, such as {field}.name."


def _text(field: FieldType) -> bool:
    """Say whether a field holds texts."""
    return field.type.is_text


RECORDS = (
    Operator(
        name="contains",
        says="contains {0}",
        denies="does not contain {0}",
        fix="let {field} contain {0}",
        unfix="let {field} not contain {0}",
        operands=Operands.ONE,
        types="text",
        doc="The text has this in it, whatever the case; on a list: some element has.",
        examples=(Example('where title contains "seal"', "seal, Seals, SEAL"),),
        fits=_text,
        rows=lambda column, values: column.contains(values[0].text),
        instead=_INSTEAD,
    ),
    Operator(
        name="starts with",
        says="starts with {0}",
        denies="does not start with {0}",
        fix="let {field} start with {0}",
        unfix="let {field} not start with {0}",
        operands=Operands.ONE,
        types="text",
        doc="The text begins with this, whatever the case.",
        examples=(Example("from sighting where title starts with grey", "Grey seals …"),),
        fits=_text,
        rows=lambda column, values: column.starts_with(values[0].text),
        instead=_INSTEAD,
    ),
    Operator(
        name="ends with",
        says="ends with {0}",
        denies="does not end with {0}",
        fix="let {field} end with {0}",
        unfix="let {field} not end with {0}",
        operands=Operands.ONE,
        types="text",
        doc="The text ends with this, whatever the case.",
        examples=(Example('where image ends with ".svg"', "drawings"),),
        fits=_text,
        rows=lambda column, values: column.ends_with(values[0].text),
        instead=_INSTEAD,
    ),
    Operator(
        name="matches",
        says="matches the pattern {0}",
        denies="does not match the pattern {0}",
        fix="let {field} match {0}",
        unfix="let {field} not match {0}",
        operands=Operands.ONE,
        types="text",
        doc="A regular expression (RE2) finds something in the text as it is written, capitals and all.",
        examples=(Example('where title matches "[Ss]eals?$"', "seal or seals at the end"),),
        fits=_text,
        rows=lambda column, values: column.matches(values[0].text),
        instead=_INSTEAD,
        takes_pattern=True,
    ),
)
