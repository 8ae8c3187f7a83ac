"""Single values by number: how many of some rows have each."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.distinct import distinct, each_value
from elenchus.frozen import Working
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.rowset import RowSet

__all__ = ["Coded"]

_MOST_RUNS = 1024  # values that are counted one after another, where the rows of each stand side by side


class Coded(Working):
    """The distinct ``values`` of a column, ascending, and for each row the number of its own.

    Rows without a value have the number after the last.
    """

    values: NDArray[Any]
    numbers: NDArray[np.int32]

    @classmethod
    def of(cls, codes: NDArray[Any], valid: Mask) -> Coded:
        """Return the values of a column."""
        known = np.flatnonzero(valid)
        if len(known) == len(valid):
            values, numbers = distinct(codes)
            return cls(values, numbers.astype(np.int32))
        values, of_known = distinct(codes[known])
        numbers = np.full(len(codes), len(values))
        numbers[known] = of_known
        return cls(values, numbers.astype(np.int32))

    @cached_property
    def runs(self) -> NDArray[np.intp] | None:
        """Where the rows of each number begin and end, if those of each stand side by side; else None."""
        begins = np.flatnonzero(np.diff(self.numbers, prepend=-1))
        numbers = self.numbers[begins]
        if len(begins) > _MOST_RUNS or len(each_value(numbers)) < len(numbers):
            return None
        found = np.full((len(self.values) + 1, 2), 0, dtype=np.intp)
        found[numbers, 0] = begins
        found[numbers, 1] = np.append(begins[1:], len(self.numbers))
        return found

    def counts(self, rows: RowSet) -> NDArray[np.int64]:
        """Return how many of some rows have each value, and last how many have none."""
        if self.runs is None:
            return np.bincount(self.numbers[rows.rows], minlength=len(self.values) + 1)
        if rows.is_listed:
            firsts, ends = np.searchsorted(rows.rows, self.runs.T)
            return np.asarray(ends - firsts)
        mask = rows.mask
        return np.array([np.count_nonzero(mask[first:end]) for first, end in self.runs.tolist()])
