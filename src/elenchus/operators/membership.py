"""Comparisons with a choice of values, and with the branches of a tree."""

from __future__ import annotations

from functools import reduce
from operator import or_

from elenchus.operators.record import Example, Operands, Operator

__all__ = ["RECORDS"]


RECORDS = (
    Operator(
        name="in",
        operands=Operands.SOME,
        types="any field",
        doc="The value is one of these; on terms and lists: has any of them; on dates: lies inside.",
        examples=(
            Example("where habitat in (tide-pools, saltmarsh)", "either habitat"),
            Example("where date in last 30 days", "a date inside an interval"),
            Example("where species not in (grey-seal, harbour-seal)", "neither of them"),
        ),
        fits=lambda _: True,
        rows=lambda column, values: reduce(or_, map(column.equal, values)),
    ),
    Operator(
        name="under",
        operands=Operands.SOME,
        types="terms of a tree",
        doc="Has the term or any of its descendants.",
        examples=(Example("from sighting where habitat under shore", "the shore and all that lies in it"),),
        fits=lambda field: field.tree,
        rows=lambda column, values: reduce(or_, (column.between(value.low, value.last) for value in values)),
        instead="Only a taxonomy with tree = true has terms below others; use = or in.",
    ),
)
