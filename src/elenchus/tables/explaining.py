"""Why an answer of tables is as it is, by counts; and what becomes of one entry in it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import ibis
import numpy as np

from elenchus.engine.explaining.explain import boundaries, instant_words, value_words
from elenchus.engine.explaining.state import state_of
from elenchus.engine.explaining.verdict import gate_words, gates_inside
from elenchus.engine.select import Selection
from elenchus.errors import NoSuchName, Problem
from elenchus.plan.explanation import Explanation, Gate, Removed, Step, Tally, Verdict
from elenchus.plan.nodes import FieldRef, Test
from elenchus.plan.walking import parts, tests_in
from elenchus.plan.words import arrangement, condition_words
from elenchus.schema.types import Type
from elenchus.tables.groups import grouped_tables
from elenchus.tables.shown import small_view
from elenchus.tables.stages import certain, mask_of, rows_of
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.plan.nodes import Condition, Plan
    from elenchus.tables.columns import Mask
    from elenchus.tables.filling import FoundRows
    from elenchus.values.dates import Clock

__all__ = ["explain_tables", "judge_tables"]

_FEW = 6  # removed rows that a step names
_SHOWN = ("id", "title", "status", "date", "expires", "source")


def explain_tables(found: FoundRows, clock: Clock, question: str) -> Explanation:
    """Return why the answer to a plan is as it is; see :func:`elenchus.engine.explaining.explain.explain`."""
    plan = found.plan
    return Explanation(
        question=question,
        at=instant_words(clock.now, clock),
        boundaries=tuple(dict.fromkeys(boundaries(plan.condition, clock))),
        steps=tuple(_Funnel(found).steps()),
        arrangement=tuple(arrangement(plan)),
        total=found.total,
    )


class _Funnel:
    """The steps from all entries to the rows of an answer, counted in one statement."""

    def __init__(self, found: FoundRows) -> None:
        self.found = found
        self.stages = found.stages
        self.scope = found.stages.scope
        self.plan = found.stages.plan
        self.entries = found.stages.entries

    def steps(self) -> Iterator[Step]:
        """Yield the steps."""
        yield from self.counted(list(self.masks()))
        yield from self.last()

    def masks(self) -> Iterator[tuple[str, Mask, Condition | None]]:
        """Yield the words of each step, which entries pass it alone, and its condition."""
        plan, entries, text = self.plan, self.entries, self.scope.values.text
        if len(plan.kinds) < len(self.scope.data.kind_names) and not plan.source:
            kinds = entries.kind.isin([text(kind) for kind in plan.kinds])
            yield f"of the kind {either(plan.kinds)}", kinds, None
        yield ("public or not" if plan.unpublished else "public"), self.scope.visible(entries), None
        if plan.source:
            listed = entries.id.isin(rows_of(self.scope, plan.source).id)
            yield f"listed in {plan.source.name}", listed, None
        if plan.empty:
            yield plan.empty, ibis.literal(False), None  # noqa: FBT003 - a value
        for part in parts(plan.condition):
            yield condition_words(part), mask_of(self.scope, entries, part), part

    def counted(self, masks: Sequence[tuple[str, Mask, Condition | None]]) -> Iterator[Step]:
        """Yield steps with what they leave and remove, the first of those named."""
        left: Mask = ibis.literal(True)  # noqa: FBT003 - a value
        sums: dict[str, Any] = {"k_all": self.entries.count()}
        before: list[Mask] = []
        for number, (_, mask, part) in enumerate(masks):
            before.append(left)
            left = mask if number == 0 else left & mask
            sums[f"k{number}"] = self.entries.count(where=left)
            if part is not None:
                surely, _ = certain(self.scope, self.entries, part)
                sums[f"a{number}"] = self.entries.count(where=left & ~surely)
        [row] = self.scope.data.rows(
            self.entries.aggregate(**sums), self.scope.values, "what each step leaves"
        )
        told = dict(zip(sums, map(int, row), strict=True))
        yield Step("entries", told["k_all"], 0)
        standing = told["k_all"]
        for number, (words, mask, part) in enumerate(masks):
            now, gone = told[f"k{number}"], standing - told[f"k{number}"]
            is_named = gone and (part is not None or words == "public")
            examples = self.examples(before[number] & ~mask, part) if is_named else ()
            tally = self.tally(part, before[number] & mask) if part is not None else None
            yield Step(words, now, gone, examples, told.get(f"a{number}", 0), tally=tally)
            standing = now

    def examples(self, mask: Mask, part: Condition | None) -> tuple[Removed, ...]:
        """Return the first entries of a mask, with what a condition asks, or why they are not public."""
        entries = self.entries
        start = entries.date__start
        rows = entries.filter(mask).order_by([start.isnull(), start.desc(), entries.id]).limit(_FEW)
        ids = [
            name for (name,) in self.scope.data.rows(rows.select("id"), self.scope.values, "those removed")
        ]
        fields = list(dict.fromkeys(test.field for test in tests_in(part)))
        view = small_view(self.scope, ids, [*self.known(), *fields])
        selection = Selection(view)
        if part is None:
            return tuple(
                Removed(name, str(state_of(view.data, self.scope.now, row))) for row, name in enumerate(ids)
            )
        return tuple(
            Removed(name, "; ".join(value_words(selection, field, row) for field in fields))
            for row, name in enumerate(ids)
        )

    def known(self) -> list[FieldRef]:
        """Return the fields by which the state of an entry is told."""
        fields = self.scope.data.schema.fields
        return [FieldRef(name, fields[name].type) for name in _SHOWN if name in fields]

    def tally(self, part: Condition, left: Mask) -> Tally | None:
        """Return how the rows add up over several terms of one comparison."""
        if not isinstance(part, Test) or part.negated or part.field.type.type is not Type.TERM:
            return None
        if len(part.values) <= 1:
            return None
        entries = self.entries.filter(left)
        each = [
            mask_of(self.scope, entries, Test(part.field, part.operator, (value,))) for value in part.values
        ]
        rows = entries.select("id", **{f"t{at}": ibis.ifelse(mask, 1, 0) for at, mask in enumerate(each)})
        names = [f"t{at}" for at in range(len(each))]
        told = self.scope.data.rows(
            rows.aggregate(**{name: rows[name].sum().coalesce(0) for name in names}, k_all=rows.count()),
            self.scope.values,
            "how terms add up",
        )
        *sums, distinct = map(int, told[0])
        total = sum((rows[name] for name in names[1:]), start=rows[names[0]])
        several = entries.filter(entries.id.isin(rows.filter(total > 1).id))
        start = several.date__start
        several = several.order_by([start.isnull(), start.desc(), several.id]).select("id")
        overlap = tuple(
            name for (name,) in self.scope.data.rows(several, self.scope.values, "in several terms")
        )
        counts = tuple((value.shown, count) for value, count in zip(part.values, sums, strict=True))
        return Tally(part.field.name, counts, distinct, overlap)

    def last(self) -> Iterator[Step]:
        """Yield the steps after the conditions: repeated and leading rows, variety, offset, limit."""
        plan, found = self.plan, self.found
        if found.stages.without:
            repeated = self.entries.filter(self.stages.matched & self.stages.left_out)
            ids = [name for (name,) in self.scope.data.rows(repeated.select("id"), self.scope.values)]
            if ids:
                named = tuple(Removed(name, "") for name in ids[:_FEW])
                yield Step("not shown above on the page", found.matched, len(ids), named)
        ordered = found.every
        if plan.lead or plan.at_most:
            words = "with leading rows and at most so many of one value"
            yield Step(words, ordered, max(0, found.matched - ordered))
        if plan.offset:
            gone = found.ids_before(0, plan.offset)
            named = tuple(Removed(name, "") for name in gone)
            yield Step(f"after the first {plan.offset}", ordered - len(gone), len(gone), named)
        rest = max(0, ordered - plan.offset)
        if plan.limit is not None and rest > plan.limit:
            gone = found.ids_before(plan.offset + plan.limit, plan.offset + plan.limit + _FEW)
            named = tuple(Removed(name, "") for name in gone)
            yield Step(f"at most {plan.limit}", plan.limit, rest - plan.limit, named)
        if found.more and plan.fill:
            yield Step(f"filled up with {len(found.more)} of {plan.fill.rows.name}", found.total, 0)


def judge_tables(found: FoundRows, name: str) -> Verdict:
    """Return what becomes of an entry in the answer to a plan; nothing is tried that would list it."""
    scope, plan = found.stages.scope, found.plan
    funnel = _Funnel(found)
    fields = list(dict.fromkeys(test.field for test in tests_in(plan.condition)))
    view = small_view(scope, [name], [*funnel.known(), *fields])
    if not len(view.data.entries):
        raise NoSuchName([Problem("unknown-name", f"no entry is called {name}")])
    holds = _holding(found, name)
    state = state_of(view.data, scope.now, 0)
    gates = list(_gates(found, view, holds, str(state), is_public=state.is_public))
    if found.stages.without:
        gates.append(Gate("does not stand on the page already", name not in found.stages.without))
    rank = found.rank(name)
    of, after = found.every, rank - plan.offset
    cut = _cut(plan, after) if rank else ""
    filling = name in found.more
    if filling:
        rank, after = (
            plan.offset + found.own + found.more.index(name) + 1,
            found.own + found.more.index(name) + 1,
        )
        of, cut = of + len(found.more), ""
    matches = bool(rank) or (holds["matched"] and name not in found.stages.without)
    if not rank and matches and plan.at_most:
        field = plan.at_most.field.name
        cut = f"at most {plan.at_most.count} of the same {field}, and as many stand before it"
    groups, cut = _groups(found, name, cut) if rank and not cut and plan.groups else ((), cut)
    listed = bool(rank) and not cut
    failing = [gate.words for gate in gates if not gate.holds and not gate.depth]
    page = (after - 1) // plan.per_page + 1 if plan.per_page else 1
    return Verdict(
        id=name,
        name=view.titles.item(0) or "",
        place=str(view.data.texts("source").item(0) or ""),
        state=state,
        listed=listed,
        matches=matches,
        findings=tuple(gates),
        rank=rank or None,
        of=of,
        page=page if listed and not plan.groups else None,
        groups=groups,
        cut=cut,
        needs=() if listed else tuple(failing or [cut]),
    )


def _cut(plan: Plan, after: int) -> str:
    """Return which clause passes over a row at a place after the offset; nothing where none does."""
    if after <= 0:
        return f"offset {plan.offset} skips it"
    if plan.limit is not None and after > plan.limit:
        return f"limit {plan.limit} ends before it"
    return ""


def _groups(found: FoundRows, name: str, cut: str) -> tuple[tuple[str, ...], str]:
    """Return the labels of the groups in which a row stands, or what keeps it out of sight there."""
    plan = found.plan
    grouping, ids = grouped_tables(found.stages, found.total)
    groups, places = grouping.placements
    mine = np.array([ids[place] == name for place in places.tolist()], dtype=np.bool_)
    if not mine.any():
        return (), "it stands in none of the groups that are asked for"
    if plan.per_group and int(grouping.nth[mine].min()) >= plan.per_group:
        return (), f"limit {plan.per_group} per group ends before it"
    return tuple(grouping.label(number) for number in groups[mine].tolist()), cut


def _holding(found: FoundRows, name: str) -> dict[Any, bool]:
    """Return which conditions hold for an entry, those inside others too, and whether it matches at all."""
    stages, scope = found.stages, found.stages.scope
    every = (each for part in parts(stages.plan.condition) for each, _, _ in gates_inside(part))
    conditions = list(dict.fromkeys(every))
    rows = stages.entries.filter(stages.entries.id == scope.values.text(name))
    wanted: dict[str, Any] = {f"c{at}": mask_of(scope, rows, each) for at, each in enumerate(conditions)}
    if stages.plan.source:
        wanted["k_source"] = rows.id.isin(rows_of(scope, stages.plan.source).id)
    told = scope.data.rows(rows.select("id", **wanted), scope.values, "what holds for it")[0][1:]
    holds: dict[Any, bool] = dict(zip([*conditions, "source"], map(bool, told), strict=False))
    matched = stages.entries.filter(stages.matched & (stages.entries.id == scope.values.text(name)))
    holds["matched"] = found.count(matched) > 0
    return holds


def _gates(
    found: FoundRows, view: Any, holds: dict[Any, bool], state: str, *, is_public: bool
) -> Iterator[Gate]:
    """Yield all that is asked of an entry, in the order of the pipeline."""
    plan, data = found.plan, found.stages.scope.data
    kind = view.data.kind_of(0)
    if len(plan.kinds) < len(data.kind_names) and not plan.source:
        yield Gate(f"is of the kind {either(plan.kinds)}", kind in plan.kinds, f"kind {kind}")
    if not plan.unpublished:
        yield Gate("is public", is_public, state)
    if plan.source:
        yield Gate(f"is listed in {plan.source.name}", holds["source"])
    if plan.empty:
        yield Gate("all parameters that it needs are given", holds=False, values=plan.empty)
    selection = Selection(view)
    for part in parts(plan.condition):
        for condition, words, depth in gates_inside(part):
            yield Gate(*gate_words(condition, words, selection, 0, holds=holds[condition]), depth)
