"""The rows of an answer from tables: counted and cut there; what fills an answer up follows its own rows."""

from __future__ import annotations

from operator import itemgetter
from typing import TYPE_CHECKING, Any

import ibis
import numpy as np

from elenchus.engine.run import Cut
from elenchus.frozen import Working, knowing
from elenchus.tables.expressions import met
from elenchus.tables.groups import TablesGrouped, counts_of, keys_of, placed_in
from elenchus.tables.shown import small_view
from elenchus.tables.stages import mask_of
from elenchus.values.kept import cached_property
from elenchus.values.numbers import counting_number

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ibis.expr import types as ir
    from numpy.typing import NDArray

    from elenchus.engine.view import View
    from elenchus.plan.nodes import Condition, FieldRef, Plan
    from elenchus.tables.groups import TableKey
    from elenchus.tables.stages import TableStages

    _Build = Callable[..., ir.Table]

__all__ = ["EVERY_ROW", "FoundRows", "rows_between"]

EVERY_ROW = "the rows, and how many there are in all"


def rows_between(
    found: FoundRows, first: int, limit: int | None, columns: Sequence[str], *, numbered: bool = False
) -> ir.Table:
    """Return the own rows of an answer from a place up to another, with how many there are in all.

    That is left out where all of them are asked for. They are ``numbered`` where they may come in another
    order.
    """
    ordered, skipped = found.stages.ordered_with(columns), found.plan.offset + first
    rows, numbers = ordered.rows, list[str]()
    if numbered:
        rows = rows.mutate(k_place=ibis.row_number().over(ibis.window(order_by=ordered.order)))
        numbers = ["k_place"]
    if limit is None and not skipped:
        return rows.order_by(ordered.order).select(*numbers, *columns)
    cut = rows.order_by(ordered.order).limit(None if limit is None else limit - first, offset=skipped)
    # Counted beside them: a count over a window would carry all columns of all rows. What is counted is
    # another relation, since databases keep whole what is used twice.
    stages = found.stages
    every = type(stages)(stages.scope, stages.plan, stages.without).ordered.rows
    every = every.aggregate(k_every=every.count())
    return cut.cross_join(every).order_by(ordered.order).select(*numbers, *columns, "k_every")


def _fillers(found: FoundRows) -> ir.Table:
    """Return the rows that fill up, each with its place."""
    return found.stages.fillers.select("id", "place")


def _counted(rows: ir.Table) -> ir.Table:
    """Return how many rows a relation has."""
    return rows.aggregate(k_count=rows.count())


