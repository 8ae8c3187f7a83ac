"""The first half of the pipeline: from → visible → where → order → offset → limit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.order import leading, ordered, varied
from elenchus.engine.select import Selection
from elenchus.engine.view import View

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from elenchus.plan.nodes import Plan
    from elenchus.table.columns import Mask
    from elenchus.table.dataset import Dataset
    from elenchus.values.dates import Clock

__all__ = ["Stages", "select"]


@dataclass(frozen=True)
class Stages:
    """What a plan leaves, step by step: masks over all rows, then the numbers of rows in order.

    ``asked`` are visible rows of the kinds asked, ``matched`` those that meet the condition; ``ordered``
    is before, ``rows`` after offset and limit.
    """

    selection: Selection
    asked: Mask
    matched: Mask
    ordered: NDArray[np.intp]
    rows: NDArray[np.intp]


def select(plan: Plan, data: Dataset, clock: Clock, *, besides: int | None = None) -> Stages:
    """Return the rows of a plan, with the steps on the way; ``besides`` is a row let in whatever it has."""
    view = View(data, clock.now, plan.unpublished, None if plan.taxonomy else besides)
    selection = Selection(view, plan.taxonomy)
    visible = np.ones(len(view.ids(plan.taxonomy)), np.bool_) if plan.taxonomy else view.visible
    asked = visible if plan.taxonomy else visible & np.isin(data.entries.kinds, plan.kinds)
    matched = asked & selection.rows(plan.condition) if plan.condition else asked.copy()
    if besides is not None:
        matched[besides] = True
    found = ordered(selection, np.flatnonzero(matched), plan.order)
    if plan.lead:
        found = leading(found, plan.lead, visible)
    if plan.at_most:
        found = varied(selection, found, plan.at_most)
    return Stages(selection, asked, matched, found, found[plan.offset :][: plan.limit])
