"""Columns: the values of one field for all rows, as NumPy arrays with a mask of what is there.

Every column turns values into *keys*, whole or real numbers in the order of the type: instants for
dates, positions for choices and terms, ranks of collation for texts. A comparison is then always the
same: which rows have a key in the half-open range [low, high)? Arrays have one item a row unless said
otherwise; a mask is a boolean array of one item a row.
"""

from __future__ import annotations

from math import inf
from typing import TYPE_CHECKING, Any, TypeAlias, TypeVar

import numpy as np
from numpy.typing import NDArray

from elenchus.engine.columns.lexicon import Lexicon
from elenchus.frozen import Working
from elenchus.values.kept import Kept, cached_property
from elenchus.values.patterns import searcher

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.operators.column import KeyRange

_FEW = 16  # share of the texts that are looked up one by one
_MOST_MASKS = 64  # of ranges of terms: a byte a row each

__all__ = [
    "Column",
    "Dates",
    "Keys",
    "Lists",
    "Mask",
    "Numbers",
    "Terms",
    "Texts",
    "gather",
    "narrowed",
    "single_of",
]

Mask: TypeAlias = NDArray[np.bool_]
Keys: TypeAlias = NDArray[Any]


class Column(Working):
    """What the operators and the engine ask of a column."""

    if TYPE_CHECKING:

        @property
        def valid(self) -> Any:
            """Which rows have a value."""

    def between(self, low: float, high: float) -> Mask:
        """Return which rows have a key (or one of several) with low <= key < high."""
        raise NotImplementedError

    def take(self, rows: Keys, valid: Mask) -> Column:
        """Return the column of some rows, in that order; nothing where ``valid`` says so."""
        raise NotImplementedError

    def at(self, rows: Keys) -> Column:
        """Return the column of some rows for comparisons: what only reading back needs may be left out."""
        return self.take(rows, np.ones(len(rows), np.bool_))

    def item(self, row: int) -> Any:
        """Return the key or text of one row, a list of them, or None; types decode it."""
        raise NotImplementedError

    def equal(self, value: KeyRange) -> Mask:
        """Return which rows have the value (or have it among several)."""
        return self.between(value.low, value.high)

    def present(self) -> Mask:
        """Return which rows have a value."""
        found: Mask = self.valid
        return found

    def missing(self) -> Mask:
        """Return which rows have none."""
        found: Mask = ~self.valid
        return found

    def contains(self, part: str) -> Mask:
        """Return which rows have a folded text with a part in it."""
        raise TypeError(part)

    def starts_with(self, part: str) -> Mask:
        """Return which rows have a folded text that begins with a part."""
        raise TypeError(part)

    def ends_with(self, part: str) -> Mask:
        """Return which rows have a folded text that ends with a part."""
        raise TypeError(part)

    def matches(self, pattern: str) -> Mask:
        """Return which rows have a text, as it was written, in which a pattern is found."""
        raise TypeError(pattern)


class Numbers(Column):
    """Single values that are numbers as they stand: int64 or float64 keys and a mask."""

    keys: Keys
    valid: Mask

    def between(self, low: float, high: float) -> Mask:
        """See :class:`Column`."""
        return _within(self.keys, low, high, self.valid)

    def take(self, rows: Keys, valid: Mask) -> Numbers:
        """See :class:`Column`."""
        return Numbers(self.keys[rows], valid & self.valid[rows])

    def at(self, rows: Keys) -> Numbers:
        """See :class:`Column`."""
        return Numbers(self.keys[rows], self.valid[rows])

    def item(self, row: int) -> int | float | None:
        """See :class:`Column`."""
        return self.keys[row].item() if self.valid[row] else None


class Dates(Numbers):
    """Instants in microseconds since 1970 (UTC), int64.

    ``local`` is the same on the clock of the site's zone, without its offset; ``ends`` are the instants
    at which the written day, hour or minute is over; ``whole`` marks days written without a time.
    """

    local: NDArray[np.int64]
    ends: NDArray[np.int64]
    whole: Mask

    def take(self, rows: Keys, valid: Mask) -> Dates:
        """See :class:`Column`."""
        known = valid & self.valid[rows]
        return Dates(self.keys[rows], known, self.local[rows], self.ends[rows], self.whole[rows])