class FoundRows(Working):
    """What a plan finds; each part is asked for when somebody wants it."""

    stages: TableStages

    @property
    def plan(self) -> Plan:
        """The plan."""
        return self.stages.plan

    def told(self, says: str, build: _Build, *args: Any) -> list[tuple[Any, ...]]:
        """Return the rows of the relation that is built of this; ``says`` tells what it asks for."""
        return self.stages.scope.rows(build(self, *args), says)

    def count(self, says: str, build: _Build) -> int:
        """Return the number of rows of the relation that is built of this."""
        [(found,)] = self.told(says, lambda each: _counted(build(each)))
        return int(found)

    @cached_property
    def matched(self) -> int:
        """How many rows meet the condition and are not left out."""
        if "every" in self.__dict__ and not (self.plan.lead or self.plan.at_most):
            return self.every
        return self.count("how many match", lambda found: met(found.stages.entries, found.stages.kept))

    @cached_property
    def own(self) -> int:
        """How many rows there are after offset and limit, without those that fill up."""
        plan = self.plan
        left = max(0, self.every - plan.offset)
        return left if plan.limit is None else min(left, plan.limit)

    @cached_property
    def more(self) -> list[str]:
        """The ids of the rows that fill up."""
        fill = self.plan.fill
        if fill is None or self.own >= fill.at_least:
            return []
        rows = self.told("the rows that fill up", _fillers)
        return [name for name, _ in sorted(rows, key=itemgetter(1))]

    # Groups

    @cached_property
    def placed(self) -> tuple[ir.Table, list[str]]:
        """The placements of the rows in groups, and the names of their values there."""
        return placed_in(self.stages)

    @cached_property
    def group_counts(self) -> list[tuple[Any, ...]]:
        """The values of each group, and how many placements it has."""
        return self.told("how many rows each group has", counts_of)

    @cached_property
    def keys(self) -> list[TableKey]:
        """The keys of its groups."""
        return keys_of(self.stages, self.group_counts)

    @cached_property
    def grouped(self) -> TablesGrouped:
        """Its groups."""
        return TablesGrouped(self)

    def asked_of_groups(
        self, named: tuple[Any, ...] | None, last: int | None
    ) -> tuple[tuple[Any, ...] | None, int | None]:
        """Return of which values, and up to which place in each group, placements of a page are asked for."""
        return named, last

    # Pages

    def page(self, page: int | str) -> tuple[Cut, list[str]]:
        """Return a page of what stands in groups or is filled up, and the ids on it. Raises NoSuchPage."""
        grouping = self.grouped.grouping if self.plan.groups else None
        cut = Cut(self.plan, grouping, self.total, page, len(self.more))
        if self.plan.groups:
            return cut, [self.grouped.ids[place] for place in cut.places.tolist()]
        return cut, self.between(*cut.bounds)

    def viewed(self, names: Sequence[str], fields: Sequence[FieldRef]) -> tuple[View, NDArray[np.intp]]:
        """Return a view that has some entries of a page, and their places there."""
        return small_view(self.stages.scope, names, fields), np.arange(len(names))

    @property
    def total(self) -> int:
        """How many rows the answer has."""
        return self.own + len(self.more)

    @property
    def ids(self) -> list[str]:
        """The ids of all rows of the answer."""
        own = self.ids_of_own(0, None)
        return own + self.more if self.plan.fill else own

    def meeting(self, conditions: Sequence[Condition]) -> list[set[str]]:
        """Return the ids of the entries that may be shown and meet each of some conditions."""
        scope, entries = self.stages.scope, self.stages.entries
        masks = {f"k{at}": mask_of(scope, entries, each) for at, each in enumerate(conditions)}
        rows = met(entries, self.stages.allowed).select("id", **masks)
        rows = rows.filter(ibis.or_(*(rows[name] for name in masks)))
        told = scope.rows(rows, "which conditions they meet")
        return [{row[0] for row in told if row[at]} for at in range(1, len(conditions) + 1)]

    def ids_of_own(self, first: int, last: int | None) -> list[str]:
        """Return the ids of the rows from a place up to another, of those that do not fill up."""
        return [row[0] for row in self.own_rows(first, last, ("id",))]

    def own_rows(self, first: int, last: int | None, columns: Sequence[str]) -> list[tuple[Any, ...]]:
        """Return rows from a place up to another, of those that do not fill up, with some of their columns.

        How many there are in all is counted on the way, where it is not known.
        """
        plan = self.plan
        limit = plan.limit if last is None else last if plan.limit is None else min(last, plan.limit)
        if limit is not None and limit <= first:
            return []
        rows = self.told(EVERY_ROW, rows_between, first, limit, tuple(columns))
        self.know_every(rows, first, limit)
        return [row[: len(columns)] for row in rows]

    def know_every(self, rows: Sequence[tuple[Any, ...]], first: int, limit: int | None) -> None:
        """Keep how many rows there are in all, as far as that is known from some that were fetched."""
        skipped = first + self.plan.offset
        if limit is None and not skipped:
            knowing(self, every=len(rows))
        elif rows or not skipped:
            knowing(self, every=int(rows[0][-1]) if rows else 0)

    @cached_property
    def every(self) -> int:
        """How many rows there are before offset and limit, those that lead among them."""
        if not (self.plan.lead or self.plan.at_most):
            return self.matched
        return self.count("how many before offset and limit", lambda found: found.stages.ordered.rows)

    def shown(self, fields: Sequence[FieldRef], page: int | str) -> tuple[list[str], View, NDArray[np.intp]]:
        """Return the ids of the own rows of a page, a view that has them, and their places there."""
        number, size = counting_number(str(page)), self.plan.per_page
        first, last = ((number - 1) * size, number * size) if size and number > 0 else (0, None)
        names: list[str] = []

        def fetch(columns: Sequence[str]) -> list[tuple[Any, ...]]:
            rows = self.own_rows(first, last, columns)
            names.extend(row[0] for row in rows)
            return rows

        view = small_view(self.stages.scope, (), fields, fetch=fetch)
        return names, view, np.arange(len(names))

    def ids_before(self, first: int, last: int) -> list[str]:
        """Return the ids of rows from a place up to another, counted before offset and limit."""
        ordered = self.stages.ordered
        rows = ordered.rows.order_by(ordered.order).limit(last - first, offset=first).select("id")
        return [name for (name,) in self.stages.scope.rows(rows, "rows passed over")]

    def rank(self, name: str) -> int:
        """Return the place of an entry among the rows before offset and limit, from 1; 0 where it is none."""
        ordered, scope = self.stages.ordered, self.stages.scope
        place = ibis.row_number().over(ibis.window(order_by=ordered.order))
        rows = ordered.rows.mutate(k_place=place)
        told = scope.rows(rows.filter(rows.id == scope.values.text(name)).select("k_place"), "its place")
        return int(told[0][0]) + 1 if told else 0

    def nth_of_value(self, name: str) -> int:
        """Return how many rows up to an entry have its value of the field that is kept varied."""
        scope, rows = self.stages.scope, self.stages.numbered(self.stages.in_order())
        told = scope.rows(rows.filter(rows.id == scope.values.text(name)).select("k_nth"), "those before it")
        return int(told[0][0]) + 1

    def between(self, first: int, last: int) -> list[str]:
        """Return the ids of the rows from a place up to another."""
        last = min(last, self.total)
        return [
            *self.ids_of_own(first, min(last, self.own)),
            *self.more[max(0, first - self.own) : max(0, last - self.own)],
        ]
