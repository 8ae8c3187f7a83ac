"""How a field is used: how often it is set, its extremes, its commonest values."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Lists, Numbers, Terms, Texts, single_of
from elenchus.engine.decode import decode, single_decoder
from elenchus.frozen import Frozen
from elenchus.schema.types import Type
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from elenchus.engine.columns.column import Column, Mask
    from elenchus.engine.view import View
    from elenchus.plan.nodes import FieldRef

__all__ = ["Statistics", "statistics"]

_COMMON = 3  # values that are named
_RANGED = (Type.INTEGER, Type.NUMBER, Type.DATE, Type.DATETIME)


class Statistics(Frozen):
    """Counts over some rows, and the smallest, largest and commonest values as texts."""

    present: int
    missing: int
    misfits: int
    smallest: str
    largest: str
    commonest: str


def statistics(view: View, field: FieldRef, rows: Mask) -> Statistics:
    """Return how a stored field of entries is used in the rows of a mask, public or not."""
    column = view.data.entries.columns[field.name, field.type]
    present = rows & column.valid
    misfits = sum(1 for misfit in view.data.misfits if misfit.field == field.name and rows[misfit.row])
    smallest, largest = _extremes(view, field, column, present)
    count = int(present.sum())
    return Statistics(
        count, int(rows.sum()) - count, misfits, smallest, largest, _common(view, field, column, present)
    )


def _extremes(view: View, field: FieldRef, column: Column, present: Mask) -> tuple[str, str]:
    """Return the smallest and the largest value of a number or a date."""
    places = np.flatnonzero(present)
    if field.type.type not in _RANGED or not isinstance(column, Numbers) or not len(places):
        return "", ""
    keys = column.keys[places]
    chosen = (int(places[np.argmin(keys)]), int(places[np.argmax(keys)]))
    low, high = (spoken(decode(view, field, row)) for row in chosen)
    return low, high


def _common(view: View, field: FieldRef, column: Column, present: Mask) -> str:
    """Return the commonest values with their counts, where some value stands more than once."""
    if isinstance(column, Terms):
        column = column.lists
    if isinstance(column, Lists):
        chosen = np.flatnonzero(present[column.owners] & column.elements.valid)
        single: Column = column.elements
    else:
        chosen, single = np.flatnonzero(present), column
    single = single_of(single)
    codes = (single.codes if isinstance(single, Texts) else single.keys)[chosen]
    _, first, counts = np.unique(codes, return_index=True, return_counts=True)
    if not len(counts) or counts.max() == 1:
        return ""
    order = [at for at in np.lexsort((first, -counts))[:_COMMON].tolist() if counts[at] > 1]
    return ", ".join(f"{_named(view, field, single, int(chosen[first[at]]))} {counts[at]}" for at in order)


def _named(view: View, field: FieldRef, column: Numbers | Texts, place: int) -> str:
    """Return the value at a place of a column of single values."""
    return spoken(single_decoder(view.data, field, column)(place))
