"""Measures of how various values are."""

from __future__ import annotations

from elenchus.measures.record import Measure
from elenchus.schema.types import FieldType, Type

__all__ = ["RECORDS"]

RECORDS = (
    Measure(
        name="distinct",
        types="any field",
        doc="How many different values there are.",
        example="from sighting group by station measure distinct of species",
        fits=lambda _: True,
        holds=lambda _: FieldType(Type.INTEGER),
        of=lambda values: values.different(),
    ),
)
