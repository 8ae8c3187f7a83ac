"""The distinct values of an array, and which of them each item has."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Iterable

    from numpy.typing import NDArray

__all__ = ["distinct", "each_once", "each_value", "numbered"]

_WIDE = 4  # so many times the items may the range of whole numbers be that is counted through


def each_once(values: NDArray[Any]) -> NDArray[Any]:
    """Return the distinct values of an array that is in order already."""
    fresh = np.ones(len(values), np.bool_)
    fresh[1:] = values[1:] != values[:-1]
    return values[np.flatnonzero(fresh)]


def each_value(values: NDArray[Any]) -> NDArray[Any]:
    """Return the distinct values of an array, ascending.

    Asked for these alone, :func:`numpy.unique` first loads masked arrays, which takes longer than an answer.
    """
    return each_once(np.sort(values, axis=None))


def numbered(columns: Iterable[NDArray[Any]], size: int) -> NDArray[np.int64]:
    """Return a number for each of so many rows of a table, given by its columns: the same for the same rows.

    Rows are numbered in the order of their values, from 0.
    """
    found = np.zeros(size, dtype=np.int64)
    for column in columns:
        values, places = distinct(column)
        found = distinct(found * len(values) + places)[1]
    return found


def distinct(values: NDArray[Any]) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """Return the distinct values, ascending, and the place of each item among them.

    The same as :func:`numpy.unique`, but without sorting where values stand in order already, or are whole
    numbers close together.
    """
    if len(values) < 2:  # noqa: PLR2004 - nothing to put in order
        return values.copy(), np.zeros(len(values), dtype=np.int64)
    is_up, is_down = bool((values[1:] >= values[:-1]).all()), bool((values[1:] <= values[:-1]).all())
    if is_up or is_down:
        changes = np.flatnonzero(values[1:] != values[:-1]) + 1
        firsts = np.concatenate(([0], changes))
        number = np.zeros(len(values), dtype=np.int64)
        number[changes] = 1
        places = np.cumsum(number)
        return (values[firsts], places) if is_up else (values[firsts][::-1], len(firsts) - 1 - places)
    if values.dtype.kind in "iu":
        low, high = int(values.min()), int(values.max())
        if high - low < _WIDE * len(values):
            at = (values - low).astype(np.int64)
            is_there = np.zeros(high - low + 1, np.bool_)
            is_there[at] = True
            found = np.flatnonzero(is_there)
            number = np.zeros(len(is_there), dtype=np.int64)
            number[found] = np.arange(len(found))
            return (found + low).astype(values.dtype), number[at]
    unique, places = np.unique(values, return_inverse=True)
    return unique, places.reshape(-1)
