"""The rows that share terms with each of many entries, put in order for all of these at once.

Each page of a set of entries asks for those that are most like its own. Asked one by one, each of these
questions counts and sorts; here the rows stand in the order of their ties once, and what is counted for some
hundred entries lies in one table, of which the largest numbers are wanted.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from elenchus.engine.columns.column import Terms, narrowed
from elenchus.engine.order import Ordering
from elenchus.plan.nodes import RelatednessOrder
from elenchus.schema.subject import ENTRIES

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.rowset import RowSet
    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import FieldRef, Plan, SharesTerms

__all__ = ["Foremost", "foremost_alike"]

_CELLS = 2_000_000  # entries times rows that are looked at together
_MOST_ROWS = 100_000  # beyond which a table of counts costs more than to sort the rows that share a term
_MOST_WANTED = 64


class Foremost(NamedTuple):
    """The first rows of an answer in their order, and how many rows there are before offset and limit."""

    rows: NDArray[np.intp]
    found: int


class _Sought(NamedTuple):
    """An entry to which rows are to be related, and the rows that are left out."""

    likeness: SharesTerms
    without: NDArray[np.intp] | None


def foremost_alike(
    plan: Plan,
    selection: Selection,
    among: RowSet,
    likenesses: Sequence[SharesTerms],
    without: Sequence[NDArray[np.intp] | None],
) -> list[Foremost] | None:
    """Return for each of several entries the first rows related to it, of some rows, as a plan orders them.

    The likenesses differ in their entries only. None where the rows are better found one entry at a time.
    """
    ends = [each for each in (plan.limit, plan.per_page) if each is not None]
    wanted = plan.offset + min(ends, default=_MOST_WANTED + 1)
    is_usual = plan.is_plain and not plan.empty and wanted <= _MOST_WANTED and among.count <= _MOST_ROWS
    rest = [key for key in plan.order if not isinstance(key, RelatednessOrder)]
    by_count = len(rest) < len(plan.order)
    if not is_usual or (by_count and not isinstance(plan.order[0], RelatednessOrder)):
        return None
    found = _Alike(selection, Ordering(selection, among, rest).all, by_count=by_count)
    asked = list(map(_Sought, likenesses, without))
    step = max(1, _CELLS // max(1, len(found.rows)))
    parts = (asked[at : at + step] for at in range(0, len(asked), step))
    return [each for part in parts for each in found.foremost(part, wanted)]


class _Alike:
    """Rows in the order in which they follow one another where they are equally alike."""

    def __init__(self, selection: Selection, rows: NDArray[np.intp], *, by_count: bool) -> None:
        self.selection = selection
        self.rows = rows
        self.by_count = by_count
        self.places = np.full(len(selection), -1)
        self.places[rows] = np.arange(len(rows))
        self.known: dict[tuple[FieldRef, int], NDArray[np.int64]] = {}

    def with_terms_of(self, likeness: SharesTerms) -> Iterator[NDArray[np.int64]]:
        """Yield for each term of an entry the places of the rows that have it."""
        entry = self.selection.view.data.row_of(ENTRIES, likeness.entry)
        for field in likeness.fields if entry >= 0 else ():
            column = narrowed(self.selection.view.column(field), Terms)
            for term in column.item(entry):
                if (field, term) not in self.known:
                    first, last = column.posting_starts[term : term + 2].tolist()
                    self.known[field, term] = self.among(column.postings[first:last])
                yield self.known[field, term]

    def among(self, rows: NDArray[np.intp]) -> NDArray[np.int64]:
        """Return the places of rows, as far as they have one."""
        found = self.places[rows]
        return found[found >= 0]

    def foremost(self, asked: Sequence[_Sought], wanted: int) -> Iterator[Foremost]:
        """Yield for each entry the rows that are most like it, as many as are wanted."""
        size = len(self.rows)
        scores = np.zeros((len(asked), size), dtype=np.int64)
        for mine, (likeness, _) in zip(scores, asked, strict=True):
            for places in self.with_terms_of(likeness):
                mine[places] += 1
        if not self.by_count:
            np.minimum(scores, 1, out=scores)
        is_alike = scores > 0
        scores *= size
        scores += np.arange(size - 1, -1, -1)  # of rows that are equally alike the first has most
        scores[~is_alike] = -1
        for mine, (likeness, without) in zip(scores, asked, strict=True):
            itself = self.selection.view.data.row_of(ENTRIES, likeness.entry)
            mine[self.among(np.array([itself] if itself >= 0 else [], dtype=np.intp))] = -1
            if without is not None:
                mine[self.among(without)] = -1
        counts = np.count_nonzero(scores >= 0, axis=1).tolist()
        first = np.argpartition(-scores, wanted, axis=1)[:, :wanted] if wanted < size else None
        for at, (mine, count) in enumerate(zip(scores, counts, strict=True)):
            places = np.arange(size) if first is None else first[at]
            ordered = places[np.argsort(-mine[places])]
            yield Foremost(self.rows[ordered[: min(count, wanted)]], count)
