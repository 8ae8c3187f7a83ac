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
    below = np.flatnonzero(above >= 0)
    for row in below.tolist():
        children[int(above[row])].append(row)
    # Most rows stand alone; the numbers of the others are counted from that of the row at their top.
    alone = np.ones(len(above), np.bool_)
    alone[below] = False
    alone[list(children)] = False
    sizes = alone.astype(np.int64)
    trees: list[list[tuple[int, int, int]]] = []
    seen: set[int] = set()
    for top in (*(row for row in children if above[row] < 0), *below.tolist()):
        if top not in seen:
            trees.append(_numbered_below(top, children, seen))
            sizes[top] = len(trees[-1])
    numbers = np.cumsum(sizes) - sizes
    ends = numbers + 1
    for tree in trees:
        first = int(numbers[tree[0][0]])
        for row, number, end in tree:
            numbers[row], ends[row] = first + number, first + end
    return Ancestry(numbers, ends)


def _numbered_below(top: int, children: dict[int, list[int]], seen: set[int]) -> list[tuple[int, int, int]]:
    """Return a row and all below it, depth first, each with its number and the one after those below it."""
    found: dict[int, tuple[int, int]] = {}
    stack = [(top, False)]
    while stack:
        row, done = stack.pop()
        if done:
            found[row] = found[row][0], len(found)
        elif row not in seen:
            seen.add(row)
            found[row] = len(found), 0
            stack.append((row, True))
            stack += [(child, False) for child in reversed(children.get(row, []))]
    return [(row, number, end) for row, (number, end) in found.items()]
