"""Measures of numbers, dates and choices."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import replace
from elenchus.measures.record import Measure
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from elenchus.schema.types import FieldType

__all__ = ["RECORDS"]


def _is_number(field: FieldType) -> bool:
    """Say whether a field holds one number."""
    return field.type.is_number and not field.many


def _is_ordered(field: FieldType) -> bool:
    """Say whether a field holds one number, date or choice."""
    return not field.many and (field.type.is_number or field.type.is_date or field.type is Type.CHOICE)


def _real(field: FieldType) -> FieldType:
    """Return the type of numbers that need not be whole, in the same unit."""
    return replace(field, type=Type.NUMBER)


_NUMBERS = "numbers"
_ORDERED = "numbers, dates and choices"

RECORDS = (
    Measure(
        name="sum",
        types=_NUMBERS,
        doc="What the values add up to.",
        example="from sighting group by habitat measure sum of individuals",
        fits=_is_number,
        holds=lambda field: field,
        of=lambda values: values.total(),
    ),
    Measure(
        name="average",
        types=_NUMBERS,
        doc="Their sum divided by how many there are.",
        example="from sighting group by certainty measure average of depth",
        fits=_is_number,
        holds=_real,
        of=lambda values: values.total() / values.size(),
        decimals=2,
    ),
    Measure(
        name="median",
        types=_NUMBERS,
        doc="The value in the middle; of an even number of values, halfway between the two there.",
        example="from sighting measure median of individuals",
        fits=_is_number,
        holds=_real,
        of=lambda values: values.middle(),
        decimals=2,
    ),
    Measure(
        name="min",
        types=_ORDERED,
        doc="The least value, the earliest date, the first of the declared choices.",
        example="from sighting group by station measure min of date",
        fits=_is_ordered,
        holds=lambda field: field,
        of=lambda values: values.least(),
    ),
    Measure(
        name="max",
        types=_ORDERED,
        doc="The greatest value, the latest date, the last of the declared choices.",
        example="from sighting group by habitat measure max of date",
        fits=_is_ordered,
        holds=lambda field: field,
        of=lambda values: values.greatest(),
    ),
)
