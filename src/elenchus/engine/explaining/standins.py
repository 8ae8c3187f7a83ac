"""A comparison of two fields of an entry, as comparisons of each with what the other one holds."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING, Any

from elenchus.engine.columns.column import Dates
from elenchus.engine.decode import decode
from elenchus.plan.nodes import (
    EntryValue,
    NumberValue,
    PositionValue,
    TermValue,
    Test,
    TextValue,
    TimeValue,
)
from elenchus.schema.types import Type
from elenchus.values.dates import Interval
from elenchus.values.texts import fold
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import FieldRef, FieldTest, Value

__all__ = ["stand_ins"]

_TURNED = {"=": "=", "<": ">", ">": "<", "<=": ">=", ">=": "<="}


def stand_ins(test: FieldTest, selection: Selection, row: int) -> Iterator[Test]:
    """Yield comparisons of either field with each value that a row has in the other one.

    What makes one of them true or false for the row does so for the comparison of the two, or nearly: who
    proposes it tries it.
    """
    for value in _values(selection, test.other, row):
        yield Test(test.field, test.operator, (value,), test.negated)
    for value in _values(selection, test.field, row):
        yield Test(test.other, _TURNED[test.operator], (value,), test.negated)


def _values(selection: Selection, field: FieldRef, row: int) -> Iterator[Value]:
    """Yield what a row has in a field."""
    view = selection.view
    column = view.column(field, selection.subject)
    item = column.item(row)
    if item is None:
        return
    shown = spoken(decode(view, field, row, selection.subject))
    for key in item if isinstance(item, list) else [item]:
        end = int(column.ends[row]) if isinstance(column, Dates) else None
        yield _value(selection, field, key, shown, end)


def _value(selection: Selection, field: FieldRef, key: Any, shown: str, end: int | None) -> Value:
    """Return a key of a column as a value of a question."""
    data = selection.view.data
    match field.type.type:
        case Type.INTEGER | Type.NUMBER:
            return NumberValue(Fraction(key), shown)
        case Type.DATE | Type.DATETIME:
            return TimeValue(Interval(key, key + 1 if end is None else end), shown)
        case Type.YESNO:
            return PositionValue(key, "yes" if key else "no")
        case Type.CHOICE:
            return PositionValue(key, field.type.choices[key])
        case Type.ENTRY:
            return EntryValue(data.entries.ids[key])
        case Type.TERM:
            address = data.taxonomies[field.type.taxonomy].terms[key].address
            return TermValue(tuple(address.split("/")), address)
        case _:
            return TextValue(fold(key), key)
