"""What an answer says beside its rows: values that do not fit, rows that match by absence, and the like."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Protocol

import numpy as np

from elenchus.engine.explaining.state import state_of
from elenchus.engine.stages import lead_rows
from elenchus.errors import Problem
from elenchus.plan.nodes import Negation, RandomOrder, Test
from elenchus.plan.walking import walk
from elenchus.schema.state import HoldKind
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Condition, Plan

__all__ = ["WORDS_OF", "Noticed", "StagesNoticed", "notices"]

WORDS_OF = {
    HoldKind.DRAFT: "unpublished",
    HoldKind.WITHDRAWN: "unpublished",
    HoldKind.UNKNOWN_STATUS: "with an unknown status",
    HoldKind.UNDATED: "scheduled without a date",
    HoldKind.UNREADABLE_DATE: "with an unreadable date",
    HoldKind.UNREADABLE_END: "with an end that cannot be read",
    HoldKind.SCHEDULED: "scheduled",
    HoldKind.EXPIRED: "expired",
}


class Noticed(Protocol):
    """What an executor knows of the rows of an answer that is worth a notice, each when it is asked for."""

    @property
    def total(self) -> int:
        """How many rows there are."""

    @property
    def filled(self) -> int:
        """How many of them fill the answer up."""

    def misfits(self, field: str) -> tuple[int, str, str]:
        """Return how many stored values of a field do not fit in the rows asked; the first, its place."""

    def by_absence(self) -> int:
        """Return how many rows match only because a value is missing."""

    def hidden(self) -> tuple[Mapping[str, int], str]:
        """Return how many rows meet the condition unseen, by what keeps them back; and the first."""

    def leads(self) -> tuple[Sequence[str], Sequence[str]]:
        """Return the leading rows that cannot be seen, and those that the condition alone would not list."""


def notices(plan: Plan, noticed: Noticed, *, in_public: bool = False) -> Iterator[Problem]:
    """Yield the notices of an answer.

    ``in_public`` leaves out what only those who build the site may know: anything about unpublished
    entries, and files of content.
    """
    if plan.unpublished:
        yield Problem("unpublished", "this includes unpublished rows, which no visitor sees")
    if not in_public:
        yield from _misfits(plan, noticed)
        yield from _hidden(plan, noticed)
    yield from _by_absence(plan, noticed)
    yield from _leads(plan, noticed, in_public=in_public)
    if plan.empty:
        yield Problem("nothing-given", f"there are no rows, because {plan.empty}")
    if plan.fill and noticed.filled:
        rows = "1 row comes" if noticed.filled == 1 else f"{noticed.filled} rows come"
        message = f"{rows} from {plan.fill.rows.name}, to make {plan.fill.at_least}"
        yield Problem("filled-up", message)
    drawn = any(isinstance(key, RandomOrder) for key in plan.order)
    if drawn and plan.limit is not None and noticed.total < plan.limit:
        yield Problem("few-to-draw", f"{plan.limit} are to be drawn, and there are only {noticed.total}")


def _misfits(plan: Plan, noticed: Noticed) -> Iterator[Problem]:
    """Yield a notice for each field of the question with stored values that do not fit its type."""
    if plan.subject.is_terms:
        return
    for field in plan.fields:
        name = field.name.partition(".")[0]
        count, text, place = noticed.misfits(name)
        if count:
            values = "1 stored value" if count == 1 else f"{count} stored values"
            verb = "does not fit and counts" if count == 1 else "do not fit and count"
            example = f"{quoted(text)} in {place}{' …' if count > 1 else ''}"
            yield Problem("unfit-value", f"{values} of {name} {verb} as missing: {example}")


def _by_absence(plan: Plan, noticed: Noticed) -> Iterator[Problem]:
    """Yield the notice of rows that match only because a value is missing."""
    if not any(_denies(each) for each in walk(plan.condition)):
        return  # what is true of a row is so by what it has
    count = noticed.by_absence()
    if count:
        rows, verb = ("row", "matches") if count == 1 else ("rows", "match")
        message = f"{count} {rows} {verb} only because a value is missing"
        yield Problem("match-by-absence", message, "Add “and FIELD is set” to leave them out.")


def _denies(condition: Condition) -> bool:
    """Say whether a condition is met by what is not there."""
    return isinstance(condition, Negation) or (isinstance(condition, Test) and condition.negated)


def _hidden(plan: Plan, noticed: Noticed) -> Iterator[Problem]:
    """Yield why an answer is empty, or shorter than it may be: rows that meet it are not public now."""
    if plan.subject.is_terms or plan.unpublished or plan.empty or plan.source:
        return
    wanted = 1 if plan.limit is None else plan.limit
    if noticed.total >= wanted or not (noticed.total == 0 or plan.limit):
        return
    states, first = noticed.hidden()
    count = sum(states.values())
    if not count:
        return
    ordered = sorted(states, key=lambda state: -states[state])
    counts = ", ".join(f"{states[state]} {state}" for state in ordered)
    verb = "entry that meets" if count == 1 else "entries that meet"
    message = f"{count} {verb} this cannot be seen now: {counts}"
    hint = f"elenchus why … {first} tells more; “including unpublished” shows them."
    yield Problem("hidden-matches", message, hint)


def _leads(plan: Plan, noticed: Noticed, *, in_public: bool) -> Iterator[Problem]:
    """Yield notices of leading rows that are hidden, or that the condition alone would not list."""
    unseen, besides = noticed.leads() if plan.lead else ((), ())
    if unseen and not in_public:
        yield Problem("hidden-lead", f"not public, and so not leading: {', '.join(unseen)}")
    if besides:
        yield Problem(
            "lead-besides", f"leading without meeting the question's conditions: {', '.join(besides)}"
        )


class StagesNoticed:
    """What the steps in memory know."""

    def __init__(self, plan: Plan, stages: Stages) -> None:
        self.plan = plan
        self.stages = stages

    @property
    def total(self) -> int:
        """See :class:`Noticed`."""
        return self.stages.total

    @property
    def filled(self) -> int:
        """See :class:`Noticed`."""
        return self.stages.filled

    def misfits(self, field: str) -> tuple[int, str, str]:
        """See :class:`Noticed`."""
        every = self.stages.selection.view.data.misfits
        wrong = [each for each in every if each.field == field and self.stages.asked[each.row]]
        return (len(wrong), wrong[0].text, str(wrong[0].problem.place)) if wrong else (0, "", "")

    def by_absence(self) -> int:
        """See :class:`Noticed`."""
        matched = self.stages.matched_rows.rows
        if self.plan.condition is None:
            return 0
        surely = self.stages.selection.at(matched).certain(self.plan.condition)[0]
        return len(matched) - int(np.count_nonzero(surely))

    def hidden(self) -> tuple[Mapping[str, int], str]:
        """See :class:`Noticed`."""
        selection = self.stages.selection
        data, now = selection.view.data, selection.view.now
        others = ~selection.view.visible & data.of_kinds(self.plan.kinds)
        if self.plan.condition:
            others &= selection.rows(self.plan.condition)
        rows = np.flatnonzero(others).tolist()
        states = Counter(WORDS_OF[state_of(data, now, row).holds[0].kind] for row in rows)
        return states, data.entries.ids[rows[0]] if rows else ""

    def leads(self) -> tuple[Sequence[str], Sequence[str]]:
        """See :class:`Noticed`."""
        view, ids = self.stages.selection.view, self.stages.selection.view.ids(self.plan.subject)
        rows = lead_rows(self.plan, view.data)
        unseen = [ids[row] for row in rows if not (self.plan.subject.is_terms or view.visible[row])]
        besides = [ids[row] for row in rows if not self.stages.matched[row] and ids[row] not in unseen]
        return unseen, besides
