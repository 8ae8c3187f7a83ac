"""Grouping the rows of an answer: a row stands in each of its groups, counts are never cut."""

from __future__ import annotations

from functools import partial, reduce
from itertools import product
from operator import mul
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Lists, Numbers, Terms, Texts, gather, narrowed
from elenchus.engine.columns.distinct import numbered
from elenchus.engine.groupkeys import MISSING, KeyColumn
from elenchus.engine.measuring import GroupAmounts, GroupSelection, amounts, scalar
from elenchus.frozen import Working, member
from elenchus.plan.nodes import Across
from elenchus.plan.walking import fields_in
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.coded import Coded
    from elenchus.engine.columns.column import Mask
    from elenchus.engine.rowset import RowSet
    from elenchus.engine.select import Selection
    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import FieldRef, Plan

__all__ = ["MOST_GROUPS", "GroupMeasures", "Grouping", "empties", "grouped", "sort_columns"]

MOST_GROUPS = 10_000  # that “with empty” may make
_FEWEST = 4096  # groups that there may be, of so many at the least, for their rows to be counted by number
_FEW_VALUES = 4  # up to which numbers are counted by comparing them with each
_FEW = 16  # share of all rows up to which the terms of each are looked at


class Grouping(Working):
    """The groups of an answer's rows.

    ``keys`` tell what each column of ``codes`` (groups × keys, in the order of the groups) means. ``counts``
    is the number of placements of each group; these themselves are worked out when they are asked for.
    """

    keys: Sequence[KeyColumn]
    codes: NDArray[np.int64]
    counts: NDArray[np.int64]
    stages: Stages
    rank: NDArray[np.int64]  # of each group that has rows, in the order of its codes; -1 for one left out
    overflow: int = 0
    failing: int = 0  # groups that are left out
    measures: tuple[NDArray[Any], ...] = ()  # of each group, None where there is none

    @cached_property
    def told(self) -> list[tuple[list[int], int]]:
        """The codes of each group, and its count, as numbers of Python, which are quick to look up."""
        return list(zip(self.codes.tolist(), self.counts.tolist(), strict=True))

    def named(self, number: int) -> tuple[tuple[Any, ...], str]:
        """Return the values of a group, and what people call it."""
        codes, _ = self.told[number]
        if len(codes) == 1:
            value, label = self.keys[0].spoken(codes[0])
            return (value,), label
        found = [key.spoken(code) for key, code in zip(self.keys, codes, strict=True)]
        return tuple(value for value, _ in found), " · ".join(label for _, label in found)

    def label(self, number: int) -> str:
        """Return what people call a group."""
        return self.named(number)[1]

    @cached_property
    def turns(self) -> NDArray[np.int64]:
        """For each group the place of its value of the first key among those of all, from 0."""
        first = self.codes[:, 0] if len(self.codes) else self.codes.ravel()
        return np.concatenate((np.zeros(min(1, len(first)), np.int64), np.cumsum(first[1:] != first[:-1])))

    def kept(self, limit: int | None) -> int:
        """Return how many groups are shown, where only so many values of the first key have theirs."""
        return len(self.codes) if limit is None else int(np.searchsorted(self.turns, limit))

    def shown(self, groups: int, per_group: int | None) -> NDArray[np.int64]:
        """Return how many placements each of the first groups shows on all pages, at most so many."""
        counts = self.counts[:groups]
        return counts if per_group is None else np.minimum(counts, per_group)

    @cached_property
    def placements(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The group of each placement, and the place of its row in the answer, group by group."""
        places, codes = _placements(self.keys, self.stages.rows)
        groups = self.rank[_unique_rows(codes)[1]]
        if self.failing:
            groups, places = groups[groups >= 0], places[groups >= 0]
        by_group = np.lexsort((places, groups))
        return groups[by_group], places[by_group]

    @property
    def group_of(self) -> NDArray[np.int64]:
        """The number of the group of each placement."""
        return self.placements[0]

    @property
    def place_of(self) -> NDArray[np.int64]:
        """The place in the answer of the row of each placement."""
        return self.placements[1]

    @property
    def nth(self) -> NDArray[np.int64]:
        """The place of each placement within its group, from 0."""
        firsts = np.concatenate(([0], np.cumsum(self.counts)))
        return np.arange(len(self.group_of)) - firsts[self.group_of]

    def between(
        self, first: int, last: int, groups: int, per_group: int | None
    ) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return the groups and places of some placements.

        They are counted among those that are shown: of so many groups, and so many of each.
        """
        if per_group is None:
            return self.group_of[first:last], self.place_of[first:last]
        kept = np.flatnonzero((self.group_of < groups) & (self.nth < per_group))[first:last]
        return self.group_of[kept], self.place_of[kept]

    @cached_property
    def overlap(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The groups and places of the placements of the rows that stand in more than one group."""
        groups, places = self.placements
        several = np.bincount(places, minlength=1)[places] > 1
        return groups[several], places[several]

    @cached_property
    def several(self) -> int:
        """The number of rows that stand in more than one group; counted without an order of the rows."""
        if all(isinstance(key.column, Numbers | Texts) for key in self.keys):
            return 0
        if self.failing:
            return len(np.unique(self.overlap[1]))
        rows, _ = _in_memory(self.keys, self.stages)
        return int(np.count_nonzero(np.bincount(rows) > 1))


def grouped(stages: Stages, plan: Plan) -> Grouping:
    """Return the groups of the rows of an answer."""
    keys = [KeyColumn(stages.selection, key) for key in plan.groups]
    counted = _counted(keys[0], stages.row_set) if len(keys) == 1 else _counted_together(keys, stages)
    if counted is None:
        places, codes = _placements(keys, stages.rows)
        found, group_of = _unique_rows(codes)
        counts = np.bincount(group_of, minlength=len(found)).astype(np.int64)
    else:
        found, counts = counted[0].reshape(-1, len(keys)), counted[1]
    empty, overflow = empties(keys, found) if plan.with_empty else (found[:0], 0)
    every = np.concatenate((found, empty))
    counts = np.concatenate((counts, np.zeros(len(empty), dtype=np.int64)))

    def rows_of(at: int) -> NDArray[np.int64]:
        if counted is None:
            return _rows_of_prefix(every[:, : at + 1], group_of, places)
        prefix = _unique_rows(every[:, : at + 1])[1]  # here a row stands in one group only
        return np.bincount(prefix, weights=counts)[prefix].astype(np.int64) if len(prefix) else counts

    placed = partial(_in_memory, keys, stages)
    measured = GroupMeasures(plan, stages.selection, keys, every, counts, placed)
    order = np.lexsort(sort_columns(keys, every, rows_of, measured)[::-1])
    order = order[measured.passing[order]]
    rank = np.full(len(every), -1, dtype=np.int64)
    rank[order] = np.arange(len(order))
    failing, measures = len(every) - len(order), measured.shown(order)
    return Grouping(keys, every[order], counts[order], stages, rank, overflow, failing, measures)


def _in_memory(keys: Sequence[KeyColumn], stages: Stages) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """Return the row of each placement, and its codes."""
    rows = stages.row_set.rows
    places, codes = _placements(keys, rows)
    return rows[places], codes


def _numbers_of(
    every: NDArray[np.int64], placed: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64], int]:
    """Return a number for the codes of each group, then for those of each placement, and how many there are.

    The codes of one key are looked up among those of the groups, which are few: there may be a million rows.
    """
    if every.shape[1] == 1 and len(every):
        known, of_groups = np.unique(every[:, 0], return_inverse=True)
        return of_groups, np.searchsorted(known, placed[:, 0]), len(known)
    numbers = _unique_rows(np.concatenate((every, placed)))[1]
    return numbers[: len(every)], numbers[len(every) :], int(numbers.max(initial=-1)) + 1


class GroupMeasures(Working):
    """The measures of groups, worked out when they are asked for.

    ``every`` are the codes of the groups, ``counts`` their placements; ``placements`` gives the row of each
    of these, and its codes.
    """

    plan: Plan
    selection: Selection
    keys: Sequence[KeyColumn]
    every: NDArray[np.int64]
    counts: NDArray[np.int64]
    placements: Callable[[], tuple[NDArray[Any], NDArray[np.int64]]]
    known: dict[tuple[FieldRef, int], GroupAmounts] = member(default_factory=dict)

    @cached_property
    def placed(self) -> tuple[NDArray[Any], NDArray[np.int64]]:
        """The row of each placement, and the codes of its group."""
        return self.placements()

    def of(self, field: FieldRef, upto: int) -> GroupAmounts:
        """Return a measure for each group: of the rows of all groups that have its first keys, up to one."""
        if (field, upto) not in self.known:
            self.known[field, upto] = self.worked_out(field, upto)
        return self.known[field, upto]

    def worked_out(self, field: FieldRef, upto: int) -> GroupAmounts:
        """Return the same, worked out."""
        rows, codes = self.placed
        own, placed = self.every[:, : upto + 1], codes[:, : upto + 1]
        of_groups, groups, count = _numbers_of(own, placed)
        if upto < len(self.keys) - 1:  # a row that stands in several groups with these keys counts once
            groups, rows = _unique_rows(np.stack((groups, rows), axis=1))[0].T
        source: Any = field.source
        found = amounts(self.selection, source, rows, groups, count)
        return GroupAmounts(found.values[of_groups], found.valid[of_groups])

    @cached_property
    def passing(self) -> Mask:
        """Which groups meet the condition on groups."""
        having, last = self.plan.having, len(self.keys) - 1
        if having is None or not len(self.every):
            return np.ones(len(self.every), np.bool_)
        columns = {}
        for field in fields_in(having):
            if field.source == Across("count"):
                columns[field] = Numbers(self.counts, np.ones(len(self.counts), np.bool_))
            else:
                found = self.of(field, last)
                columns[field] = Numbers(found.values, found.valid)
        selection = GroupSelection(self.selection.view, self.selection.subject, columns=columns)
        return selection.rows(having)

    def shown(self, order: NDArray[np.intp]) -> tuple[NDArray[Any], ...]:
        """Return the measures that are shown of the groups in an order."""
        zone, last = self.selection.view.data.zone, len(self.keys) - 1
        every = []
        for each in self.plan.measures:
            found = self.of(each.field, last)
            values = found.values[order].tolist(), found.valid[order].tolist()
            told = [
                scalar(each.field, one, zone) if known else None for one, known in zip(*values, strict=True)
            ]
            every.append(np.array([*told, None], dtype=np.object_)[:-1])
        return tuple(every)


def _counted(key: KeyColumn, rows: RowSet) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
    """Return the codes that some rows have, ascending, and how many have each, without placing any row.

    None for values of which a row may have one twice.
    """
    column = key.column
    if isinstance(column, Terms):
        counts, missing = _counts_of_terms(column, rows)
        codes = np.arange(len(counts))
    elif isinstance(column, Numbers | Texts):
        coded = key.coded
        counts = coded.counts(rows)
        codes, counts, missing = coded.values, counts[:-1], int(counts[-1])
    else:
        return None
    used = np.flatnonzero(counts)
    codes, counts = codes[used].astype(np.int64), counts[used].astype(np.int64)
    if missing:
        codes, counts = np.append(codes, MISSING), np.append(counts, missing)
    wanted = key.wanted(codes)
    return codes[wanted], counts[wanted]


def _counted_together(
    keys: Sequence[KeyColumn], stages: Stages
) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
    """Return the codes of the groups by several keys, in their order, and how many rows are in each.

    None where a row may stand in several groups, or where there could be more groups than is worth a count.
    """
    if not all(isinstance(key.column, Numbers | Texts) for key in keys):
        return None
    coded = [key.coded for key in keys]
    shape = [len(each.values) + 1 for each in coded]
    if reduce(mul, shape, 1) > max(_FEWEST, stages.row_set.count):
        return None
    counts = _tallies(coded, shape, stages.row_set).ravel()
    used = np.flatnonzero(counts)
    columns = []
    for each, numbers in zip(coded, np.unravel_index(used, shape), strict=True):
        columns.append(np.append(each.values.astype(np.int64), MISSING)[numbers])
    wanted = np.logical_and.reduce([key.wanted(codes) for key, codes in zip(keys, columns, strict=True)])
    return np.stack(columns, axis=1)[wanted], counts[used][wanted].astype(np.int64)


def _tallies(coded: Sequence[Coded], shape: Sequence[int], rows: RowSet) -> NDArray[np.int64]:
    """Return how many of some rows have each combination of values, in an array with a side for each column.

    Rows that have one value side by side, as the newest first have their years, are counted run by run.
    """
    chosen = slice(None) if rows.count == rows.size else rows.rows
    at = next((number for number, each in enumerate(coded) if each.runs is not None), -1)
    others = [number for number in range(len(coded)) if number != at]
    joined = coded[others[0]].numbers[chosen]
    for number in others[1:]:
        joined = joined.astype(np.int64) * shape[number] + coded[number].numbers[chosen]
    sizes = [shape[number] for number in others]
    runs = coded[at].runs if at >= 0 else None
    if runs is None:
        return np.asarray(_tally(joined, reduce(mul, sizes, 1))).reshape(shape)
    places = runs if isinstance(chosen, slice) else np.searchsorted(chosen, runs)
    found = [_tally(joined[first:end], reduce(mul, sizes, 1)) for first, end in places.tolist()]
    return np.moveaxis(np.reshape(found, (shape[at], *sizes)), 0, at)


def _tally(numbers: NDArray[Any], size: int) -> Any:
    """Return how often each number below a size is there; few are counted by comparing, which is fastest."""
    if size > _FEW_VALUES:
        return np.bincount(numbers, minlength=size)
    found = [np.count_nonzero(numbers == number) for number in range(size - 1)]
    return [*found, len(numbers) - sum(found)]


def _counts_of_terms(column: Terms, rows: RowSet) -> tuple[NDArray[np.int64], int]:
    """Return how many rows have each term, and how many have none."""
    size = len(column.posting_starts) - 1
    if rows.is_listed and rows.count * _FEW < rows.size:
        _, places = gather(column.starts, rows.rows, np.ones(rows.count, np.bool_))
        missing = rows.count - int(np.count_nonzero(column.valid[rows.rows]))
        return np.bincount(column.terms[places], minlength=size), missing
    hits = np.flatnonzero(rows.mask.take(column.postings, mode="clip"))  # which is the fastest of its ways
    counts = np.diff(np.searchsorted(hits, column.posting_starts))
    return counts, rows.count - int(np.count_nonzero(rows.mask & column.valid))


def _placements(
    keys: Sequence[KeyColumn], rows: NDArray[np.intp]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the place of the row of each placement, and its codes (placements × keys)."""
    places = np.arange(len(rows))
    found: list[NDArray[np.int64]] = []
    for key in keys:
        spread, codes = _values_of(key, rows[places])
        places = places[spread]
        found = [*(column[spread] for column in found), codes]
    return places, np.stack(found, axis=1)


def _values_of(key: KeyColumn, rows: NDArray[np.intp]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the codes of some rows, perhaps several for one, and before them the place of each one's row."""
    column = key.column
    lists = column.lists if isinstance(column, Terms) else column
    if isinstance(column, Terms):  # of which a row has none twice
        starts, places = gather(column.starts, rows, np.ones(len(rows), np.bool_))
        sizes = np.diff(starts)
        without = np.flatnonzero(sizes == 0)
        spread = np.concatenate((np.repeat(np.arange(len(rows)), sizes), without))
        codes = np.concatenate((column.terms[places].astype(np.int64), np.full(len(without), MISSING)))
    elif isinstance(lists, Numbers | Texts):
        codes = np.where(lists.valid[rows], key.codes(lists)[rows], MISSING)
        spread = np.arange(len(rows))
    else:
        lists = narrowed(lists, Lists)
        starts, elements = gather(lists.starts, rows, np.ones(len(rows), np.bool_))
        spread = np.repeat(np.arange(len(rows)), np.diff(starts))
        known = lists.elements.valid[elements]
        pairs = np.stack((spread[known], key.codes(lists.elements)[elements[known]]), axis=1)
        # A list may have one value twice: two stations in one region, “Seal” and “seal”.
        spread, codes = _unique_rows(pairs)[0].T
        without = np.setdiff1d(np.arange(len(rows)), spread)
        spread = np.concatenate((spread, without))
        codes = np.concatenate((codes, np.full(len(without), MISSING)))
    wanted = key.wanted(codes)
    return spread[wanted], codes[wanted]


def _unique_rows(codes: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the distinct rows of a table of codes, sorted, and which of them each row is.

    Columns are numbered one by one and joined to one number, which sorts far faster than rows do.
    """
    joined = numbered(codes.T, len(codes))
    first = np.zeros(int(joined.max(initial=-1)) + 1, dtype=np.intp)
    first[joined[::-1]] = np.arange(len(joined))[::-1]
    return codes[first], joined


def empties(keys: Sequence[KeyColumn], found: NDArray[np.int64]) -> tuple[NDArray[np.int64], int]:
    """Return the codes of the groups without rows, or the number of groups where that is too many."""
    none = np.empty((0, len(keys)), dtype=np.int64)
    sizes = (key.domain_size(found[:, at]) for at, key in enumerate(keys))
    # Groups of rows without a value are not among those that there could be, and come on top of them.
    count = reduce(mul, sizes, 1) + int((found == MISSING).any(axis=1).sum())
    if count > MOST_GROUPS:
        return none, count
    domains = [key.domain(found[:, at]) for at, key in enumerate(keys)]
    present = set(map(tuple, found.tolist()))
    others = [codes for codes in product(*domains) if codes not in present]
    return (np.array(others, dtype=np.int64) if others else none), 0


def sort_columns(
    keys: Sequence[KeyColumn],
    every: NDArray[np.int64],
    rows_of: Callable[[int], NDArray[np.int64]],
    measured: GroupMeasures,
) -> list[NDArray[Any]]:
    """Return what groups are sorted by, the most significant first; missing values come last.

    Each key ends with the numbers of its values, which are all different, so that groups of one value
    stand together before the next key is looked at.
    """
    found: list[NDArray[Any]] = []
    for at, key in enumerate(keys):
        codes = every[:, at]
        found.append(codes == MISSING)
        if key.spec.by == "count":
            rows = rows_of(at)
            found.append(-rows if key.spec.descending else rows)
        elif key.spec.measure:
            amount = measured.of(key.spec.measure, at)
            ranks = np.unique(np.where(amount.valid, amount.values, 0), return_inverse=True)[1]
            found += [~amount.valid, -ranks if key.spec.descending else ranks]
        elif key.spec.by == "name":
            names = key.name_ranks(codes)
            found.append(-names if key.spec.descending else names)
        found += key.sort_values(codes)
    return found


def _rows_of_prefix(
    every: NDArray[np.int64], group_of: NDArray[np.int64], places: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Return for each group how many distinct rows stand in the groups with the same first keys."""
    _, prefix = _unique_rows(every)
    if not len(prefix):
        return np.zeros(0, dtype=np.int64)
    pairs, _ = _unique_rows(np.stack((prefix[group_of], places), axis=1))
    rows = np.bincount(pairs[:, 0], minlength=int(prefix.max()) + 1)
    return rows[prefix].astype(np.int64)
