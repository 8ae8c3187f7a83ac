"""Columns: the values of one field for all rows, as NumPy arrays with a mask of what is there.

Every column turns values into *keys*, whole or real numbers in the order of the type: instants for
dates, positions for choices and terms, ranks of collation for texts. A comparison is then always the
same: which rows have a key in the half-open range [low, high)? Arrays have one item a row unless said
otherwise; a mask is a boolean array of one item a row.
"""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from elenchus.values.collation import sort_key
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from numpy.typing import NDArray

__all__ = ["Column", "Dates", "KeyRange", "Lists", "Numbers", "Terms", "Texts"]


class KeyRange(Protocol):
    """A value as a range of a column's keys, and as a folded text where it is one."""

    @property
    def low(self) -> float:
        """The first key that the value covers."""

    @property
    def high(self) -> float:
        """The first key after those that the value covers."""

    @property
    def last(self) -> float:
        """The first key after the value and all that lies below it in a tree."""

    @property
    def text(self) -> str:
        """The folded text."""


class Column(Protocol):
    """What the operators and the engine ask of a column."""

    @property
    def valid(self) -> NDArray[np.bool_]:
        """Which rows have a value."""

    @property
    def keys(self) -> NDArray[Any]:
        """One sortable number for each row; meaningless where there is no value."""

    def between(self, low: float, high: float) -> NDArray[np.bool_]:
        """Return which rows have a key (or one of several) with low <= key < high."""

    def equal(self, value: KeyRange) -> NDArray[np.bool_]:
        """Return which rows have the value (or have it among several)."""

    def texts_where(self, test: Callable[[NDArray[Any]], NDArray[np.bool_]]) -> NDArray[np.bool_]:
        """Return which rows have a folded text that passes a test over all distinct texts."""

    def item(self, row: int) -> Any:
        """Return the key or text of one row, a list of them, or None; types decode it."""


@dataclass(frozen=True)
class Numbers:
    """Single values that are numbers as they stand: int64 or float64 keys and a mask."""

    keys: NDArray[Any]
    valid: NDArray[np.bool_]

    def between(self, low: float, high: float) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        found: NDArray[np.bool_] = (self.keys >= low) & (self.keys < high) & self.valid
        return found

    def equal(self, value: KeyRange) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        return self.between(value.low, value.high)

    def texts_where(self, test: Callable[[NDArray[Any]], NDArray[np.bool_]]) -> NDArray[np.bool_]:
        """Numbers are no texts."""
        raise TypeError(test)

    def item(self, row: int) -> int | float | None:
        """See :class:`Column`."""
        return self.keys[row].item() if self.valid[row] else None


@dataclass(frozen=True)
class Dates(Numbers):
    """Instants in microseconds since 1970 (UTC), int64; ``whole`` marks days written without a time.

    ``ends`` are the instants at which the written day, hour or minute is over.
    """

    ends: NDArray[np.int64]
    whole: NDArray[np.bool_]


@dataclass(frozen=True)
class Texts:
    """Single texts, coded by a dictionary of the distinct folded ones.

    ``codes`` are int32, -1 where there is none; ``shown`` holds the text of each row as it was
    written, ``distinct`` the folded texts by code.
    """

    codes: NDArray[np.int32]
    shown: Sequence[str]
    distinct: Sequence[str]

    @cached_property
    def valid(self) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        found: NDArray[np.bool_] = self.codes >= 0
        return found

    @cached_property
    def sort_keys(self) -> list[str]:
        """The sort key of each distinct text."""
        return [sort_key(text) for text in self.distinct]

    @cached_property
    def order(self) -> list[str]:
        """The sort keys in their order."""
        return sorted(self.sort_keys)

    @cached_property
    def keys(self) -> NDArray[np.int64]:
        """Ranks of collation."""
        rank = {key: position for position, key in enumerate(self.order)}
        ranks = np.array([rank[key] for key in self.sort_keys] or [0], dtype=np.int64)
        return ranks[self.codes]

    @cached_property
    def code_of(self) -> dict[str, int]:
        """The code of each distinct text."""
        return {text: code for code, text in enumerate(self.distinct)}

    @cached_property
    def searchable(self) -> NDArray[Any]:
        """The distinct texts as an array that NumPy's string functions read."""
        return np.array(list(self.distinct), dtype=np.dtypes.StringDType())

    def rank(self, folded: str) -> tuple[int, int]:
        """Return the range [low, high) of a text; empty, at the place it would have, where no row has it."""
        key = sort_key(folded)
        low = bisect_left(self.order, key)
        return low, low + (low < len(self.order) and self.order[low] == key)

    def between(self, low: float, high: float) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        found: NDArray[np.bool_] = (self.keys >= low) & (self.keys < high) & self.valid
        return found

    def equal(self, value: KeyRange) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        found: NDArray[np.bool_] = self.codes == self.code_of.get(value.text, len(self.distinct))
        return found

    def texts_where(self, test: Callable[[NDArray[Any]], NDArray[np.bool_]]) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        passed = np.append(test(self.searchable), False)  # the last one serves the code -1
        found: NDArray[np.bool_] = passed[self.codes]
        return found

    def item(self, row: int) -> str | None:
        """See :class:`Column`."""
        return self.shown[row] if self.codes[row] >= 0 else None

    @classmethod
    def of(cls, values: Sequence[str | None]) -> Texts:
        """Return the column of some texts; None and blank texts are missing."""
        codes = np.full(len(values), -1, dtype=np.int32)
        seen: dict[str, int] = {}
        for row, value in enumerate(values):
            if value and not value.isspace():
                codes[row] = seen.setdefault(fold(value), len(seen))
        return cls(codes, [value or "" for value in values], list(seen))


