"""Measures over groups of rows: what a field has in each group, and in all rows together."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Dates, Lists, Numbers, Terms, Texts, gather, single_of
from elenchus.engine.select import Selection
from elenchus.frozen import Frozen, Working, member
from elenchus.measures import measure
from elenchus.plan.answer import MeasureTotal
from elenchus.schema.types import Type
from elenchus.values.dates import from_instant
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.engine.stages import Stages
    from elenchus.plan.answer import Scalar
    from elenchus.plan.nodes import Across, FieldRef, MeasureOf

__all__ = ["GroupAmounts", "GroupSelection", "GroupValues", "amounts", "decimals_of", "scalar", "totals"]

_EXACT = 2**53  # up to which a float64 counts whole numbers one by one
_DIGITS = 12  # significant ones, which every executor works out alike
_MOST_SUMMED = 200_000  # real numbers that are added up without any error
_MOST_DECIMALS = 6


class GroupAmounts(Frozen):
    """One number for each group, and which groups have one."""

    values: NDArray[Any]
    valid: NDArray[np.bool_]

    def __truediv__(self, other: GroupAmounts) -> GroupAmounts:
        valid = self.valid & other.valid
        divided = [one / two if is_there else 0.0 for one, two, is_there in zip(
            self.values.tolist(), other.values.tolist(), valid.tolist(), strict=True
        )]  # fmt: skip
        return GroupAmounts(np.array(divided, dtype=np.float64), valid)


class GroupValues(Working):
    """The values of groups as keys, each with the number of its group; see :class:`Measurable`."""

    keys: NDArray[Any]
    groups: NDArray[np.int64]
    count: int

    @cached_property
    def sizes(self) -> NDArray[np.int64]:
        """How many values each group has."""
        return np.bincount(self.groups, minlength=self.count).astype(np.int64)

    @cached_property
    def sorted(self) -> NDArray[Any]:
        """The values group by group, in each from the least on."""
        return self.keys[np.lexsort((self.keys, self.groups))]

    @cached_property
    def ends(self) -> NDArray[np.int64]:
        """Where each group ends among these."""
        return np.cumsum(self.sizes)

    def picked(self, places: NDArray[np.int64]) -> GroupAmounts:
        """Return the sorted values at some places, one for each group."""
        valid = self.sizes > 0
        if not len(self.sorted):
            return GroupAmounts(np.zeros(self.count, dtype=self.keys.dtype), valid)
        return GroupAmounts(self.sorted[np.where(valid, places, 0)], valid)

    def total(self) -> GroupAmounts:
        """See :class:`Measurable`."""
        valid = self.sizes > 0
        if self.keys.dtype.kind != "f":
            if np.abs(self.keys.astype(np.float64)).sum() < _EXACT:
                sums = np.bincount(self.groups, self.keys, self.count)
                return GroupAmounts(sums.astype(np.int64), valid)
            return self.summed(sum, np.object_)
        if len(self.keys) <= _MOST_SUMMED:
            return self.summed(math.fsum, np.float64)
        return GroupAmounts(np.bincount(self.groups, self.keys, self.count), valid)

    def summed(self, add: Callable[[list[Any]], Any], kind: Any) -> GroupAmounts:
        """Return the sums of the values of each group as Python adds them up."""
        values, ends = self.sorted.tolist(), self.ends.tolist()
        sums = [add(values[first:end]) for first, end in zip([0, *ends], ends, strict=False)]
        return GroupAmounts(np.array(sums, dtype=kind), self.sizes > 0)

    def size(self) -> GroupAmounts:
        """See :class:`Measurable`."""
        return GroupAmounts(self.sizes, np.ones(self.count, np.bool_))

    def least(self) -> GroupAmounts:
        """See :class:`Measurable`."""
        return self.picked(self.ends - self.sizes)

    def greatest(self) -> GroupAmounts:
        """See :class:`Measurable`."""
        return self.picked(self.ends - 1)

    def middle(self) -> GroupAmounts:
        """See :class:`Measurable`."""
        first = self.ends - self.sizes
        low = self.picked(first + (self.sizes - 1) // 2)
        high = self.picked(first + self.sizes // 2)
        halves = [(one + two) / 2 for one, two in zip(low.values.tolist(), high.values.tolist(), strict=True)]
        return GroupAmounts(np.array(halves, dtype=np.float64), low.valid)

    def different(self) -> GroupAmounts:
        """See :class:`Measurable`."""
        owners = np.repeat(np.arange(self.count), self.sizes)
        fresh = np.ones(len(owners), np.bool_)
        fresh[1:] = (self.sorted[1:] != self.sorted[:-1]) | (owners[1:] != owners[:-1])
        found = np.bincount(owners[fresh], minlength=self.count).astype(np.int64)
        return GroupAmounts(found, np.ones(self.count, np.bool_))


def amounts(
    selection: Selection, of: Across, rows: NDArray[Any], groups: NDArray[np.int64], count: int
) -> GroupAmounts:
    """Return a measure of a field over some rows, each with the number of its group, for each group."""
    if of.field is None:
        sizes = np.bincount(groups, minlength=count).astype(np.int64)
        return GroupAmounts(sizes, np.ones(count, np.bool_))
    column = selection.view.column(of.field, selection.subject)
    keys, owners = _values(column, rows)
    found: GroupAmounts = measure(of.measure).of(GroupValues(keys, groups[owners], count))
    return found


def _values(column: Column, rows: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Return the keys of some rows, those missing left out, and the place of the row that each is of."""
    lists = column.lists if isinstance(column, Terms) else column
    if isinstance(lists, Lists):
        starts, places = gather(lists.starts, rows, np.ones(len(rows), np.bool_))
        owners = np.repeat(np.arange(len(rows)), np.diff(starts))
        single: Numbers | Texts = lists.elements
    else:
        single, places, owners = single_of(lists), rows, np.arange(len(rows))
    known = single.valid[places]
    return _keys(single)[places[known]], owners[known]


