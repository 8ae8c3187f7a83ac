"""Putting rows in order: total, missing values last, the id as the last tie-break."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.table.schema import Type

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import SortKey

__all__ = ["ordered"]


def ordered(selection: Selection, rows: NDArray[np.intp], keys: Sequence[SortKey]) -> NDArray[np.intp]:
    """Return the row numbers in the order of the keys.

    Rows are stored newest first with ties by id, so that this order, the commonest, is no work at all.
    """
    if is_stored_order(keys):
        return rows
    columns: list[NDArray[Any]] = [selection.data.entries.id_rank[rows]]
    for key in reversed(keys):
        values, valid = sort_values(selection, key)
        columns += [directed(values[rows], descending=key.descending), ~valid[rows]]
        columns[-2][columns[-1]] = 0
    return rows[np.lexsort(columns)]


def is_stored_order(keys: Sequence[SortKey]) -> bool:
    """Say whether the keys ask for what the table already is: newest first."""
    return len(keys) == 1 and keys[0].field.name == "date" and keys[0].descending


def sort_values(selection: Selection, key: SortKey) -> tuple[NDArray[Any], NDArray[np.bool_]]:
    """Return what a key sorts by, for all rows, with the mask of those that have it.

    A reference sorts by the title of the entry that it leads to.
    """
    column = selection.column(key.field)
    if key.field.type.type is not Type.ENTRY:
        return column.keys, column.valid
    titles = selection.title
    return titles.keys[column.keys], column.valid & titles.valid[column.keys]


def directed(values: NDArray[Any], *, descending: bool) -> NDArray[Any]:
    """Return a copy of the values that sorts ascending as asked."""
    if not descending:
        return values.copy()
    return ~values if np.issubdtype(values.dtype, np.integer) else -values
