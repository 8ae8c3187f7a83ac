"""From keys back to values that people read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.engine.columns.column import Dates, Lists, Terms
from elenchus.plan.nodes import Part
from elenchus.schema.types import Type
from elenchus.values.dates import date_label, from_instant

if TYPE_CHECKING:
    from collections.abc import Callable
    from datetime import date, datetime

    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import FieldRef

__all__ = ["decode", "decoder"]


def decode(selection: Selection, field: FieldRef, row: int) -> Any:
    """Return the value of a field in a row: a scalar, a tuple of them, or None."""
    return decoder(selection, field)(row)


def decoder(selection: Selection, field: FieldRef) -> Callable[[int], Any]:
    """Return a function from a row to the value of a field, for many rows of one field."""
    column = selection.view.column(field, selection.subject)
    if isinstance(column, Terms):
        labels = selection.view.data.taxonomies[field.type.taxonomy].labels
        return lambda row: tuple(labels[number] for number in column.item(row))
    if isinstance(column, Lists):
        return lambda row: elements(selection, field, column, row)
    return lambda row: decoded(selection, field, column, row)


def elements(selection: Selection, field: FieldRef, column: Lists, row: int) -> tuple[Any, ...]:
    """Return the values of a list."""
    places = range(column.starts[row], column.starts[row + 1])
    found = (decoded(selection, field, column.elements, place) for place in places)
    return tuple(value for value in found if value is not None)


def decoded(selection: Selection, field: FieldRef, column: Any, row: int) -> Any:
    """Return the value of one row or element."""
    key = column.item(row)
    if key is None:
        return None
    match field.type.type:
        case Type.CHOICE:
            return field.type.choices[key]
        case Type.YESNO:
            return bool(key)
        case Type.DATE | Type.DATETIME:
            return day_or_instant(column, row, selection, field)
        case Type.ENTRY:
            return selection.view.data.entries.ids[key]
        case Type.TERM:
            return selection.view.data.taxonomies[field.type.taxonomy].labels[key]
        case _:
            return key


def day_or_instant(column: Dates, row: int, selection: Selection, field: FieldRef) -> date | datetime | str:
    """Return a day where no time was written, a part as a text, else the instant in the site's zone."""
    local = from_instant(int(column.keys[row]), selection.view.data.zone)
    if isinstance(field.source, Part):
        return date_label(local.date(), field.source.part)
    return local.date() if column.whole[row] else local
