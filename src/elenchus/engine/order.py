"""Putting rows in order: total, missing values last, the id as the last tie-break."""

from __future__ import annotations

from hashlib import blake2b
from typing import TYPE_CHECKING, Any, assert_never

import numpy as np

from elenchus.engine.columns.column import Numbers, Texts, narrowed, single_of
from elenchus.plan.nodes import (
    GivenOrder,
    RandomOrder,
    RelatednessOrder,
    SortKey,
    SourceOrder,
    TermOrder,
    YesFirst,
)
from elenchus.schema.types import Type
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.rowset import RowSet
    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import OrderKey, PerValue, SharesTerms

__all__ = ["Ordering", "leading", "sort_values", "varied"]

_FEW = 1024  # rows that are put in order as they are
_SHARE = 4  # so many times the rows that are wanted, too
_SPARSE = 64  # share of all rows from which on a walk through their order meets them soon
_STEP = 1024


class Ordering:
    """Some rows in the order of keys, of which mostly no more than a page is wanted.

    Entries are stored newest first with ties by id, and terms in term order, so that the two orders
    which are asked most are no work at all. ``way`` tells how the rows were found that were asked for last.
    """

    def __init__(self, selection: Selection, rows: RowSet, keys: Sequence[OrderKey]) -> None:
        self.selection = selection
        self.rows = rows
        self.keys = keys
        self.way = ""

    @property
    def is_stored(self) -> bool:
        """Say whether the rows stand in this order already."""
        selection = self.selection
        is_sound = selection.subject.is_terms or selection.view.data.entries.in_order
        return is_sound and bool(self.keys) and _is_stored_order(self.keys)

    @cached_property
    def all(self) -> NDArray[np.intp]:
        """All rows in order."""
        return self.sorted(self.rows.rows)

    def between(self, first: int, last: int) -> NDArray[np.intp]:
        """Return the rows from a place up to another, the second one not among them."""
        if last <= first:
            self.way = "no row is wanted"
            return np.zeros(0, dtype=np.intp)
        if self.is_stored:
            self.way = "in the order in which they are stored"
            return self.rows.between(first, last)
        if "all" in self.__dict__ or self.rows.count <= max(_FEW, last * _SHARE):
            self.way = "put in order"
            return self.all[first:last]
        kept = self.kept_order() if self.rows.count * _SPARSE >= self.rows.size else None
        if kept is not None:
            self.way = "met on a walk through the order of all rows"
            return self.met(kept, first, last)
        self.way = f"the first {last} picked out and put in order"
        return self.sorted(self.foremost(last))[first:last]

    def sorted(self, rows: NDArray[np.intp]) -> NDArray[np.intp]:
        """Return rows in order."""
        if self.is_stored:
            return rows
        columns: list[NDArray[Any]] = [self.selection.view.id_ranks(self.selection.subject)[rows]]
        for key in reversed(self.keys):
            columns += _sort_columns(self.selection, rows, key)
        return rows[np.lexsort(columns)]

    def kept_order(self) -> NDArray[np.int32] | None:
        """Return the order of all rows by a single key, once that was asked for a second time."""
        key = self.keys[0]
        if len(self.keys) > 1 or not isinstance(key, SortKey | RandomOrder):
            return None
        return self.selection.view.order(self.selection.subject, key, self.sorted)

    def met(self, order: NDArray[np.int32], first: int, last: int) -> NDArray[np.intp]:
        """Return the rows from a place up to another, as they are met in an order of all rows."""
        mask, found, count, at = self.rows.mask, [], 0, 0
        step = last * self.rows.size // self.rows.count + _STEP
        while count < last and at < len(order):
            part = order[at : at + step]
            found.append(part[np.flatnonzero(mask[part])])
            count += len(found[-1])
            at += step
        return np.concatenate(found)[first:last].astype(np.intp)

    def foremost(self, count: int) -> NDArray[np.intp]:
        """Return rows among which are the first ones in the order, in any order.

        They are told from the others by the first of the columns in which they differ.
        """
        rows = self.rows.rows
        for key in self.keys:
            near = np.arange(len(rows))
            for column in reversed(_sort_columns(self.selection, rows, key)):
                values = column[near]
                limit = np.partition(values, count - 1)[count - 1]
                near = near[np.flatnonzero(values <= limit)]
                if values.min() != limit or len(near) <= max(_FEW, count * _SHARE):
                    return rows[near]
            rows = rows[near]
        return rows


