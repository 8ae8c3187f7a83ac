"""Two columns of the same rows, compared row by row."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from weakref import WeakKeyDictionary

import numpy as np

from elenchus.engine.columns.column import Dates, Lists, Terms, Texts, gather, single_of
from elenchus.engine.columns.lexicon import Lexicon

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column, Mask, Numbers

__all__ = ["compared"]

_RANKS: WeakKeyDictionary[Lexicon, WeakKeyDictionary[Lexicon, NDArray[np.int32]]] = WeakKeyDictionary()


def compared(left: Column, right: Column, sign: str) -> Mask:
    """Return the rows whose value in one column compares with that in another by ``= < <= > >=``.

    Rows that lack either are not among them. Where a side has several values, one of them is enough.
    """
    left, right = (each.lists if isinstance(each, Terms) else each for each in (left, right))
    if not (isinstance(left, Lists) or isinstance(right, Lists)):
        return _meets(single_of(left), single_of(right), sign)
    owners, one = _spread(left)
    pairs = np.arange(len(owners))
    if isinstance(right, Lists):
        starts, places = gather(right.starts, owners, np.ones(len(owners), np.bool_))
        pairs = np.repeat(pairs, np.diff(starts))
        other = right.elements.take(places, np.ones(len(places), np.bool_))
    else:
        other = single_of(right.take(owners, np.ones(len(owners), np.bool_)))
    found = np.zeros(len(left.valid), np.bool_)
    met = _meets(one.take(pairs, np.ones(len(pairs), np.bool_)), other, sign)
    found[owners[pairs[met]]] = True
    return found


def _spread(column: Column) -> tuple[NDArray[np.int64], Numbers | Texts]:
    """Return the row of each value, and the values."""
    if isinstance(column, Lists):
        return column.owners, column.elements
    return np.arange(len(column.valid)), single_of(column)


def _meets(one: Numbers | Texts, other: Numbers | Texts, sign: str) -> Mask:
    """Return where single values compare as wanted.

    Dates compare as the whole of the day, hour or minute that is written: one lies before another where it
    is over when that begins. So of ``<``, ``=`` and ``>`` exactly one holds where both are there.
    """
    low, other_low = _keys(one, other)
    if isinstance(one, Dates) and isinstance(other, Dates):
        # The first day of a month, which is what a part of a date is, ends where it begins.
        ends, other_ends = (np.maximum(each.ends, each.keys + 1) for each in (one, other))
        before, after = ends <= other.keys, one.keys >= other_ends
    else:
        before, after = low < other_low, low > other_low
    match sign:
        case "<":
            found = before
        case ">":
            found = after
        case "<=":
            found = ~after
        case ">=":
            found = ~before
        case _:
            found = ~(before | after)
    met: Mask = found & one.valid & other.valid
    return met


def _keys(one: Numbers | Texts, other: Numbers | Texts) -> tuple[NDArray[Any], NDArray[Any]]:
    """Return the values of both as keys that compare with one another."""
    if not (isinstance(one, Texts) and isinstance(other, Texts)) or one.lexicon is other.lexicon:
        return one.keys, other.keys
    ranks = _ranks_of_both(one.lexicon, other.lexicon)
    return ranks[one.places], ranks[len(one.lexicon) :][other.places]


def _ranks_of_both(one: Lexicon, other: Lexicon) -> NDArray[np.int32]:
    """Return the ranks of the texts of two lexicons among all of them, and one more for no text.

    They are kept as long as both are: ranking a million texts takes seconds.
    """
    known = _RANKS.setdefault(one, WeakKeyDictionary())
    if other not in known:
        known[other] = Lexicon.of([*one.texts, *other.texts]).ranks
    return known[other]
