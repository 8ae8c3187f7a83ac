"""Which rows are meant: as a mask over all rows, or as their numbers, whichever there is or is cheaper."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Mask

__all__ = ["RowSet"]

_STEP = 4096  # rows that are looked at first where only some are wanted


class RowSet:
    """Some rows of a table of ``size`` rows."""

    def __init__(self, size: int, *, mask: Mask | None = None, rows: NDArray[Any] | None = None) -> None:
        self.size = size
        if mask is not None:
            self.__dict__["mask"] = mask
        if rows is not None:
            self.__dict__["rows"] = rows

    @cached_property
    def mask(self) -> Mask:
        """Which rows they are."""
        found = np.zeros(self.size, np.bool_)
        found[self.rows] = True
        return found

    @cached_property
    def rows(self) -> NDArray[np.intp]:
        """Their numbers, ascending."""
        return np.flatnonzero(self.mask)

    @cached_property
    def count(self) -> int:
        """How many they are."""
        return len(self.rows) if "rows" in self.__dict__ else int(np.count_nonzero(self.mask))

    def __len__(self) -> int:
        return self.count

    @property
    def is_listed(self) -> bool:
        """Say whether their numbers are there, and need not be looked for in a mask."""
        return "rows" in self.__dict__

    def between(self, first: int, last: int) -> NDArray[np.intp]:
        """Return the rows from a place among them up to another, without looking for all."""
        if self.is_listed or last >= self.count:
            return self.rows[first:last]
        end = _STEP
        while True:
            found = np.flatnonzero(self.mask[:end])
            if len(found) >= last or end >= self.size:
                return found[first:last]
            end *= 4

    def without(self, gone: NDArray[Any] | None) -> RowSet:
        """Return the rows that are not among some."""
        if gone is None or not len(gone):
            return self
        is_gone = np.zeros(self.size, np.bool_)
        is_gone[gone] = True
        if self.is_listed:
            return RowSet(self.size, rows=self.rows[~is_gone[self.rows]])
        return RowSet(self.size, mask=self.mask & ~is_gone)
