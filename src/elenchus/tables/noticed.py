"""What tables know of the rows of an answer that is worth a notice."""

from __future__ import annotations

from typing import TYPE_CHECKING

import ibis

from elenchus.engine.notices import WORDS_OF
from elenchus.plan.walking import parts
from elenchus.schema.state import HoldKind
from elenchus.tables.expressions import met, newest_first
from elenchus.tables.stages import absent, can_lack, mask_of

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from ibis.expr import types as ir

    from elenchus.tables.filling import FoundRows

__all__ = ["TablesNoticed"]

_KINDS = (
    None, HoldKind.DRAFT, HoldKind.UNKNOWN_STATUS, HoldKind.UNREADABLE_DATE, HoldKind.UNDATED,
    HoldKind.SCHEDULED, HoldKind.UNREADABLE_END, HoldKind.EXPIRED,
)  # fmt: skip
_SCHEDULED, _END_UNREAD, _EXPIRED = 5, 6, 7


class TablesNoticed:
    """See :class:`elenchus.engine.notices.Noticed`."""

    def __init__(self, found: FoundRows) -> None:
        self.found = found
        self.plan = found.plan

    @property
    def total(self) -> int:
        """See :class:`Noticed`."""
        return self.found.total

    @property
    def filled(self) -> int:
        """See :class:`Noticed`."""
        return len(self.found.more)

    def misfits(self, field: str) -> tuple[int, str, str]:
        """See :class:`elenchus.engine.notices.Noticed`."""
        if field not in self.found.stages.scope.data.misfit_fields:
            return 0, "", ""
        told = self.found.told(f"values of {field} that do not fit", _misfits, field)
        return (int(told[0][0]), told[0][1], told[0][2]) if told else (0, "", "")

    def by_absence(self) -> int:
        """See :class:`elenchus.engine.notices.Noticed`."""
        if not any(map(can_lack, parts(self.plan.condition))):
            return 0
        return self.found.count("those for want of a value", _by_absence)

    def hidden(self) -> tuple[Mapping[str, int], str]:
        """See :class:`elenchus.engine.notices.Noticed`."""
        told = self.found.told("what meets it and cannot be seen", _hidden)
        found: dict[str, int] = {}
        for state, count, _, _ in sorted(told, key=lambda row: row[2]):
            kind = _KINDS[int(state)]
            word = WORDS_OF[kind] if kind else ""
            found[word] = found.get(word, 0) + int(count)
        return found, min(told, key=lambda row: row[2])[3] if told else ""

    def leads(self) -> tuple[Sequence[str], Sequence[str]]:
        """See :class:`elenchus.engine.notices.Noticed`."""
        lead = [name.id for name in self.plan.lead]  # type: ignore[union-attr]
        rows = self.found.told("which leading rows are there", _leads, tuple(lead))
        told = {name: states for name, *states in rows}
        there = [name for name in lead if name in told]
        unseen = [name for name in there if not told[name][0]]
        return unseen, [name for name in there if told[name][0] and not told[name][1]]


def _misfits(found: FoundRows, field: str) -> ir.Table:
    """Return the first of the stored values of a field that do not fit, with how many there are."""
    scope, stages = found.stages.scope, found.stages
    table = scope.table("misfits")
    asked = met(stages.entries, stages.asked)
    asked = asked.select("date_start", k_entry=asked.id)
    wrong = table.filter(table.field == scope.values.text(field))
    wrong = wrong.inner_join(asked, table.entry == asked.k_entry)
    wrong = wrong.mutate(k_count=wrong.count().over(ibis.window()))
    return wrong.order_by(newest_first(wrong, "entry")).limit(1).select("k_count", "text", "place")


def _by_absence(found: FoundRows) -> ir.Table:
    """Return the rows that match only because a value is missing."""
    stages = found.stages
    masks = [absent(stages.scope, stages.entries, part) for part in parts(found.plan.condition)]
    lacking = ibis.or_(*(mask for mask in masks if mask is not None))
    return met(stages.entries, stages.matched & lacking)


def _hidden(found: FoundRows) -> ir.Table:
    """Return how many entries meet the condition unseen, by what keeps them back, with the first of each."""
    scope, entries, plan = found.stages.scope, found.stages.entries, found.plan
    now = scope.values.whole(scope.now)
    others = ~scope.visible(entries) & scope.values.among(entries.kind, plan.kinds)
    if plan.condition:
        others &= mask_of(scope, entries, plan.condition)
    start = entries.date_start
    kept_back = ibis.cases(
        (entries.kept_back > 0, entries.kept_back),
        (start.notnull() & (start > now), ibis.literal(_SCHEDULED)),
        (entries.end_unread, ibis.literal(_END_UNREAD)),
        else_=_EXPIRED,
    )
    nth = ibis.row_number().over(ibis.window(order_by=newest_first(entries)))
    rows = met(entries, others).mutate(k_state=kept_back, k_nth=nth)
    return rows.group_by("k_state").aggregate(
        k_count=rows.count(), k_first=rows.k_nth.min(), k_id=rows.id.argmin(rows.k_nth)
    )


def _leads(found: FoundRows, lead: Sequence[str]) -> ir.Table:
    """Return which leading rows there are, whether they can be seen, and whether they match."""
    scope, entries = found.stages.scope, found.stages.entries
    rows = entries.filter(scope.values.among(entries.id, lead))
    return rows.select("id", k_seen=scope.visible(entries), k_matched=found.stages.matched)
