"""From keys back to values that people read."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from elenchus.engine.columns.column import Dates, Lists, Terms, Texts, narrowed
from elenchus.plan.nodes import Part
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.dates import date_label, from_instant

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from datetime import date, datetime

    import numpy as np
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.view import View
    from elenchus.plan.nodes import FieldRef
    from elenchus.schema.subject import Subject

__all__ = ["Decoded", "Values", "decode", "decoder", "single_decoder"]

_FEW = 8  # rows up to which each is decoded by itself


class Values:
    """The values of some rows, decoded when they are looked at: pages look at few of what an answer has.

    Texts of a field are decoded for all rows at once, as that takes far less time than one after the other.
    """

    def __init__(
        self, view: View, subject: Subject, fields: Mapping[str, FieldRef], rows: NDArray[np.intp]
    ) -> None:
        self.view = view
        self.subject = subject
        self.fields = fields
        self.rows: list[int] = rows.tolist()
        self.places = rows
        self.found: dict[str, Callable[[int], Any]] = {}

    def each(self) -> Iterator[Decoded]:
        """Yield what each row has."""
        return (Decoded(self, place) for place in range(len(self.rows)))

    def of(self, name: str) -> Callable[[int], Any]:
        """Return the function from the place of a row among these to a field's value. Raises KeyError."""
        if name not in self.found:
            self.found[name] = self.made(self.fields[name])
        return self.found[name]

    def made(self, field: FieldRef) -> Callable[[int], Any]:
        """Return the function from the place of a row to the value of a field."""
        column, rows = self.view.column(field, self.subject), self.rows
        if isinstance(column, Texts) and len(rows) > _FEW:
            places = column.places[self.places]
            texts = iter(column.lexicon.texts.at(places[places >= 0]))
            return [next(texts) if place >= 0 else None for place in places.tolist()].__getitem__
        one = decoder(self.view, field, self.subject)
        return lambda place: one(rows[place])


class Decoded(Mapping[str, Any]):
    """The values of a row by the names of their fields; ``place`` is that of the row among some."""

    __slots__ = ("place", "values_of")

    def __init__(self, values: Values, place: int) -> None:
        self.values_of = values
        self.place = place

    def __getitem__(self, name: str) -> Any:
        return self.values_of.of(name)(self.place)

    def __contains__(self, name: object) -> bool:
        return name in self.values_of.fields

    def __iter__(self) -> Iterator[str]:
        return iter(self.values_of.fields)

    def __len__(self) -> int:
        return len(self.values_of.fields)

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