@dataclass(frozen=True)
class Lists:
    """Several values in a row: ``starts`` (one more than rows) cut ``elements`` into the rows' lists."""

    starts: NDArray[np.int64]
    elements: Numbers | Texts

    @cached_property
    def owners(self) -> NDArray[np.int64]:
        """The row of each element."""
        return np.repeat(np.arange(len(self.starts) - 1), np.diff(self.starts))

    @cached_property
    def valid(self) -> NDArray[np.bool_]:
        """Which rows have at least one value."""
        return self.rows_with(self.elements.valid)

    @property
    def keys(self) -> NDArray[Any]:
        """A list has no single key."""
        raise TypeError(self)

    def rows_with(self, chosen: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Return which rows own one of the chosen elements."""
        mask = np.zeros(len(self.starts) - 1, dtype=np.bool_)
        mask[self.owners[chosen]] = True
        return mask

    def between(self, low: float, high: float) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        return self.rows_with(self.elements.between(low, high))

    def equal(self, value: KeyRange) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        return self.rows_with(self.elements.equal(value))

    def texts_where(self, test: Callable[[NDArray[Any]], NDArray[np.bool_]]) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        return self.rows_with(self.elements.texts_where(test))

    def item(self, row: int) -> list[Any]:
        """See :class:`Column`."""
        found = (self.elements.item(at) for at in range(self.starts[row], self.starts[row + 1]))
        return [value for value in found if value is not None]


@dataclass(frozen=True)
class Terms:
    """The terms of each row, kept both ways round: terms by row, and rows by term (posting lists).

    Terms are numbered depth first, so that a term and its descendants are one range of numbers and
    their rows one slice of ``postings``.
    """

    starts: NDArray[np.int64]  # rows + 1
    terms: NDArray[np.int32]  # terms of each row, ascending
    posting_starts: NDArray[np.int64]  # terms + 1
    postings: NDArray[np.int32]  # rows of each term, ascending

    @cached_property
    def valid(self) -> NDArray[np.bool_]:
        """Which rows have at least one term."""
        found: NDArray[np.bool_] = np.diff(self.starts) > 0
        return found

    @property
    def keys(self) -> NDArray[Any]:
        """A row may have several terms, and so no single key."""
        raise TypeError(self)

    def between(self, low: float, high: float) -> NDArray[np.bool_]:
        """Return which rows have a term numbered low <= number < high."""
        mask = np.zeros(len(self.starts) - 1, dtype=np.bool_)
        mask[self.postings[self.posting_starts[int(low)] : self.posting_starts[int(high)]]] = True
        return mask

    def equal(self, value: KeyRange) -> NDArray[np.bool_]:
        """See :class:`Column`."""
        return self.between(value.low, value.high)

    def texts_where(self, test: Callable[[NDArray[Any]], NDArray[np.bool_]]) -> NDArray[np.bool_]:
        """Terms are no texts."""
        raise TypeError(test)

    def item(self, row: int) -> list[int]:
        """See :class:`Column`."""
        found: list[int] = self.terms[self.starts[row] : self.starts[row + 1]].tolist()
        return found

    @classmethod
    def of(cls, rows: Sequence[Sequence[int]], terms: int) -> Terms:
        """Return the column of the term numbers of each row, out of so many terms."""
        starts = np.cumsum([0, *(len(row) for row in rows)], dtype=np.int64)
        flat = np.array([term for row in rows for term in sorted(row)], dtype=np.int32)
        owners = np.repeat(np.arange(len(rows), dtype=np.int32), np.diff(starts))
        counts = np.bincount(flat, minlength=terms)
        return cls(starts, flat, np.append(0, np.cumsum(counts)), owners[np.argsort(flat, kind="stable")])
