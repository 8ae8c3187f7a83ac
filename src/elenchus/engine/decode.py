"""From keys back to values that people read."""

from __future__ import annotations

from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from elenchus.plan.nodes import Part
from elenchus.table.columns import Dates, Lists, Terms
from elenchus.table.schema import Type
from elenchus.values.dates import date_label, from_instant, to_minute

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import FieldRef

__all__ = ["decode", "decoder", "spoken"]


def decode(selection: Selection, field: FieldRef, row: int) -> Any:
    """Return the value of a field in a row: a scalar, a tuple of them, or None."""
    return decoder(selection, field)(row)


def decoder(selection: Selection, field: FieldRef) -> Callable[[int], Any]:
    """Return a function from a row to the value of a field, for many rows of one field."""
    column = selection.view.column(field, selection.taxonomy)
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


def spoken(value: Any) -> str:
    """Return a decoded value as a text for people; nothing for a missing one."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return to_minute(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, float):
        return f"{value:g}" if abs(value) < 1e6 else str(value)  # noqa: PLR2004 - %g writes 1e+06 from there
    return ", ".join(spoken(item) for item in value) if isinstance(value, tuple) else str(value)
