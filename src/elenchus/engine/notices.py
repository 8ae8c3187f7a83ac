"""What an answer says beside its rows: values that do not fit, rows that match by absence, and the like."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.errors import Problem
from elenchus.plan.nodes import RandomOrder
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Plan

__all__ = ["notices"]


def notices(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield the notices of an answer."""
    if plan.unpublished:
        yield Problem("unpublished", "this includes unpublished rows, which no visitor sees")
    yield from misfits(plan, stages)
    yield from by_absence(plan, stages)
    yield from leads(plan, stages)
    if plan.empty:
        yield Problem("nothing-given", f"there are no rows, because {plan.empty}")
    if stages.filled and plan.fill:
        rows = "1 row comes" if stages.filled == 1 else f"{stages.filled} rows come"
        message = f"{rows} from {plan.fill.rows.name}, to make {plan.fill.at_least}"
        yield Problem("filled-up", message)
    drawn = any(isinstance(key, RandomOrder) for key in plan.order)
    if drawn and plan.limit is not None and len(stages.rows) < plan.limit:
        yield Problem("few-to-draw", f"{plan.limit} are to be drawn, and there are only {len(stages.rows)}")


def misfits(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield a notice for each field of the question with stored values that do not fit its type."""
    if plan.taxonomy:
        return
    for field in plan.fields:
        wrong = [
            misfit
            for misfit in stages.selection.view.data.misfits
            if misfit.field == field.name.partition(".")[0] and stages.asked[misfit.row]
        ]
        if wrong:
            values = "1 stored value" if len(wrong) == 1 else f"{len(wrong)} stored values"
            verb = "does not fit and counts" if len(wrong) == 1 else "do not fit and count"
            example = f"{quoted(wrong[0].text)} in {wrong[0].problem.place}{' …' if len(wrong) > 1 else ''}"
            yield Problem("misfit", f"{values} of {wrong[0].field} {verb} as missing: {example}")


def by_absence(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield the notice of rows that match only because a value is missing."""
    if plan.condition is None:
        return
    surely = stages.selection.certain(plan.condition)[0]
    count = int(np.count_nonzero(stages.matched & ~surely))
    if count:
        rows, verb = ("row", "matches") if count == 1 else ("rows", "match")
        message = f"{count} {rows} {verb} only because a value is missing"
        yield Problem("match-by-absence", message, "Add “and FIELD is set” to leave them out.")


def leads(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield notices of leading rows that are hidden, or that the condition alone would not list."""
    view, ids = stages.selection.view, stages.selection.view.ids(plan.taxonomy)
    hidden = [ids[row] for row in plan.lead if not (plan.taxonomy or view.visible[row])]
    if hidden:
        yield Problem("hidden-lead", f"not public, and so not leading: {', '.join(hidden)}")
    besides = [ids[row] for row in plan.lead if not stages.matched[row] and ids[row] not in hidden]
    if besides:
        yield Problem(
            "lead-besides", f"leading without meeting the question's conditions: {', '.join(besides)}"
        )
