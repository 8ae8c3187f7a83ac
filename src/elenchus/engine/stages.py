"""The first half of the pipeline: from → visible → where → order → offset → limit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.order import leading, ordered, varied
from elenchus.engine.select import Selection
from elenchus.engine.view import View
from elenchus.plan.nodes import AllOf, AnyOf, ListedIn, Negation

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.plan.nodes import Condition, Fill, Plan, Rows
    from elenchus.table.columns import Mask
    from elenchus.table.dataset import Dataset
    from elenchus.values.dates import Clock

__all__ = ["Stages", "select", "selection_of"]


@dataclass(frozen=True)
class Stages:
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


def select(
    plan: Plan,
    data: Dataset,
    clock: Clock,
    *,
    besides: int | None = None,
    without: NDArray[np.intp] | None = None,
) -> Stages:
    """Return the rows of a plan, with the steps on the way.

    ``besides`` is a row let in whatever it has; ``without`` are rows left out before offset and limit.
    """
    selection = selection_of(plan, data, clock, besides=besides)
    size = len(selection.view.ids(plan.taxonomy))
    visible = selection.view.visible_terms(plan.taxonomy) if plan.taxonomy else selection.view.visible
    if plan.source:  # whatever their kind: what leads a listing, or fills it up, may be of another
        asked = visible & selection.among(plan.source)
    else:
        asked = visible if plan.taxonomy else visible & of_kinds(data, plan.kinds)
    matched = asked & selection.rows(plan.condition) if plan.condition else asked.copy()
    if plan.empty:
        matched[:] = False
    if besides is not None:
        matched[besides] = True
    kept = np.ones(size, np.bool_)
    if without is not None:
        kept[without] = False
    found = ordered(selection, np.flatnonzero(matched & kept), plan.order)
    if plan.lead:
        found = leading(found, plan.lead, visible & kept)
    if plan.at_most:
        found = varied(selection, found, plan.at_most)
    rows = found[plan.offset :][: plan.limit]
    more = filling(plan.fill, selection, rows, visible & kept) if plan.fill else rows[:0]
    return Stages(
        selection, asked, matched, matched & ~kept, found, np.concatenate((rows, more)), filled=len(more)
    )


def of_kinds(data: Dataset, kinds: Sequence[int]) -> Mask:
    """Return which entries are of some kinds."""
    wanted = np.zeros(len(data.kind_names), np.bool_)
    wanted[list(kinds)] = True
    found: Mask = wanted[data.entries.kinds]
    return found


def filling(fill: Fill, selection: Selection, rows: NDArray[np.intp], allowed: Mask) -> NDArray[np.intp]:
    """Return the rows that fill an answer up, in their own order: none that is there already."""
    missing = max(0, fill.at_least - len(rows))
    candidates = selection.listed[fill.rows]
    free = allowed[candidates] & ~np.isin(candidates, rows)
    return candidates[free][:missing]


def selection_of(plan: Plan, data: Dataset, clock: Clock, *, besides: int | None = None) -> Selection:
    """Return what the conditions of a plan are asked of, with the rows of the listings that it names."""
    view = View(data, clock.now, plan.unpublished, None if plan.taxonomy else besides)
    listed = {rows: select(rows.plan, data, clock).rows for rows in dict.fromkeys(named_rows(plan))}
    return Selection(view, plan.taxonomy, listed)


def named_rows(plan: Plan) -> Iterator[Rows]:
    """Yield the listings that a plan names."""
    if plan.source:
        yield plan.source
    if plan.fill:
        yield plan.fill.rows
    yield from rows_in(plan.condition)


def rows_in(condition: Condition | None) -> Iterator[Rows]:
    """Yield the listings that a condition names."""
    match condition:
        case ListedIn():
            yield condition.rows
        case Negation():
            yield from rows_in(condition.part)
        case AllOf() | AnyOf():
            for part in condition.parts:
                yield from rows_in(part)
        case _:
            return
