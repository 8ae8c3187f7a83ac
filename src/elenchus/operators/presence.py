"""Whether there is a value at all."""

from __future__ import annotations

from elenchus.operators.record import Example, Operands, Operator

__all__ = ["RECORDS"]

RECORDS = (
    Operator(
        name="is set",
        says="has a value",
        denies="has no value",
        fix="give it {a_field}",
        unfix="take its {field} away",
        operands=Operands.NONE,
        types="any field",
        doc="There is a value; zero and no are values, an empty text or list is none.",
        examples=(Example("from sighting where depth is set", "those with a depth"),),
        fits=lambda _: True,
        decides_missing=True,
        rows=lambda column, _: column.present(),
    ),
    Operator(
        name="is missing",
        says="has no value",
        denies="has a value",
        fix="take its {field} away",
        unfix="give it {a_field}",
        operands=Operands.NONE,
        types="any field",
        doc="There is no value, or one that does not fit the type of its field.",
        examples=(Example("from report where reliability is missing", "those not yet rated"),),
        fits=lambda _: True,
        decides_missing=True,
        rows=lambda column, _: column.missing(),
    ),
)
