"""Grouping the rows of an answer: a row stands in each of its groups, counts are never cut."""

from __future__ import annotations

from functools import cached_property, reduce
from itertools import product
from operator import mul
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Lists, Numbers, Terms, Texts, gather, narrowed
from elenchus.engine.groupkeys import MISSING, KeyColumn
from elenchus.frozen import Working

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import Plan

__all__ = ["MOST_GROUPS", "Grouping", "grouped"]

MOST_GROUPS = 10_000  # that “with empty” may make


class Grouping(Working):
    """The groups of an answer's rows.

    ``keys`` tell what each column of ``codes`` (groups × keys, in the order of the groups) means.
    ``group_of`` and ``place_of`` are the placements, group by group: the number of the group and the
    place of the row in the answer. ``counts`` is the number of placements of each group.
    """

    keys: Sequence[KeyColumn]
    codes: NDArray[np.int64]
    counts: NDArray[np.int64]
    group_of: NDArray[np.int64]
    place_of: NDArray[np.int64]
    overflow: int = 0

    @cached_property
    def labels(self) -> list[str]:
        """What people call each group."""
        rows = self.codes.tolist()
        return [" · ".join(key.label(code) for key, code in zip(self.keys, row, strict=True)) for row in rows]

    def shown(self, per_group: int | None) -> int:
        """Return how many placements are shown on all pages, where each group shows so many at the most."""
        counts = self.counts if per_group is None else np.minimum(self.counts, per_group)
        return int(counts.sum())

    @property
    def nth(self) -> NDArray[np.int64]:
        """The place of each placement within its group, from 0."""
        firsts = np.concatenate(([0], np.cumsum(self.counts)))
        return np.arange(len(self.group_of)) - firsts[self.group_of]

    @property
    def overlap(self) -> NDArray[np.int64]:
        """The places of the rows that stand in more than one group."""
        found: NDArray[np.int64] = np.flatnonzero(np.bincount(self.place_of, minlength=1) > 1)
        return found


def grouped(selection: Selection, rows: NDArray[np.intp], plan: Plan) -> Grouping:
    """Return the groups of some rows, which are in the order of the answer."""
    keys = [KeyColumn(selection, key) for key in plan.groups]
    places, codes = _placements(keys, rows)
    distinct, group_of = _unique_rows(codes)
    overflow = 0
    if plan.with_empty:
        empty, overflow = _empties(keys, distinct)
        distinct = np.concatenate((distinct, empty))
    counts = np.bincount(group_of, minlength=len(distinct)).astype(np.int64)
    order = np.lexsort(_sort_columns(keys, distinct, group_of, places)[::-1])
    rank = np.empty(len(order), dtype=np.int64)
    rank[order] = np.arange(len(order))
    by_group = np.lexsort((places, rank[group_of]))
    return Grouping(
        keys, distinct[order], counts[order], rank[group_of][by_group], places[by_group], overflow
    )


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
    if isinstance(lists, Numbers | Texts):
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
    joined = np.zeros(len(codes), dtype=np.int64)
    for column in codes.T:
        values, places = np.unique(column, return_inverse=True)
        joined = np.unique(joined * len(values) + places.reshape(-1), return_inverse=True)[1].reshape(-1)
    _, first = np.unique(joined, return_index=True)
    return codes[first], joined


def _empties(keys: Sequence[KeyColumn], distinct: NDArray[np.int64]) -> tuple[NDArray[np.int64], int]:
    """Return the codes of the groups without rows, or the number of groups where that is too many."""
    none = np.empty((0, len(keys)), dtype=np.int64)
    sizes = (key.domain_size(distinct[:, at]) for at, key in enumerate(keys))
    # Groups of rows without a value are not among those that there could be, and come on top of them.
    count = reduce(mul, sizes, 1) + int((distinct == MISSING).any(axis=1).sum())
    if count > MOST_GROUPS:
        return none, count
    domains = [key.domain(distinct[:, at]) for at, key in enumerate(keys)]
    present = set(map(tuple, distinct.tolist()))
    found = [codes for codes in product(*domains) if codes not in present]
    return (np.array(found, dtype=np.int64) if found else none), 0


def _sort_columns(
    keys: Sequence[KeyColumn],
    distinct: NDArray[np.int64],
    group_of: NDArray[np.int64],
    places: NDArray[np.int64],
) -> list[NDArray[Any]]:
    """Return what groups are sorted by, the most significant first; missing values come last.

    Each key ends with the numbers of its values, which are all different, so that groups of one value
    stand together before the next key is looked at.
    """
    found: list[NDArray[Any]] = []
    for at, key in enumerate(keys):
        codes = distinct[:, at]
        found.append(codes == MISSING)
        if key.spec.by == "count":
            rows = _rows_of_prefix(distinct[:, : at + 1], group_of, places)
            found.append(-rows if key.spec.descending else rows)
        elif key.spec.by == "name":
            names = key.name_ranks(codes)
            found.append(-names if key.spec.descending else names)
        found += key.sort_values(codes)
    return found


def _rows_of_prefix(
    distinct: NDArray[np.int64], group_of: NDArray[np.int64], places: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Return for each group how many distinct rows stand in the groups with the same first keys."""
    _, prefix = _unique_rows(distinct)
    if not len(prefix):
        return np.zeros(0, dtype=np.int64)
    pairs, _ = _unique_rows(np.stack((prefix[group_of], places), axis=1))
    rows = np.bincount(pairs[:, 0], minlength=int(prefix.max()) + 1)
    return rows[prefix].astype(np.int64)
