"""Comparisons with a choice of values, and with the branches of a tree."""

from __future__ import annotations

from functools import reduce
from operator import and_, or_
from typing import TYPE_CHECKING

from elenchus.operators.record import Example, Operands, Operator
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from elenchus.schema.types import FieldType

__all__ = ["RECORDS"]

_NO_TREE = "Only terms of a taxonomy with tree = true, and entries, stand below others; use = or in."


def _in_a_tree(field: FieldType) -> bool:
    """Say whether the values of a field can stand below one another."""
    return field.tree or field.type is Type.ENTRY


RECORDS = (
    Operator(
        name="in",
        says="is one of {0}",
        denies="is none of {0}",
        fix="set {field} to {0}",
        unfix="let {field} be none of {0}",
        of_dates=(
            "is in {0}",
            "is not in {0}",
            "set {field} to something in {0}",
            "set {field} to something outside of {0}",
        ),
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
        name="has all",
        says="has all of {0}",
        denies="does not have all of {0}",
        fix="give it all of {field} {0}",
        unfix="take one of {field} {0} away",
        operands=Operands.SOME,
        types="terms and lists",
        doc="Has every one of these.",
        examples=(Example("where species has all (grey-seal, harbour-seal)", "both of them"),),
        fits=lambda field: field.many,
        rows=lambda column, values: reduce(and_, map(column.equal, values)),
        instead="A field with one value cannot have several; use in.",
    ),
    Operator(
        name="under",
        says="is {0} or below",
        denies="is neither {0} nor below",
        fix="give it {field} {0} or one below",
        unfix="take {field} {0} and all below away",
        operands=Operands.SOME,
        types="terms of a tree and entries",
        doc="Has the term or any of its descendants; on entries: is the entry or lies below it along parent.",
        examples=(
            Example("from sighting where habitat under shore", "the shore and all that lies in it"),
            Example("from habitat where term under estuary", "the terms themselves"),
        ),
        fits=_in_a_tree,
        rows=lambda column, values: reduce(or_, (column.between(value.low, value.last) for value in values)),
        instead=_NO_TREE,
        along_tree=True,
    ),
    Operator(
        name="below",
        says="is below {0}",
        denies="is not below {0}",
        fix="give it {a_field} below {0}",
        unfix="take {field} below {0} away",
        operands=Operands.SOME,
        types="terms of a tree and entries",
        doc="Has a descendant of the term, whether or not it has the term itself.",
        examples=(Example("from sighting where habitat below rocky-shore", "only what lies in it"),),
        fits=_in_a_tree,
        rows=lambda column, values: reduce(or_, (column.between(value.high, value.last) for value in values)),
        instead=_NO_TREE,
        along_tree=True,
    ),
)