def _is_stored_order(keys: Sequence[OrderKey]) -> bool:
    """Say whether the keys ask for what the table already is."""
    first = keys[0]
    if isinstance(first, TermOrder):
        return True
    if not isinstance(first, SortKey) or len(keys) > 1:
        return False
    return first.field.name == "date" and first.descending and not first.missing_first


def _sort_columns(selection: Selection, rows: NDArray[np.intp], key: OrderKey) -> list[NDArray[Any]]:
    """Return what a key sorts by, as columns for a lexicographic sort, the least significant first."""
    match key:
        case SortKey():
            values, valid = sort_values(selection, key)
            chosen = np.where(valid[rows], _directed(values[rows], descending=key.descending), 0)
            return [chosen, valid[rows] if key.missing_first else ~valid[rows]]
        case YesFirst():
            return [~selection.view.column(key.field, selection.subject).between(1, 2)[rows]]
        case GivenOrder():
            places = np.full(len(selection), len(key.rows))
            named = [selection.view.data.row_of(selection.subject, name) for name in key.rows]
            for place, row in enumerate(named):
                if row >= 0:  # else this content has it not
                    places[row] = place
            return [places[rows]]
        case RelatednessOrder():
            return [-_shared(selection, key.related, rows)]
        case RandomOrder():
            return [_shuffled(selection.view.digests(selection.subject)[rows], key.salt)]
        case TermOrder():
            return [rows]
        case SourceOrder():
            return [selection.places(key.rows)[rows]]
        case _:
            assert_never(key)


def _shared(selection: Selection, likeness: SharesTerms, rows: NDArray[np.intp]) -> NDArray[np.intp]:
    """Return how many terms rows share with an entry, none for the entry itself."""
    others, counts = selection.sharing(likeness)
    if not len(others):
        return np.zeros(len(rows), dtype=np.intp)
    at = np.minimum(np.searchsorted(others, rows), len(others) - 1)
    return np.where(others[at] == rows, counts[at], 0)


def sort_values(selection: Selection, key: SortKey) -> tuple[NDArray[Any], Mask]:
    """Return what a field sorts by, for all rows, with the mask of those that have it.

    A reference sorts by the title of its entry, a term by its place in the taxonomy.
    """
    column = selection.view.column(key.field, selection.subject)
    if isinstance(column, Texts):
        return (column.natural_keys if key.natural else column.keys), column.valid
    single = narrowed(column, Numbers)
    if key.field.type.type is Type.ENTRY:
        titles = selection.view.titles.take(single.keys, single.valid)
        return titles.keys, titles.valid
    return single.keys, single.valid


def _directed(values: NDArray[Any], *, descending: bool) -> NDArray[Any]:
    """Return the values as they sort ascending when asked the other way round."""
    if not descending:
        return values
    return ~values if np.issubdtype(values.dtype, np.integer) else -values


def _shuffled(digests: NDArray[np.uint64], salt: str) -> NDArray[np.uint64]:
    """Return a number for each digest that depends on the salt: the finaliser of splitmix64.

    Source: G. Steele, D. Lea, C. Flood, Fast splittable pseudorandom number generators, OOPSLA 2014.
    """
    mixed = digests ^ np.uint64(int.from_bytes(blake2b(salt.encode(), digest_size=8).digest(), "little"))
    mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return mixed ^ (mixed >> np.uint64(31))


def leading(rows: NDArray[np.intp], lead: Sequence[int], visible: Mask) -> tuple[NDArray[np.intp], int]:
    """Return the rows with those that lead before all others, each once, and how many of those there are.

    Hidden ones do not lead.
    """
    first = np.array([row for row in lead if visible[row]], dtype=np.intp)
    return np.concatenate((first, rows[~np.isin(rows, first)])), len(first)


def varied(selection: Selection, rows: NDArray[np.intp], most: PerValue, leads: int = 0) -> NDArray[np.intp]:
    """Return the rows without those that follow so many with the same value; missing values do not count.

    The first ``leads`` rows count, and are never passed over.
    """
    column = single_of(selection.view.column(most.field, selection.subject))
    known = np.flatnonzero(column.valid[rows])
    values = (column.codes if isinstance(column, Texts) else column.keys)[rows[known]]
    by_value = np.argsort(values, kind="stable")
    _, firsts, lengths = np.unique(values[by_value], return_index=True, return_counts=True)
    nth = np.zeros(len(rows), dtype=np.int64)
    nth[known[by_value]] = np.arange(len(known)) - np.repeat(firsts, lengths)
    nth[:leads] = 0
    return rows[nth < most.count]
