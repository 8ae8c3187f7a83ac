"""From keys back to values that people read."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from elenchus.engine.columns.column import Dates, Lists, Terms, narrowed
from elenchus.plan.nodes import Part
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.dates import date_label, from_instant

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from datetime import date, datetime

    from elenchus.engine.columns.column import Column
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.view import View
    from elenchus.plan.nodes import FieldRef
    from elenchus.schema.subject import Subject

__all__ = ["Decoded", "decode", "decoder", "single_decoder"]


class Decoded(Mapping[str, Any]):
    """The values of a row by the names of their fields, each decoded when it is first looked at.

    Pages look at few of those that an answer has.
    """

    __slots__ = ("decoders", "found", "row")

    def __init__(self, decoders: Mapping[str, Callable[[int], Any]], row: int) -> None:
        self.decoders = decoders
        self.row = row
        self.found: dict[str, Any] = {}

    def __getitem__(self, name: str) -> Any:
        try:
            return self.found[name]
        except KeyError:
            value = self.found[name] = self.decoders[name](self.row)
            return value

    def __contains__(self, name: object) -> bool:
        return name in self.decoders

    def __iter__(self) -> Iterator[str]:
        return iter(self.decoders)

    def __len__(self) -> int:
        return len(self.decoders)

    def __repr__(self) -> str:
        return repr(dict(self))

    def __reduce__(self) -> tuple[type[dict[str, Any]], tuple[dict[str, Any]]]:
        """Travel as what it holds: an answer that is sent elsewhere takes no columns with it."""
        return dict, (dict(self),)


def decode(view: View, field: FieldRef, row: int, subject: Subject = ENTRIES) -> Any:
    """Return the value of a field in a row: a scalar, a tuple of them, or None."""
    return decoder(view, field, subject)(row)


def decoder(view: View, field: FieldRef, subject: Subject = ENTRIES) -> Callable[[int], Any]:
    """Return the function from a row to the value of a field; a view makes each once."""
    found = view.decoders.get((subject, field))
    if found is None:
        found = view.decoders[subject, field] = _made(view, field, view.column(field, subject))
    return found


def _made(view: View, field: FieldRef, column: Column) -> Callable[[int], Any]:
    """Return the function from a row of a column to its value."""
    if isinstance(column, Terms):
        labels = view.data.taxonomies[field.type.taxonomy].labels
        return lambda row: tuple(labels[number] for number in column.item(row))
    if isinstance(column, Lists):
        one, starts = single_decoder(view.data, field, column.elements), column.starts
        return lambda row: tuple(
            value for place in range(starts[row], starts[row + 1]) if (value := one(place)) is not None
        )
    return single_decoder(view.data, field, column)


def single_decoder(data: Dataset, field: FieldRef, column: Column) -> Callable[[int], Any]:
    """Return the function from a place in a column of single values to its value, None for a missing one."""
    names: Any
    match field.type.type:
        case Type.DATE | Type.DATETIME:
            dates = narrowed(column, Dates)
            return lambda row: _day_or_instant(dates, row, data, field) if dates.valid[row] else None
        case Type.CHOICE:
            names = field.type.choices
        case Type.YESNO:
            names = (False, True)
        case Type.ENTRY:
            names = data.entries.ids
        case Type.TERM:
            names = data.taxonomies[field.type.taxonomy].labels
        case _:
            return column.item
    return lambda row: None if (key := column.item(row)) is None else names[key]


def _day_or_instant(column: Dates, row: int, data: Dataset, field: FieldRef) -> date | datetime | str:
    """Return a day where no time was written, a part as a text, else the instant in the site's zone."""
    local = from_instant(int(column.keys[row]), data.zone)
    if isinstance(field.source, Part):
        return date_label(local.date(), field.source.part)
    return local.date() if column.whole[row] else local
