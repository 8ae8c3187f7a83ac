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

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import OrderKey, PerValue

__all__ = ["leading", "ordered", "sort_values", "varied"]


def ordered(selection: Selection, rows: NDArray[np.intp], keys: Sequence[OrderKey]) -> NDArray[np.intp]:
    """Return the row numbers in the order of the keys.

    Entries are stored newest first with ties by id, and terms in term order, so that the two orders
    which are asked most are no work at all.
    """
    if _is_stored_order(keys) and (selection.subject.is_terms or selection.view.data.entries.in_order):
        return rows
    columns: list[NDArray[Any]] = [selection.view.id_ranks(selection.subject)[rows]]
    for key in reversed(keys):
        columns += _sort_columns(selection, rows, key)
    return rows[np.lexsort(columns)]


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
            places = np.full(len(selection.view.ids(selection.subject)), len(key.rows))
            named = [selection.view.data.row_of(selection.subject, name) for name in key.rows]
            for place, row in enumerate(named):
                if row >= 0:  # else this content has it not
                    places[row] = place
            return [places[rows]]
        case RelatednessOrder():
            return [-selection.shared(key.related)[rows]]
        case RandomOrder():
            return [_shuffled(selection.view.digests(selection.subject)[rows], key.salt)]
        case TermOrder():
            return [rows]
        case SourceOrder():
            return [selection.places(key.rows)[rows]]
        case _:
            assert_never(key)


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


def leading(rows: NDArray[np.intp], lead: Sequence[int], visible: Mask) -> NDArray[np.intp]:
    """Return the rows with those that lead before all others, each once; hidden ones do not lead."""
    first = np.array([row for row in lead if visible[row]], dtype=np.intp)
    return np.concatenate((first, rows[~np.isin(rows, first)]))


def varied(selection: Selection, rows: NDArray[np.intp], most: PerValue) -> NDArray[np.intp]:
    """Return the rows without those that follow so many with the same value; missing values do not count."""
    column = single_of(selection.view.column(most.field, selection.subject))
    known = np.flatnonzero(column.valid[rows])
    values = (column.codes if isinstance(column, Texts) else column.keys)[rows[known]]
    by_value = np.argsort(values, kind="stable")
    _, firsts, lengths = np.unique(values[by_value], return_index=True, return_counts=True)
    nth = np.zeros(len(rows), dtype=np.int64)
    nth[known[by_value]] = np.arange(len(known)) - np.repeat(firsts, lengths)
    return rows[nth < most.count]
