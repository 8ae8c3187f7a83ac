"""Measures over groups of rows, worked out in the database: one statement for each."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.groups import GroupMeasures
from elenchus.engine.measuring import GroupAmounts, decimals_of, scalar
from elenchus.errors import NotSupported
from elenchus.frozen import Working, member
from elenchus.measures import measure
from elenchus.plan.answer import MeasureTotal
from elenchus.plan.nodes import Part, Stored
from elenchus.schema.types import Type
from elenchus.tables.expressions import EPOCH_DAY, as_number
from elenchus.tables.stages import each_value_of, with_value
from elenchus.values.dates import start_of

if TYPE_CHECKING:
    from collections.abc import Callable

    from ibis.expr import types as ir

    from elenchus.plan.nodes import Across, FieldRef
    from elenchus.tables.filling import FoundRows
    from elenchus.tables.scope import Scope

__all__ = ["TableMeasures", "TableValues", "totals_of_tables", "values_beside"]


class TableValues(Working):
    """The values of a field as a column of a table; see :class:`Measurable`."""

    column: Any

    def total(self) -> Any:
        """See :class:`Measurable`."""
        return self.column.sum()

    def size(self) -> Any:
        """See :class:`Measurable`."""
        return self.column.count()

    def least(self) -> Any:
        """See :class:`Measurable`."""
        return self.column.min()

    def greatest(self) -> Any:
        """See :class:`Measurable`."""
        return self.column.max()

    def middle(self) -> Any:
        """See :class:`Measurable`."""
        return self.column.cast("float64").median()

    def different(self) -> Any:
        """See :class:`Measurable`."""
        return self.column.nunique()


class TableMeasures(GroupMeasures):
    """The measures of groups of what a plan finds in tables.

    ``told`` gives rows of the values of the first keys, up to one, and of a measure; ``codes_of`` the codes
    of such values.
    """

    told: Callable[[Across, int], list[tuple[Any, ...]]] = member(default=None)
    codes_of: Callable[[tuple[Any, ...]], tuple[int, ...]] = member(default=None)

    def worked_out(self, field: FieldRef, upto: int) -> GroupAmounts:
        """See :class:`GroupMeasures`."""
        of: Any = field.source
        zone = self.selection.view.data.zone
        known = {self.codes_of(row): _key(of, row[-1], zone) for row in self.told(of, upto)}
        is_counted = field.type.type is Type.INTEGER and of.measure == "distinct"
        found = [
            known.get(tuple(codes[: upto + 1]), 0 if is_counted else None) for codes in self.every.tolist()
        ]
        valid = np.array([value is not None for value in found], dtype=np.bool_)
        values = np.array([0 if value is None else value for value in found] or [0])
        return GroupAmounts(values[: len(found)], valid)


def _key(of: Across, value: Any, zone: Any) -> Any:
    """Return what a database worked out as a key: whole numbers as such, the first day of a part as instants.

    Databases have sums of whole numbers as decimal numbers.
    """
    if value is None:
        return None
    held = measure(of.measure).holds(of.field.type) if of.field else None
    if of.field and held and held.type.is_date and isinstance(of.field.source, Part):
        return start_of(date.fromordinal(int(value) + EPOCH_DAY), zone) * 2
    return float(value) if held and held.type is Type.NUMBER else int(value)


def values_beside(scope: Scope, of: Across) -> ir.Table:
    """Return the values of a field that its rows have, each with the id of its row.

    Dates are twice their instant, and one more where they have a time; see the keys in memory.
    """
    field = of.field
    if field is None:
        raise NotSupported("a measure of nothing")
    if field.type.many or field.type.type is Type.TERM:
        return _of_lists(scope, field)
    rows = with_value(scope, scope.table("entries"), field, "k_value", of="start")
    if field.type.type.is_date and not isinstance(field.source, Part):
        rows = with_value(scope, rows, field, "k_whole", of="whole")
        rows = rows.mutate(k_value=rows.k_value * 2 + as_number(~rows.k_whole))
    rows = rows.select(k_owner=rows.id, k_value=rows.k_value)
    return rows.filter(rows.k_value.notnull())


def _of_lists(scope: Scope, field: FieldRef) -> ir.Table:
    """Return the values of a field with several."""
    source = field.source
    is_top = isinstance(source, Part) and source.part == "top"
    if field.type.type is Type.TERM and (is_top or isinstance(source, Stored)):
        used = scope.table("entry_terms")
        used = used.filter(used.taxonomy == scope.values.text(field.type.taxonomy))
        return used.select(k_owner=used.entry, k_value=used.top if is_top else used.path)
    return each_value_of(scope, field, "k_value").select("k_owner", "k_value")


def _total(found: FoundRows, of: Across) -> ir.Table:
    """Return a measure over all rows of an answer, and how many of them have a value."""
    rows = found.stages.listed.select("id")
    beside = values_beside(found.stages.scope, of).view()
    joined = rows.inner_join(beside, rows.id == beside.k_owner)
    value = measure(of.measure).of(TableValues(joined.k_value))
    return joined.aggregate(k_measure=value, k_having=joined.id.nunique())


def _different(found: FoundRows, of: Across) -> ir.Table:
    """Return the different values of a field over all rows of an answer."""
    rows, beside = found.stages.listed.select("id"), values_beside(found.stages.scope, of).view()
    return rows.inner_join(beside, rows.id == beside.k_owner).select("k_value").distinct()


def totals_of_tables(found: FoundRows) -> tuple[MeasureTotal, ...]:
    """Return the measures over all rows of an answer, each row once."""
    zone, every = found.stages.scope.data.zone, []
    for each in found.plan.measures:
        of: Any = each.field.source
        [(value, having)] = found.told(f"the {each.field.name} of all rows", _total, of)
        key = _key(of, value, zone) if having or of.measure == "distinct" else None
        decimals = measure(of.measure).decimals
        if of.field.type.type is Type.NUMBER and each.field.type.type is Type.NUMBER:
            told = found.told(f"the values of {of.field.name}", _different, of)
            decimals += decimals_of(np.array([row[0] for row in told], dtype=np.float64))
        shown = None if key is None else scalar(each.field, key, zone)
        missing = found.total - int(having)
        every.append(MeasureTotal(each.label, of.field.name, shown, missing, decimals, each.field.type.unit))
    return tuple(every)
