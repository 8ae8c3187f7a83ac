"""Entries below entries: each numbered so that all that lies below one is a range of numbers."""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Numbers
from elenchus.frozen import Frozen
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from collections.abc import Mapping

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.schema.types import FieldType

__all__ = ["Ancestry", "ancestry", "parents"]


class Ancestry(Frozen):
    """The depth-first number of each row, and the number after those of all that lies below it."""

    numbers: NDArray[np.int64]
    ends: NDArray[np.int64]


def parents(columns: Mapping[tuple[str, FieldType], Column], size: int) -> NDArray[np.int64]:
    """Return the row of each row's parent, -1 for none, whatever the kinds declare of the field."""
    found = np.full(size, -1, dtype=np.int64)
    for (name, kind), column in columns.items():
        if name == "parent" and kind.type is Type.ENTRY and isinstance(column, Numbers):
            found[column.valid] = column.keys[column.valid]
    return found


def ancestry(above: NDArray[np.int64]) -> Ancestry:
    """Return the numbers of rows from the row of each one's parent, -1 for none.

    A cycle is cut at its first row, which then stands at the top.
    """
    children: dict[int, list[int]] = defaultdict(list)
    for row in np.flatnonzero(above >= 0).tolist():
        children[int(above[row])].append(row)
    numbers = np.full(len(above), -1, dtype=np.int64)
    ends = np.zeros(len(above), dtype=np.int64)
    tops = np.flatnonzero(above < 0).tolist()
    count = 0
    for top in (*tops, *range(len(above))):
        count = _number_below(top, count, children, numbers, ends)
    return Ancestry(numbers, ends)


def _number_below(
    top: int, count: int, children: dict[int, list[int]], numbers: NDArray[np.int64], ends: NDArray[np.int64]
) -> int:
    """Give numbers from ``count`` on to a row and all below it, depth first; return the next number."""
    stack = [(top, False)]
    while stack:
        row, done = stack.pop()
        if done:
            ends[row] = count
        elif numbers[row] < 0:
            numbers[row] = count
            count += 1
            stack.append((row, True))
            stack += [(child, False) for child in reversed(children.get(row, []))]
    return count
