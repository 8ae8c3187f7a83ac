"""The first half of the pipeline: from → visible → where → order → offset → limit, each when asked for."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.driving import meeting
from elenchus.engine.order import Ordering, leading, varied
from elenchus.engine.rowset import RowSet
from elenchus.frozen import Working
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.likeness import Foremost
    from elenchus.engine.select import Selection
    from elenchus.engine.watch import Watch
    from elenchus.plan.nodes import Condition, Fill, Plan

__all__ = ["Stages", "lead_rows", "select"]


class Stages(Working):
    """What a plan leaves, step by step.

    ``asked_rows`` are the visible rows of the kinds asked, or of the listing asked; ``without`` those that
    are left out because they stand elsewhere already. All else is worked out when it is asked for: masks
    over all rows, and rows by their numbers, in order.
    """

    plan: Plan
    selection: Selection
    asked_rows: RowSet
    without: NDArray[np.intp] | None = None
    watch: Watch | None = None

    @cached_property
    def matched_rows(self) -> RowSet:
        """The rows that meet the condition."""
        if self.plan.empty:
            return RowSet(self.asked_rows.size, rows=np.zeros(0, dtype=np.intp))
        return meeting(self.selection, self.plan.condition, self.asked_rows, self.note)

    def note(self, words: str, rows: int, part: Condition | None = None) -> None:
        """Note a step that is done, if somebody watches."""
        if self.watch:
            self.watch.note(words, rows, part)

    @cached_property
    def kept_rows(self) -> RowSet:
        """Those of them that are not left out."""
        return self.matched_rows.without(self.without)

    @property
    def asked(self) -> Mask:
        """The mask of the rows asked."""
        return self.asked_rows.mask

    @property
    def matched(self) -> Mask:
        """The mask of the rows that meet the condition."""
        return self.matched_rows.mask

    @cached_property
    def repeated(self) -> Mask:
        """The mask of those of them that are left out."""
        found: Mask = self.matched & ~self.kept_rows.mask
        return found

    @cached_property
    def kept_count(self) -> int:
        """How many these are."""
        return self.kept_rows.count

    def know(self, foremost: Foremost) -> None:
        """Take the first rows and their number as they were found together with those of other plans."""
        self.__dict__.update(foremost=foremost.rows, kept_count=foremost.found)

    @cached_property
    def foremost(self) -> NDArray[np.intp]:
        """The first rows in order, before offset and limit, where they are known already."""
        return np.zeros(0, dtype=np.intp)

    @cached_property
    def ordering(self) -> Ordering:
        """The rows in the order of the plan, but for those that lead."""
        return Ordering(self.selection, self.kept_rows, self.plan.order)

    @cached_property
    def ordered(self) -> NDArray[np.intp]:
        """All rows in order, before offset and limit."""
        found = self.ordering.between(0, self.kept_rows.count)
        leads = 0
        if self.plan.lead:
            found, leads = leading(found, lead_rows(self.plan, self.selection.view.data), self._allowed)
        if self.plan.at_most:
            found = varied(self.selection, found, self.plan.at_most, leads)
        return found

    @cached_property
    def _allowed(self) -> Mask:
        """The mask of the rows that may be shown here."""
        found = self.selection.view.seen(self.plan.subject).copy()
        if self.without is not None:
            found[self.without] = False
        return found

    @cached_property
    def _more(self) -> NDArray[np.intp]:
        """The rows that fill the answer up."""
        rows = self.ordered[self.plan.offset :][: self.plan.limit]
        return _filling(self.plan.fill, self.selection, rows, self._allowed) if self.plan.fill else rows[:0]

    @property
    def filled(self) -> int:
        """How many rows fill the answer up: the last ones."""
        return len(self._more) if self.plan.fill else 0

    @cached_property
    def rows(self) -> NDArray[np.intp]:
        """All rows of the answer in order, after offset and limit."""
        if self.plan.is_plain:
            return self.between(0, self.total)
        return np.concatenate((self.ordered[self.plan.offset :][: self.plan.limit], self._more))

    @cached_property
    def row_set(self) -> RowSet:
        """The rows of the answer in any order."""
        if self.plan.is_plain and not self.plan.offset and self.plan.limit is None:
            return self.kept_rows
        return RowSet(self.asked_rows.size, rows=np.sort(self.rows))

    @cached_property
    def total(self) -> int:
        """How many rows the answer has."""
        if not self.plan.is_plain:
            return len(self.rows)
        left = max(0, self.kept_count - self.plan.offset)
        return left if self.plan.limit is None else min(left, self.plan.limit)

    def between(self, first: int, last: int) -> NDArray[np.intp]:
        """Return the rows of the answer from a place up to another, without putting all others in order."""
        if not self.plan.is_plain:
            return self.rows[first:last]
        last = max(first, min(last, self.total))
        if 0 < self.plan.offset + last <= len(self.foremost):
            return self.foremost[self.plan.offset + first : self.plan.offset + last]
        found = self.ordering.between(self.plan.offset + first, self.plan.offset + last)
        self.note(self.ordering.way, len(found))
        return found


def select(
    plan: Plan,
    selection: Selection,
    *,
    without: NDArray[np.intp] | None = None,
    watch: Watch | None = None,
) -> Stages:
    """Return the steps of a plan; ``without`` are rows left out before offset and limit."""
    view = selection.view
    if plan.source:  # whatever their kind: what leads a listing, or fills it up, may be of another
        asked = RowSet(len(selection), mask=view.seen(plan.subject) & selection.among(plan.source))
    else:
        asked = view.asked(plan.subject, plan.kinds)
    found = Stages(plan, selection, asked, without, watch)
    found.note("rows that are asked and may be seen", asked.count)
    return found


def lead_rows(plan: Plan, data: Dataset) -> list[int]:
    """Return the rows that lead, as far as this content has them."""
    return [row for name in plan.lead if (row := data.row_of(plan.subject, name)) >= 0]


def _filling(fill: Fill, selection: Selection, rows: NDArray[np.intp], allowed: Mask) -> NDArray[np.intp]:
    """Return the rows that fill an answer up, in their own order: none that is there already."""
    missing = max(0, fill.at_least - len(rows))
    candidates = selection.listed[fill.rows]
    free = allowed[candidates] & ~np.isin(candidates, rows)
    return candidates[free][:missing]
