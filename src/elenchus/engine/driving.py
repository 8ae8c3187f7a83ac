"""Which rows meet a condition, from its rarest part on: the others are asked of what that leaves only."""

from __future__ import annotations

from math import inf
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.column import Dates, Terms
from elenchus.engine.columns.distinct import each_once
from elenchus.engine.ranges import key_range
from elenchus.engine.rowset import RowSet
from elenchus.operators import operator
from elenchus.plan.nodes import AnyOf, FieldRef, ListedIn, SharesTerms, Test
from elenchus.plan.walking import parts
from elenchus.schema.types import CORE_FIELDS

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.select import Selection
    from elenchus.operators.column import KeyRange
    from elenchus.plan.nodes import Condition

__all__ = ["meeting"]

_FEW = 8  # a part is looked at first where it leaves at most this share of the rows
_DATE = FieldRef("date", CORE_FIELDS["date"].type)
_SMALL = 1024  # rows of a table up to which masks over all of them cost least


def meeting(
    selection: Selection,
    condition: Condition | None,
    asked: RowSet,
    note: Callable[[str, int, Condition | None], None],
) -> RowSet:
    """Return the rows, of those asked, that meet a condition; ``note`` hears each step and what it leaves."""
    if condition is None:
        return asked
    wanted = parts(condition)
    first, lead = _rarest(selection, wanted) if asked.size > _SMALL else (-1, None)
    if lead is None:
        found = RowSet(asked.size, mask=asked.mask & selection.rows(condition))
        note("masks over all rows", found.count, None)
        return found
    rows = lead.rows()
    seen = np.flatnonzero(asked.mask[rows])
    left = seen + rows.start if isinstance(rows, slice) else rows[seen]
    note(lead.words, len(left), wanted[first])
    for number, part in enumerate(wanted):
        if number != first and len(left):
            left = left[np.flatnonzero(selection.at(left).rows(part))]
            note("of these", len(left), part)
    return RowSet(asked.size, rows=left)


def _rarest(selection: Selection, wanted: Sequence[Condition]) -> tuple[int, _Lead | None]:
    """Return the place of the part that leaves the fewest rows, and these, if those are few."""
    leads = [(number, lead) for number, part in enumerate(wanted) if (lead := _lead(selection, part))]
    number, lead = min(leads, key=lambda pair: pair[1].size, default=(-1, None))
    return (number, lead) if lead and lead.size * _FEW <= len(selection) else (-1, None)


class _NoLeadError(Exception):
    """What an operator asks cannot be had as a list of rows."""


class _Lead:
    """Rows that a part of a condition leaves: how many at the most, and what gives them, ascending.

    To an operator it is a mask like any other.
    """

    words = "a list of rows"

    def __init__(self, size: int, rows: Callable[[], NDArray[Any] | slice]) -> None:
        self.size = size
        self.rows = rows

    def __or__(self, other: _Lead) -> _Lead:
        return _Lead(self.size + other.size, lambda: _merged([self.array(), other.array()]))

    def __and__(self, other: _Lead) -> _Lead:
        return _Lead(
            min(self.size, other.size),
            lambda: np.intersect1d(self.array(), other.array(), assume_unique=True),
        )

    def __invert__(self) -> _Lead:
        raise _NoLeadError

    def array(self) -> NDArray[Any]:
        """Return the rows by their numbers."""
        found = self.rows()
        return np.arange(found.start, found.stop) if isinstance(found, slice) else found


class _Span(_Lead):
    """Rows that stand side by side."""

    words = "a range of dates, newest first"

    def __init__(self, first: int, last: int) -> None:
        super().__init__(max(0, last - first), lambda: slice(first, max(first, last)))


def _merged(lists: Sequence[NDArray[Any]]) -> NDArray[Any]:
    """Return the rows of several lists, each once, ascending."""
    return each_once(np.sort(np.concatenate(lists)))


class _Postings:
    """A column of terms that answers an operator with lists of rows."""

    def __init__(self, column: Terms) -> None:
        self.column = column

    def equal(self, value: KeyRange) -> _Lead:
        """Return the rows with a term."""
        return self.between(value.low, value.high)

    def between(self, low: float, high: float) -> _Lead:
        """Return the rows with a term numbered low <= number < high."""
        column = self.column
        count = len(column.posting_starts) - 1
        low, high = int(max(0, min(low, count))), int(max(0, min(high, count)))
        first, last = column.posting_starts[low].item(), column.posting_starts[high].item()
        found = column.postings[first:last]
        return _Lead(last - first, lambda: found if high - low == 1 else _merged([found]))

    def __getattr__(self, name: str) -> Any:
        raise _NoLeadError(name)


class _Newest:
    """The dates of entries, newest first, that answer an operator with ranges of rows."""

    def __init__(self, column: Dates) -> None:
        self.oldest_first = column.keys[: int(np.count_nonzero(column.valid))][::-1]

    def equal(self, value: KeyRange) -> _Lead:
        """Return the rows with a date in an interval."""
        return self.between(value.low, value.high)

    def between(self, low: float, high: float) -> _Lead:
        """Return the rows with a date low <= date < high."""
        count = len(self.oldest_first)
        first = 0 if high == inf else count - int(np.searchsorted(self.oldest_first, high))
        last = count if low == -inf else count - int(np.searchsorted(self.oldest_first, low))
        return _Span(first, last)

    def __getattr__(self, name: str) -> Any:
        raise _NoLeadError(name)


def _lead(selection: Selection, part: Condition) -> _Lead | None:
    """Return the rows that a part leaves, None where they cannot be had without looking at all rows."""
    match part:
        case Test(negated=False):
            return _of_test(selection, part)
        case SharesTerms():
            return _Lead(selection.sharing_size(part), lambda: selection.sharing(part)[0])
        case ListedIn():
            rows = selection.listed[part.rows]
            return _Lead(len(rows), lambda: np.sort(rows))
        case AnyOf():
            leads = [_lead(selection, each) for each in part.parts]
            known = [lead for lead in leads if lead]
            if len(known) < len(leads):
                return None
            return _Lead(sum(lead.size for lead in known), lambda: _merged([lead.array() for lead in known]))
        case _:
            return None


def _of_test(selection: Selection, test: Test) -> _Lead | None:
    """Return the rows that a comparison leaves, as an operator makes them of lists."""
    column = selection.column(test.field)
    asked: Any
    if isinstance(column, Terms):
        asked = _Postings(column)
    elif selection.is_newest_first and test.field == _DATE and isinstance(column, Dates):
        asked = _Newest(column)
    else:
        return None
    values = [key_range(selection.view.data, column, test.field.type, value) for value in test.values]
    try:
        found: _Lead = operator(test.operator).rows(asked, values)
    except _NoLeadError:
        return None
    return found