class Texts(Column):
    """Single texts: the place of each row's text in a lexicon, int32; -1 where there is none."""

    places: NDArray[np.int32]
    lexicon: Lexicon

    @cached_property
    def valid(self) -> Mask:
        """See :class:`Column`."""
        found: Mask = self.places >= 0
        return found

    @cached_property
    def codes(self) -> NDArray[np.int32]:
        """The same number for the same texts, -1 where there is none."""
        return self.lexicon.codes[self.places]

    @cached_property
    def keys(self) -> NDArray[np.int32]:
        """Ranks of collation."""
        return self.lexicon.ranks[self.places]

    @cached_property
    def natural_keys(self) -> NDArray[np.int32]:
        """Ranks of collation with the numbers inside the texts read as numbers."""
        return self.lexicon.natural_ranks[self.places]

    def between(self, low: float, high: float) -> Mask:
        """See :class:`Column`."""
        return _within(self.keys, low, high, self.valid)

    def equal(self, value: KeyRange) -> Mask:
        """See :class:`Column`."""
        code = self.lexicon.find(value.text)
        return np.zeros(len(self.places), np.bool_) if code < 0 else self.codes == code

    def contains(self, part: str) -> Mask:
        """See :class:`Column`."""
        return self._among(self.lexicon.containing(part))

    def starts_with(self, part: str) -> Mask:
        """See :class:`Column`."""
        return self._among(self.lexicon.folded.beginning(part))

    def ends_with(self, part: str) -> Mask:
        """See :class:`Column`."""
        return self._among(self.lexicon.folded.ending(part))

    def matches(self, pattern: str) -> Mask:
        """See :class:`Column`."""
        used = np.flatnonzero(np.bincount(self.places[self.valid], minlength=len(self.lexicon)))
        test = searcher(pattern)
        passed = np.fromiter(map(test, self.lexicon.texts.at(used)), dtype=np.bool_, count=len(used))
        return self._among(used[passed])

    @cached_property
    def rows_of(self) -> NDArray[np.intp] | None:
        """The row of each text, -1 for one that no row has; None where several rows have the same one."""
        rows = np.flatnonzero(self.valid)
        found = np.full(len(self.lexicon), -1, dtype=np.intp)
        found[self.places[rows]] = rows
        return found if (found[self.places[rows]] == rows).all() else None

    def _among(self, chosen: Keys) -> Mask:
        """Return which rows have one of some texts of the lexicon."""
        if len(chosen) * _FEW < len(self.places) and self.rows_of is not None:
            mask = np.zeros(len(self.places), np.bool_)
            rows = self.rows_of[chosen]
            mask[rows[rows >= 0]] = True
            return mask
        passed = np.zeros(len(self.lexicon) + 1, np.bool_)  # the last one serves the place -1
        passed[chosen] = True
        found: Mask = passed[self.places]
        return found

    def at(self, rows: Keys) -> Texts:
        """See :class:`Column`."""
        return Texts(self.places[rows], self.lexicon)

    def take(self, rows: Keys, valid: Mask) -> Texts:
        """See :class:`Column`."""
        return Texts(np.where(valid, self.places[rows], -1).astype(np.int32), self.lexicon)

    def item(self, row: int) -> str | None:
        """See :class:`Column`."""
        place = int(self.places[row])
        return None if place < 0 else self.lexicon.texts[place]

    @classmethod
    def of(cls, values: Sequence[str | None]) -> Texts:
        """Return the column of some texts; None and blank texts are missing."""
        places = np.full(len(values), -1, dtype=np.int32)
        seen: dict[str, int] = {}
        for row, value in enumerate(values):
            if value and not value.isspace():
                places[row] = seen.setdefault(value, len(seen))
        return cls(places, Lexicon.of(list(seen)))


_Kind = TypeVar("_Kind", bound=Column)


def _within(keys: Keys, low: float, high: float, valid: Mask) -> Mask:
    """Return which keys are low <= key < high, and valid; a bound that bounds nothing costs nothing."""
    found: Mask
    if high == low + 1 and keys.dtype.kind == "i":
        found = keys == low
    elif low == -inf:
        found = keys < high
    else:
        found = keys >= low
        if high != inf:
            found &= keys < high
    found &= valid
    return found


def narrowed(column: Column, kind: type[_Kind]) -> _Kind:
    """Return a column that is of a kind, such as single numbers. Raises TypeError for any other."""
    if not isinstance(column, kind):
        raise TypeError(f"a column of {kind.__name__} is needed, and it is one of {type(column).__name__}")
    return column


def single_of(column: Column) -> Numbers | Texts:
    """Return a column of single values, numbers or texts. Raises TypeError for any other."""
    return column if isinstance(column, Texts) else narrowed(column, Numbers)


def gather(starts: NDArray[np.int64], rows: Keys, valid: Mask) -> tuple[NDArray[np.int64], Keys]:
    """Return the starts of the lists of some rows, and the places of their elements, for a take."""
    lengths = np.where(valid, np.diff(starts)[rows], 0)
    taken = np.concatenate(([0], np.cumsum(lengths)))
    return taken, np.repeat(starts[:-1][rows] - taken[:-1], lengths) + np.arange(taken[-1])


