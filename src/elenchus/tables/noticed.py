"""What tables know of the rows of an answer that is worth a notice."""

from __future__ import annotations

from typing import TYPE_CHECKING

import ibis

from elenchus.engine.notices import WORDS_OF
from elenchus.schema.state import HoldKind
from elenchus.tables.stages import certain, mask_of

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

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
        self.stages = found.stages
        self.scope = found.stages.scope
        self.plan = found.stages.plan

    @property
    def total(self) -> int:
        """See :class:`Noticed`."""
        return self.found.total

    @property
    def filled(self) -> int:
        """See :class:`Noticed`."""
        return len(self.found.more)

    def misfits(self, field: str) -> tuple[int, str, str]:
        """See :class:`Noticed`."""
        table, scope = self.scope.table("misfits"), self.scope
        if field not in scope.data.misfit_fields:
            return 0, "", ""
        asked = self.stages.entries.filter(self.stages.asked)
        start = asked.date__start
        asked = asked.select(k_entry=asked.id, k_start=start)
        wrong = table.filter(table.field == scope.values.text(field)).inner_join(
            asked, table.entry == asked.k_entry
        )
        wrong = wrong.mutate(k_count=wrong.count().over(ibis.window()))
        order = [wrong.k_start.isnull(), wrong.k_start.desc(), wrong.entry]
        told = scope.data.rows(
            wrong.order_by(order).limit(1).select("k_count", "text", "place"), scope.values
        )
        return (int(told[0][0]), told[0][1], told[0][2]) if told else (0, "", "")

    def by_absence(self) -> int:
        """See :class:`Noticed`."""
        stages, condition = self.stages, self.plan.condition
        if condition is None:
            return 0
        surely, _ = certain(self.scope, stages.entries, condition)
        return self.found.count(stages.entries.filter(stages.matched & ~surely))

    def hidden(self) -> tuple[Mapping[str, int], str]:
        """See :class:`Noticed`."""
        scope, entries = self.scope, self.stages.entries
        now, text = scope.values.whole(scope.now), scope.values.text
        others = ~scope.visible(entries) & entries.kind.isin([text(kind) for kind in self.plan.kinds])
        if self.plan.condition:
            others &= mask_of(scope, entries, self.plan.condition)
        start = entries.date__start
        kept_back = ibis.cases(
            (entries.kept_back > 0, entries.kept_back),
            (start.notnull() & (start > now), ibis.literal(_SCHEDULED)),
            (entries.end_unread, ibis.literal(_END_UNREAD)),
            else_=_EXPIRED,
        )
        nth = ibis.row_number().over(ibis.window(order_by=[start.isnull(), start.desc(), entries.id]))
        rows = entries.filter(others).mutate(k_state=kept_back, k_nth=nth)
        told = scope.data.rows(
            rows.group_by("k_state").aggregate(
                k_count=rows.count(), k_first=rows.k_nth.min(), k_id=rows.id.argmin(rows.k_nth)
            ),
            scope.values,
        )
        found: dict[str, int] = {}
        for state, count, _, _ in sorted(told, key=lambda row: row[2]):
            kind = _KINDS[int(state)]
            word = WORDS_OF[kind] if kind else ""
            found[word] = found.get(word, 0) + int(count)
        return found, min(told, key=lambda row: row[2])[3] if told else ""

    def leads(self) -> tuple[Sequence[str], Sequence[str]]:
        """See :class:`Noticed`."""
        scope, entries = self.scope, self.stages.entries
        lead = [name.id for name in self.plan.lead]  # type: ignore[union-attr]
        rows = entries.filter(entries.id.isin([scope.values.text(name) for name in lead]))
        seen, matched = scope.visible(entries), self.stages.matched
        rows = entries.filter(entries.id.isin([scope.values.text(name) for name in lead])).select(
            "id", k_seen=seen, k_matched=matched
        )
        told = {
            name: (is_seen, is_matched) for name, is_seen, is_matched in scope.data.rows(rows, scope.values)
        }
        there = [name for name in lead if name in told]
        unseen = [name for name in there if not told[name][0]]
        return unseen, [name for name in there if told[name][0] and not told[name][1]]
