"""Comparisons with one value or with two bounds."""

from __future__ import annotations

from math import inf
from typing import TYPE_CHECKING

from elenchus.operators.record import Example, Operands, Operator
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from elenchus.schema.types import FieldType

__all__ = ["RECORDS"]

_ORDERED = "a single number, date, choice or text"


def _ordered(field: FieldType) -> bool:
    """Say whether a field holds one value that is more or less than another."""
    return not field.many and field.type not in (Type.YESNO, Type.ENTRY, Type.TERM)


RECORDS = (
    Operator(
        name="=",
        says="is {0}",
        denies="is not {0}",
        fix="set {field} to {0}",
        unfix="let {field} be something else than {0}",
        of_dates=(
            "is in {0}",
            "is not in {0}",
            "set {field} to {0}",
            "let {field} be outside of {0}",
        ),
        opposite="!=",
        operands=Operands.ONE,
        types="any field",
        doc="The value is this one; on terms and lists: has it. A date is equal when it lies inside.",
        examples=(
            Example("from sighting where certainty = confirmed", "one choice"),
            Example("from report where date = 2026-06", "a whole month"),
            Example("from sighting where certainty != confirmed", "all others, those without one too"),
        ),
        fits=lambda _: True,
        rows=lambda column, values: column.equal(values[0]),
    ),
    Operator(
        name="<",
        says="is less than {0}",
        denies="is not less than {0}",
        fix="set {field} to less than {0}",
        unfix="set {field} to {0} or more",
        of_dates=(
            "is before {0}",
            "is not before {0}",
            "set {field} to something before {0}",
            "set {field} to {0} or later",
        ),
        operands=Operands.ONE,
        types=_ORDERED,
        doc="The value is less; a date lies before the start; a text stands before it A to Z.",
        examples=(Example("from sighting where individuals < 5", "few were seen"),),
        fits=_ordered,
        rows=lambda column, values: column.between(-inf, values[0].low),
        instead="Use = or in.",
    ),
    Operator(
        name="<=",
        says="is at most {0}",
        denies="is not at most {0}",
        fix="set {field} to {0} or less",
        unfix="set {field} to more than {0}",
        of_dates=(
            "is in {0} or before",
            "is not in {0} or before",
            "set {field} to {0} or before",
            "set {field} to something after {0}",
        ),
        operands=Operands.ONE,
        types=_ORDERED,
        doc="The value is this or less; a date lies before the end, so a whole day counts in full.",
        examples=(Example("from report where date <= 2026-04-30", "up to the end of that day"),),
        fits=_ordered,
        rows=lambda column, values: column.between(-inf, values[0].high),
        instead="Use = or in.",
    ),
    Operator(
        name=">",
        says="is more than {0}",
        denies="is not more than {0}",
        fix="set {field} to more than {0}",
        unfix="set {field} to {0} or less",
        of_dates=(
            "is after {0}",
            "is not after {0}",
            "set {field} to something after {0}",
            "set {field} to {0} or before",
        ),
        operands=Operands.ONE,
        types=_ORDERED,
        doc="The value is more; a date lies after the end.",
        examples=(Example("from sighting where depth > 2.5", "deeper than this"),),
        fits=_ordered,
        rows=lambda column, values: column.between(values[0].high, inf),
        instead="Use = or in.",
    ),
    Operator(
        name=">=",
        says="is at least {0}",
        denies="is not at least {0}",
        fix="set {field} to {0} or more",
        unfix="set {field} to less than {0}",
        of_dates=(
            "is in {0} or later",
            "is not in {0} or later",
            "set {field} to {0} or later",
            "set {field} to something before {0}",
        ),
        operands=Operands.ONE,
        types=_ORDERED,
        doc="The value is this or more; a date lies at the start or later.",
        examples=(
            Example("from sighting where certainty >= probable", "choices in their declared order"),
            Example("from outing where starts >= today", "what is still to come"),
        ),
        fits=_ordered,
        rows=lambda column, values: column.between(values[0].low, inf),
        instead="Use = or in.",
    ),
    Operator(
        name="between",
        says="lies between {0} and {1}",
        denies="does not lie between {0} and {1}",
        fix="set {field} to something between {0} and {1}",
        unfix="set {field} to something outside of {0} and {1}",
        operands=Operands.PAIR,
        types=_ORDERED,
        doc="From the start of the first value to the end of the second.",
        examples=(Example("from sighting where date between 2026-03 and 2026-04", "two whole months"),),
        fits=_ordered,
        rows=lambda column, values: column.between(values[0].low, values[1].high),
        instead="Use in.",
    ),
)