class Lists(Column):
    """Several values in a row: ``starts`` (one more than rows) cut ``elements`` into the rows' lists."""

    starts: NDArray[np.int64]
    elements: Numbers | Texts

    @cached_property
    def owners(self) -> NDArray[np.int64]:
        """The row of each element."""
        return np.repeat(np.arange(len(self.starts) - 1), np.diff(self.starts))

    @cached_property
    def valid(self) -> Mask:
        """Which rows have at least one value."""
        return self.rows_with(self.elements.valid)

    def rows_with(self, chosen: Mask) -> Mask:
        """Return which rows own one of the chosen elements."""
        mask = np.zeros(len(self.starts) - 1, dtype=np.bool_)
        mask[self.owners[chosen]] = True
        return mask

    def between(self, low: float, high: float) -> Mask:
        """See :class:`Column`."""
        return self.rows_with(self.elements.between(low, high))

    def equal(self, value: KeyRange) -> Mask:
        """See :class:`Column`."""
        return self.rows_with(self.elements.equal(value))

    def contains(self, part: str) -> Mask:
        """See :class:`Column`."""
        return self.rows_with(self.elements.contains(part))

    def starts_with(self, part: str) -> Mask:
        """See :class:`Column`."""
        return self.rows_with(self.elements.starts_with(part))

    def ends_with(self, part: str) -> Mask:
        """See :class:`Column`."""
        return self.rows_with(self.elements.ends_with(part))

    def matches(self, pattern: str) -> Mask:
        """See :class:`Column`."""
        return self.rows_with(self.elements.matches(pattern))

    def take(self, rows: Keys, valid: Mask) -> Lists:
        """See :class:`Column`."""
        starts, places = gather(self.starts, rows, valid)
        return Lists(starts, self.elements.take(places, np.ones(len(places), np.bool_)))

    def item(self, row: int) -> list[Any]:
        """See :class:`Column`."""
        found = (self.elements.item(at) for at in range(self.starts[row], self.starts[row + 1]))
        return [value for value in found if value is not None]


class Terms(Column):
    """The terms of each row, kept both ways round: terms by row, and rows by term (posting lists).

    Terms are numbered depth first, so that a term and its descendants are one range of numbers and
    their rows one slice of ``postings``.
    """

    starts: NDArray[np.int64]  # rows + 1
    terms: NDArray[np.int32]  # terms of each row, ascending
    posting_starts: NDArray[np.int64]  # terms + 1
    postings: NDArray[np.intp]  # rows of each term, ascending

    @cached_property
    def valid(self) -> Mask:
        """Which rows have at least one term."""
        found: Mask = np.diff(self.starts) > 0
        return found

    @cached_property
    def lists(self) -> Lists:
        """The same values as lists of numbers."""
        return Lists(self.starts, Numbers(self.terms, np.ones(len(self.terms), np.bool_)))

    @cached_property
    def masks(self) -> Kept[Mask]:
        """The masks of the ranges of terms that were asked last."""
        return Kept(_MOST_MASKS)

    def between(self, low: float, high: float) -> Mask:
        """Return which rows have a term numbered low <= number < high."""
        return self.masks.get((low, high), lambda: self._masked(int(low), int(high)))

    def _masked(self, low: int, high: int) -> Mask:
        """Return the mask of a range of terms."""
        mask = np.zeros(len(self.starts) - 1, dtype=np.bool_)
        mask[self.postings[self.posting_starts[low] : self.posting_starts[high]]] = True
        mask.flags.writeable = False
        return mask

    def at(self, rows: Keys) -> _TermsOf:
        """See :class:`Column`."""
        return _TermsOf(self, rows)

    def take(self, rows: Keys, valid: Mask) -> Lists:
        """See :class:`Column`."""
        return self.lists.take(rows, valid)

    def item(self, row: int) -> list[int]:
        """See :class:`Column`."""
        found: list[int] = self.terms[self.starts[row] : self.starts[row + 1]].tolist()
        return found

    @classmethod
    def paired(cls, starts: NDArray[np.int64], flat: NDArray[np.int32], terms: int) -> Terms:
        """Return the column of the terms of each row, cut by ``starts`` and ascending in each row."""
        owners = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
        counts = np.bincount(flat, minlength=terms)
        postings = owners[np.argsort(flat, kind="stable")]
        return cls(starts, flat, np.concatenate(([0], np.cumsum(counts))), postings)


class _TermsOf(Column):
    """The terms of some rows, to be compared only."""

    terms: Terms
    rows: Keys

    @cached_property
    def valid(self) -> Mask:
        """See :class:`Column`."""
        found: Mask = self.terms.valid[self.rows]
        return found

    def between(self, low: float, high: float) -> Mask:
        """See :class:`Column`."""
        found: Mask = self.terms.between(low, high)[self.rows]
        return found

    def item(self, row: int) -> list[int]:
        """See :class:`Column`."""
        return self.terms.item(int(self.rows[row]))
