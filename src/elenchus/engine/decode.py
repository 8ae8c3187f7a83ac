"""From keys back to values that people read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.table.columns import Dates, Lists
from elenchus.table.schema import Type
from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from datetime import date, datetime

    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import FieldRef

__all__ = ["decode"]


def decode(selection: Selection, field: FieldRef, row: int) -> Any:
    """Return the value of a field in a row: a scalar, a tuple of them, or None."""
    column = selection.column(field)
    if isinstance(column, Lists):
        places = range(column.starts[row], column.starts[row + 1])
        found = (decoded(selection, field, column.elements, place) for place in places)
        return tuple(value for value in found if value is not None)
    return decoded(selection, field, column, row)


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
            return day_or_instant(column, row, selection)
        case Type.ENTRY:
            return selection.data.entries.ids[key]
        case Type.TERM:
            labels = selection.data.taxonomies[field.type.taxonomy].labels
            return tuple(labels[number] for number in key)
        case _:
            return key


def day_or_instant(column: Dates, row: int, selection: Selection) -> date | datetime:
    """Return a day where no time was written, else the instant in the site's zone."""
    local = from_instant(int(column.keys[row]), selection.data.zone)
    return local.date() if column.whole[row] else local
