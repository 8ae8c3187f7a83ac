"""Why an answer of tables is as it is, by counts; and what becomes of one entry in it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import ibis
import numpy as np

from elenchus.engine.explaining.cures import merged
from elenchus.engine.explaining.explain import as_text, boundaries, instant_words, last_steps, value_words
from elenchus.engine.explaining.placing import Standing, place_in_groups, standing
from elenchus.engine.explaining.remedies import changed_plan, clauses
from elenchus.engine.explaining.state import state_of
from elenchus.engine.explaining.verdict import gates_inside, gates_of, page_of
from elenchus.engine.select import Selection
from elenchus.errors import NoSuchName, Problem
from elenchus.plan.explanation import Explanation, Gate, Removed, Step, Tally, Verdict
from elenchus.plan.nodes import FieldRef, Test
from elenchus.plan.walking import fields_in, group_tests, parts
from elenchus.plan.words import arrangement, condition_words
from elenchus.schema.types import Type
from elenchus.tables.expressions import ALL_ROWS, NO_ROWS, met, newest_first, no
from elenchus.tables.shown import small_view
from elenchus.tables.stages import absent, mask_of, rows_of
from elenchus.values.texts import either, quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.plan.explanation import Way
    from elenchus.plan.nodes import Condition, Plan
    from elenchus.tables.expressions import Mask
    from elenchus.tables.filling import FoundRows
    from elenchus.values.dates import Clock

__all__ = ["explain_tables", "judge_tables"]

_FEW = 6  # removed rows that a step names
_MOST_TEXTS = 10_000  # rows whose stored texts are compared as such
_NOWHERE = np.zeros(0, dtype=np.int64)
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
        plan, entries = self.plan, self.entries
        if len(plan.kinds) < len(self.scope.data.kind_names) and not plan.source:
            kinds = self.scope.values.among(entries.kind, plan.kinds)
            yield f"of the kind {either(plan.kinds)}", kinds, None
        yield ("public or not" if plan.unpublished else "public"), self.scope.visible(entries), None
        if plan.source:
            listed = entries.id.isin(rows_of(self.scope, plan.source).id)
            yield f"listed in {plan.source.name}", listed, None
        if plan.empty:
            yield plan.empty, NO_ROWS, None
        for part in parts(plan.condition):
            yield condition_words(part), mask_of(self.scope, entries, part), part

    def counted(self, masks: Sequence[tuple[str, Mask, Condition | None]]) -> Iterator[Step]:
        """Yield steps with what they leave and remove, the first of those named."""
        left: Mask = ALL_ROWS
        sums: dict[str, Any] = {"k_all": self.entries.count()}
        before: list[Mask] = []
        for number, (_, mask, part) in enumerate(masks):
            before.append(left)
            left = mask if number == 0 else left & mask
            sums[f"k{number}"] = self.entries.count(where=left)
            lacking = None if part is None else absent(self.scope, self.entries, part)
            if lacking is not None:
                sums[f"a{number}"] = self.entries.count(where=left & lacking)
        [row] = self.scope.rows(self.entries.aggregate(**sums), "what each step leaves")
        told = dict(zip(sums, map(int, row), strict=True))
        yield Step("entries", told["k_all"], 0)
        standing = told["k_all"]
        for number, (words, mask, part) in enumerate(masks):
            now, gone = told[f"k{number}"], standing - told[f"k{number}"]
            is_named = gone and (part is not None or words == "public")
            examples = self.examples(before[number] & no(mask), part) if is_named else ()
            tally = self.tally(part, before[number] & mask) if part is not None else None
            texts = self.as_text(part, before[number]) if standing <= _MOST_TEXTS else None
            lacking_rows = told.get(f"a{number}", 0)
            yield Step(words, now, gone, examples, lacking_rows, as_text=texts, tally=tally)
            standing = now

    def as_text(self, part: Condition | None, before: Mask) -> tuple[str, ...] | None:
        """Return what a comparison of texts would leave of some rows; see :func:`as_text`."""
        if not isinstance(part, Test) or part.field.name not in self.scope.data.misfit_fields:
            return None
        rows = met(self.entries, before).order_by(newest_first(self.entries)).select("id")
        ids = [name for (name,) in self.scope.rows(rows, "what it is asked of")]
        selection = Selection(small_view(self.scope, ids, [part.field]))
        return as_text(selection, part, np.ones(len(ids), np.bool_), selection.rows(part))

    def examples(self, mask: Mask, part: Condition | None) -> tuple[Removed, ...]:
        """Return the first entries of a mask, with what a condition asks, or why they are not public."""
        entries = self.entries
        rows = met(entries, mask).order_by(newest_first(entries)).limit(_FEW)
        ids = [name for (name,) in self.scope.rows(rows.select("id"), "those removed")]
        fields = list(fields_in(part))
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
        entries = met(self.entries, left)
        each = [
            mask_of(self.scope, entries, Test(part.field, part.operator, (value,))) for value in part.values
        ]
        rows = entries.select("id", **{f"t{at}": ibis.ifelse(mask, 1, 0) for at, mask in enumerate(each)})
        names = [f"t{at}" for at in range(len(each))]
        counted = {name: rows[name].sum().coalesce(0) for name in names}
        [row] = self.scope.rows(rows.aggregate(**counted, k_all=rows.count()), "how terms add up")
        *sums, distinct = map(int, row)
        total = sum((rows[name] for name in names[1:]), start=rows[names[0]])
        several = entries.filter(entries.id.isin(rows.filter(total > 1).id))
        several = several.order_by(newest_first(several)).select("id")
        overlap = tuple(name for (name,) in self.scope.rows(several, "in several terms"))
        counts = tuple((value.shown, count) for value, count in zip(part.values, sums, strict=True))
        return Tally(part.field.name, counts, distinct, overlap)

    def last(self) -> Iterator[Step]:
        """Yield the steps after the conditions."""
        found, rows = self.found, self.entries
        repeated: list[str] = []
        if found.stages.without:
            rows = met(rows, self.stages.matched & self.stages.left_out).order_by(newest_first(rows))
            repeated = [name for (name,) in self.scope.rows(rows.select("id"), "those above on the page")]
        yield from last_steps(
            self.plan,
            matched=found.matched,
            repeated=repeated,
            ordered=found.every,
            filled=len(found.more),
            between=found.ids_before,
        )


def judge_tables(found: FoundRows, name: str, ask: Callable[[Plan], FoundRows]) -> Verdict:
    """Return what becomes of an entry in the answer to a plan; ``ask`` gives what another plan finds.

    Of what would list it only the clauses are tried that cut it off, no edits.
    """
    scope, plan = found.stages.scope, found.plan
    fields = list(fields_in(plan.condition))
    view = small_view(scope, [name], [*_Funnel(found).known(), *fields])
    if not len(view.data.entries):
        hint = "The site may have changed since its tables were written: export it again."
        raise NoSuchName([Problem("unknown-name", f"no entry of the tables is called {quoted(name)}", hint)])
    holds = _holding(found, name)
    gates = list(
        gates_of(plan, Selection(view), 0, holds=holds.__getitem__, is_listed=lambda _: holds["source"])
    )
    is_repeated = name in found.stages.without
    if found.stages.without:
        gates.append(Gate("does not stand on the page already", not is_repeated))
    place, groups = _placed(found, name, matches=holds["matched"] and not is_repeated)
    way: Way = ()
    then = place
    if place.matches and not place.is_listed:

        def stand(plan: Plan) -> Standing:
            return _placed(ask(plan), name, matches=True)[0]

        tried = merged(clauses(plan, stand, lambda: found.nth_of_value(name)))
        listed = stand(changed_plan(plan, tried))
        way, then = (tried, listed) if listed.is_listed else ((), place)
    failing = [gate.words for gate in gates if not gate.holds and not gate.depth]
    failing += [condition_words(test) for test in group_tests(plan) if not holds[test]]
    return Verdict(
        id=name,
        name=view.titles.item(0) or "",
        place=str(view.data.texts("source").item(0) or ""),
        state=state_of(view.data, scope.now, 0),
        listed=place.is_listed,
        matches=place.matches,
        findings=tuple(gates),
        rank=place.rank or then.rank,
        of=place.of if place.rank else then.of,
        page=page_of(plan, place) if place.is_listed else None,
        groups=groups if place.is_listed else (),
        cut=place.cut,
        ways=(way,) if way else (),
        edits_tried=False,
        needs=() if place.is_listed or way else tuple(failing),
    )


def _placed(found: FoundRows, name: str, *, matches: bool) -> tuple[Standing, tuple[str, ...]]:
    """Return the place of an entry in an answer, and the labels of its groups."""
    plan = found.plan
    groups, places = found.grouped.places_of(name) if plan.groups else (_NOWHERE, _NOWHERE)
    grouping = found.grouped.grouping if plan.groups else None
    labels = tuple(grouping.label(number) for number in groups.tolist()) if grouping else ()
    if name in found.more:
        place = found.own + found.more.index(name) + 1
        of = found.every + len(found.more)
        listed = Standing(matches=True, is_listed=True, rank=place + plan.offset, of=of, after_offset=place)
        return listed, labels
    inside = place_in_groups(plan, grouping.turns[groups], places) if grouping else None
    return standing(plan, found.rank(name), found.every, matches=matches, place=lambda: inside), labels


def _holding(found: FoundRows, name: str) -> dict[Any, bool]:
    """Return which conditions hold for an entry, those inside others too, and whether it matches at all."""
    stages, scope = found.stages, found.stages.scope
    every = [each for part in parts(stages.plan.condition) for each, _, _ in gates_inside(part)]
    conditions: list[Condition] = list(dict.fromkeys((*every, *group_tests(stages.plan))))
    rows = stages.entries.filter(stages.entries.id == scope.values.text(name))
    wanted: dict[str, Any] = {f"c{at}": mask_of(scope, rows, each) for at, each in enumerate(conditions)}
    if stages.plan.source:
        wanted["k_source"] = rows.id.isin(rows_of(scope, stages.plan.source).id)
    told = scope.rows(rows.select("id", **wanted), "what holds for it")[0][1:]
    holds: dict[Any, bool] = dict(zip([*conditions, "source"], map(bool, told), strict=False))
    matched = met(stages.entries, stages.matched & (stages.entries.id == scope.values.text(name)))
    holds["matched"] = found.count("whether it matches", lambda _: matched) > 0
    return holds
