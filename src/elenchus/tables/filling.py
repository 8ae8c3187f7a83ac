"""The rows of an answer from tables: counted and cut there; what fills an answer up follows its own rows."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import ibis

from elenchus.frozen import Working

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ibis.expr import types as ir

    from elenchus.plan.nodes import Plan
    from elenchus.tables.stages import TableStages

__all__ = ["FoundRows"]


class FoundRows(Working):
    """What a plan finds; each part is asked for when somebody wants it."""

    stages: TableStages

    @property
    def plan(self) -> Plan:
        """The plan."""
        return self.stages.plan

    def count(self, table: ir.Table) -> int:
        """Return the number of rows of a relation."""
        [(found,)] = self.stages.scope.data.rows(
            table.aggregate(k_count=table.count()), self.stages.scope.values
        )
        return int(found)

    @cached_property
    def matched(self) -> int:
        """How many rows meet the condition and are not left out."""
        stages = self.stages
        if "every" in self.__dict__ and not (stages.plan.lead or stages.plan.at_most):
            return self.every
        return self.count(stages.entries.filter(stages.kept))

    @cached_property
    def own(self) -> int:
        """How many rows there are after offset and limit, without those that fill up."""
        plan = self.stages.plan
        left = max(0, self.every - plan.offset)
        return left if plan.limit is None else min(left, plan.limit)

    @cached_property
    def more(self) -> list[str]:
        """The ids of the rows that fill up."""
        from elenchus.tables.stages import rows_of

        fill, stages = self.stages.plan.fill, self.stages
        if fill is None or self.own >= fill.at_least:
            return []
        scope = stages.scope
        there = self.ids_of_own(0, self.own)
        listed = rows_of(scope, fill.rows)
        allowed = stages.entries.filter(stages.allowed).id
        wanted = listed.filter(
            listed.id.isin(allowed) & ~listed.id.isin([scope.values.text(each) for each in there])
        )
        wanted = wanted.order_by("place").limit(fill.at_least - self.own).select("id")
        return [name for (name,) in scope.data.rows(wanted, scope.values)]

    @property
    def total(self) -> int:
        """How many rows the answer has."""
        return self.own + len(self.more)

    def ids_of_own(self, first: int, last: int) -> list[str]:
        """Return the ids of the rows from a place up to another, of those that do not fill up."""
        return [row[0] for row in self.own_rows(first, last, ("id",))]

    def own_rows(self, first: int, last: int | None, columns: Sequence[str]) -> list[tuple[Any, ...]]:
        """Return rows from a place up to another, of those that do not fill up, with some of their columns.

        How many there are in all is counted on the way, where it is not known.
        """
        stages, plan = self.stages, self.stages.plan
        limit = plan.limit if last is None else last if plan.limit is None else min(last, plan.limit)
        if limit is not None and limit <= first:
            return []
        ordered = stages.ordered_with(columns)
        rows = ordered.rows.mutate(k_every=ordered.rows.count().over(ibis.window()))
        cut = rows.order_by(ordered.order)
        if limit is not None or plan.offset + first:
            cut = cut.limit(None if limit is None else limit - first, offset=plan.offset + first)
        found = stages.scope.data.rows(
            cut.select(*columns, "k_every"), stages.scope.values, "the rows, and how many there are in all"
        )
        if found:
            self.__dict__.setdefault("every", int(found[0][-1]))
        return [row[:-1] for row in found]

    @cached_property
    def every(self) -> int:
        """How many rows there are before offset and limit, those that lead among them."""
        plan = self.stages.plan
        return self.matched if not (plan.lead or plan.at_most) else self.count(self.stages.ordered.rows)

    def ids_before(self, first: int, last: int) -> list[str]:
        """Return the ids of rows from a place up to another, counted before offset and limit."""
        ordered = self.stages.ordered
        rows = ordered.rows.order_by(ordered.order).limit(last - first, offset=first).select("id")
        return [
            name
            for (name,) in self.stages.scope.data.rows(rows, self.stages.scope.values, "rows passed over")
        ]

    def rank(self, name: str) -> int:
        """Return the place of an entry among the rows before offset and limit, from 1; 0 where it is none."""
        ordered, scope = self.stages.ordered, self.stages.scope
        place = ibis.row_number().over(ibis.window(order_by=ordered.order))
        rows = ordered.rows.mutate(k_place=place)
        told = scope.data.rows(
            rows.filter(rows.id == scope.values.text(name)).select("k_place"), scope.values, "its place"
        )
        return int(told[0][0]) + 1 if told else 0

    def between(self, first: int, last: int) -> list[str]:
        """Return the ids of the rows from a place up to another."""
        last = min(last, self.total)
        return [
            *self.ids_of_own(first, min(last, self.own)),
            *self.more[max(0, first - self.own) : max(0, last - self.own)],
        ]