def _keys(column: Numbers | Texts) -> NDArray[Any]:
    """Return what is the same for the same values, and in their order but for texts.

    A day stands before the first instant of itself, and tells that it is one by being even.
    """
    if isinstance(column, Texts):
        return column.codes
    return column.keys * 2 + ~column.whole if isinstance(column, Dates) else column.keys


class GroupSelection(Selection):
    """Conditions over groups, by the columns that are made of them: their count, and their measures."""

    columns: Mapping[FieldRef, Numbers] = member(default_factory=dict)

    def __len__(self) -> int:
        return len(next(iter(self.columns.values())).valid)

    def column(self, field: FieldRef) -> Column:
        """See :class:`Selection`."""
        return self.columns[field]

    def whole(self, field: FieldRef) -> Column:
        """See :class:`Selection`."""
        return self.columns[field]


def scalar(field: FieldRef, value: Any, zone: ZoneInfo) -> Scalar:
    """Return what a measure comes to as a value of an answer: numbers to twelve significant digits."""
    match field.type.type:
        case Type.DATE | Type.DATETIME:
            local = from_instant(int(value) // 2, zone)
            return local if int(value) % 2 else local.date()
        case Type.CHOICE:
            return field.type.choices[int(value)]
        case Type.INTEGER:
            return int(value)
        case _:
            return float(f"{value:.{_DIGITS}g}")


def totals(stages: Stages, measures: tuple[MeasureOf, ...]) -> tuple[MeasureTotal, ...]:
    """Return the measures over all rows of an answer, each row once."""
    if not measures:
        return ()
    selection, rows = stages.selection, stages.row_set.rows
    found = []
    for each in measures:
        of: Any = each.field.source
        one = amounts(selection, of, rows, np.zeros(len(rows), dtype=np.int64), 1)
        column = selection.view.column(of.field, selection.subject)
        value = scalar(each.field, one.values[0], selection.view.data.zone) if one.valid[0] else None
        missing = len(rows) - int(np.count_nonzero(column.valid[rows]))
        decimals = measure(of.measure).decimals
        if isinstance(column, Numbers) and each.field.type.type is Type.NUMBER:
            decimals += decimals_of(column.keys[rows[column.valid[rows]]])
        unit = each.field.type.unit  # none where values are counted
        found.append(MeasureTotal(each.label, of.field.name, value, missing, decimals, unit))
    return tuple(found)


def decimals_of(values: NDArray[Any]) -> int:
    """Return how many decimals some numbers have at the most, as far as they are shown."""
    if values.dtype.kind != "f":
        return 0
    exact = (places for places in range(_MOST_DECIMALS) if np.array_equal(np.round(values, places), values))
    return next(exact, _MOST_DECIMALS)
