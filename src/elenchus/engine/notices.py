"""What an answer says beside its rows: values that do not fit, rows that match by absence, and the like."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.explaining.state import state_of
from elenchus.engine.stages import lead_rows
from elenchus.errors import Problem
from elenchus.plan.nodes import Negation, RandomOrder, Test
from elenchus.plan.walking import walk
from elenchus.schema.state import HoldKind
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Condition, Plan

__all__ = ["notices"]


def notices(plan: Plan, stages: Stages, *, in_public: bool = False) -> Iterator[Problem]:
    """Yield the notices of an answer.

    ``in_public`` leaves out what only those who build the site may know: anything about unpublished
    entries, and files of content.
    """
    if plan.unpublished:
        yield Problem("unpublished", "this includes unpublished rows, which no visitor sees")
    if not in_public:
        yield from _misfits(plan, stages)
        yield from _hidden(plan, stages)
    yield from _by_absence(plan, stages)
    yield from _leads(plan, stages, in_public=in_public)
    if plan.empty:
        yield Problem("nothing-given", f"there are no rows, because {plan.empty}")
    if stages.filled and plan.fill:
        rows = "1 row comes" if stages.filled == 1 else f"{stages.filled} rows come"
        message = f"{rows} from {plan.fill.rows.name}, to make {plan.fill.at_least}"
        yield Problem("filled-up", message)
    drawn = any(isinstance(key, RandomOrder) for key in plan.order)
    if drawn and plan.limit is not None and stages.total < plan.limit:
        yield Problem("few-to-draw", f"{plan.limit} are to be drawn, and there are only {stages.total}")


def _misfits(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield a notice for each field of the question with stored values that do not fit its type."""
    if plan.subject.is_terms:
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
            yield Problem("unfit-value", f"{values} of {wrong[0].field} {verb} as missing: {example}")


def _by_absence(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield the notice of rows that match only because a value is missing."""
    if plan.condition is None:
        return
    if not any(_denies(each) for each in walk(plan.condition)):
        return  # what is true of a row is so by what it has
    matched = stages.matched_rows.rows
    surely = stages.selection.at(matched).certain(plan.condition)[0]
    count = len(matched) - int(np.count_nonzero(surely))
    if count:
        rows, verb = ("row", "matches") if count == 1 else ("rows", "match")
        message = f"{count} {rows} {verb} only because a value is missing"
        yield Problem("match-by-absence", message, "Add “and FIELD is set” to leave them out.")


def _denies(condition: Condition) -> bool:
    """Say whether a condition is met by what is not there."""
    return isinstance(condition, Negation) or (isinstance(condition, Test) and condition.negated)


def _hidden(plan: Plan, stages: Stages) -> Iterator[Problem]:
    """Yield why an answer is empty, or shorter than it may be: rows that meet it are not public now."""
    if plan.subject.is_terms or plan.unpublished or plan.empty or plan.source:
        return
    wanted = 1 if plan.limit is None else plan.limit
    if stages.total >= wanted or not (stages.total == 0 or plan.limit):
        return
    selection = stages.selection
    data, now = selection.view.data, selection.view.now
    others = ~selection.view.visible & data.of_kinds(plan.kinds)
    if plan.condition:
        others &= selection.rows(plan.condition)
    rows = np.flatnonzero(others).tolist()
    if not rows:
        return
    states = Counter(_WORDS_OF[state_of(data, now, row).holds[0].kind] for row in rows)
    counts = ", ".join(f"{count} {word}" for word, count in states.most_common())
    verb = "entry that meets" if len(rows) == 1 else "entries that meet"
    message = f"{len(rows)} {verb} this cannot be seen now: {counts}"
    first = data.entries.ids[rows[0]]
    hint = f"elenchus why … {first} tells more; “including unpublished” shows them."
    yield Problem("hidden-matches", message, hint)


_WORDS_OF = {
    HoldKind.DRAFT: "unpublished",
    HoldKind.WITHDRAWN: "unpublished",
    HoldKind.UNKNOWN_STATUS: "with an unknown status",
    HoldKind.UNDATED: "scheduled without a date",
    HoldKind.UNREADABLE_DATE: "with a date that cannot be read",
    HoldKind.UNREADABLE_END: "with an end that cannot be read",
    HoldKind.SCHEDULED: "scheduled",
    HoldKind.EXPIRED: "expired",
}


def _leads(plan: Plan, stages: Stages, *, in_public: bool) -> Iterator[Problem]:
    """Yield notices of leading rows that are hidden, or that the condition alone would not list."""
    view, ids = stages.selection.view, stages.selection.view.ids(plan.subject)
    rows = lead_rows(plan, view.data)
    unseen = [ids[row] for row in rows if not (plan.subject.is_terms or view.visible[row])]
    if unseen and not in_public:
        yield Problem("hidden-lead", f"not public, and so not leading: {', '.join(unseen)}")
    besides = [ids[row] for row in rows if not stages.matched[row] and ids[row] not in unseen]
    if besides:
        yield Problem(
            "lead-besides", f"leading without meeting the question's conditions: {', '.join(besides)}"
        )
