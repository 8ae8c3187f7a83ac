"""The first half of the pipeline: from → visible → where → order → offset → limit."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.order import leading, ordered, varied
from elenchus.frozen import Frozen
from elenchus.plan.nodes import ListedIn
from elenchus.plan.walking import walk

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.select import Selection
    from elenchus.plan.nodes import Fill, Plan, Rows

__all__ = ["Stages", "lead_rows", "named_rows", "of_kinds", "select"]


class Stages(Frozen):
    """What a plan leaves, step by step: masks over all rows, then the numbers of rows in order.

    ``asked`` are visible rows of the kinds asked, or of the listing asked; ``matched`` those that meet
    the condition, ``repeated`` those of them that are left out because they stand elsewhere already.
    ``ordered`` is before, ``rows`` after offset and limit; the last ``filled`` of them fill the answer up.
    """

    selection: Selection
    asked: Mask
    matched: Mask
    repeated: Mask
    ordered: NDArray[np.intp]
    rows: NDArray[np.intp]
    filled: int = 0


def select(plan: Plan, selection: Selection, *, without: NDArray[np.intp] | None = None) -> Stages:
    """Return the rows of a plan, with the steps on the way.

    ``without`` are rows left out before offset and limit.
    """
    view = selection.view
    size = len(view.ids(plan.subject))
    visible = view.seen(plan.subject)
    if plan.source:  # whatever their kind: what leads a listing, or fills it up, may be of another
        asked = visible & selection.among(plan.source)
    else:
        asked = visible if plan.subject.is_terms else visible & of_kinds(view.data, plan.kinds)
    matched = asked & selection.rows(plan.condition) if plan.condition else asked.copy()
    if plan.empty:
        matched[:] = False
    kept = np.ones(size, np.bool_)
    if without is not None:
        kept[without] = False
    found = ordered(selection, np.flatnonzero(matched & kept), plan.order)
    if plan.lead:
        found = leading(found, lead_rows(plan, view.data), visible & kept)
    if plan.at_most:
        found = varied(selection, found, plan.at_most)
    rows = found[plan.offset :][: plan.limit]
    more = _filling(plan.fill, selection, rows, visible & kept) if plan.fill else rows[:0]
    return Stages(
        selection, asked, matched, matched & ~kept, found, np.concatenate((rows, more)), filled=len(more)
    )


def lead_rows(plan: Plan, data: Dataset) -> list[int]:
    """Return the rows that lead, as far as this content has them."""
    return [row for name in plan.lead if (row := data.row_of(plan.subject, name)) >= 0]


def of_kinds(data: Dataset, kinds: Sequence[str]) -> Mask:
    """Return which entries are of some kinds."""
    wanted = np.array([name in kinds for name in data.kind_names], np.bool_)
    found: Mask = wanted[data.entries.kinds]
    return found


def _filling(fill: Fill, selection: Selection, rows: NDArray[np.intp], allowed: Mask) -> NDArray[np.intp]:
    """Return the rows that fill an answer up, in their own order: none that is there already."""
    missing = max(0, fill.at_least - len(rows))
    candidates = selection.listed[fill.rows]
    free = allowed[candidates] & ~np.isin(candidates, rows)
    return candidates[free][:missing]


def named_rows(plan: Plan) -> Iterator[Rows]:
    """Yield the listings that a plan names."""
    if plan.source:
        yield plan.source
    if plan.fill:
        yield plan.fill.rows
    yield from (each.rows for each in walk(plan.condition) if isinstance(each, ListedIn))
