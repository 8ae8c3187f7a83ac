"""What would list an entry: all that keeps it out, changed in a copy, and the question asked again."""

from __future__ import annotations

from itertools import islice, product
from typing import TYPE_CHECKING, Any

from elenchus.engine.executor import Engine
from elenchus.engine.explaining.cures import Workshop, merged
from elenchus.engine.explaining.placing import nth_of_value, placed
from elenchus.engine.explaining.state import state_of
from elenchus.engine.stages import lead_rows
from elenchus.frozen import Frozen, replace
from elenchus.plan.explanation import Change
from elenchus.plan.nodes import ListedIn, Negation, Part, PerValue, Stored, Via
from elenchus.plan.walking import group_tests, parts

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    import numpy as np
    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.explaining.placing import Standing
    from elenchus.engine.stages import Stages
    from elenchus.plan.explanation import Way
    from elenchus.plan.nodes import Condition, FieldRef, Plan, Rows

__all__ = ["Remedies", "changed_plan", "clauses"]

_MOST_TRIED = 60  # combinations of changes
_MOST_WAYS = 3  # that are reported
_DEEPEST = 3  # listings in listings that are looked into
_PRIORITY = Change("let this section choose before the other, with a smaller priority")


def _stored(ref: FieldRef) -> FieldRef:
    """Return the stored field from which the values of a field are taken."""
    match ref.source:
        case Part(of, _):
            return _stored(of)
        case Via(first, _):
            return _stored(first)
        case _:
            return ref


class Remedies(Frozen):
    """One entry that the answer to a plan does not list; ``without`` are rows that it leaves out."""

    plan: Plan
    engine: Engine
    workshop: Workshop
    without: NDArray[np.intp] | None = None
    depth: int = 0

    @property
    def row(self) -> int:
        """The row of the entry."""
        return self.workshop.row

    @property
    def data(self) -> Dataset:
        """The dataset as it is."""
        return self.workshop.data

    def ways(self) -> tuple[Way, ...]:
        """Return up to three single changes that would list the entry, or else the first several together.

        Each was tried: with it the question lists the entry. Empty where none is known.
        """
        options = list(self.options())
        if not all(options):
            return ()
        found: list[Way] = []
        for chosen in islice(product(*options), _MOST_TRIED):
            way = self.completed(merged(change for each in chosen for change in each))
            if way and [str(each) for each in way] not in [[str(each) for each in one] for one in found]:
                found.append(way)
            if sum(len(each) == 1 for each in found) >= _MOST_WAYS:
                break
        singles = [way for way in found if len(way) == 1]
        return tuple(singles or sorted(found, key=len)[:1])

    def options(self) -> Iterator[list[Way]]:
        """Yield for all that keeps the entry out the ways to change that; empty where none is known."""
        plan, judged = self.plan, self.workshop.judged
        leads = self.row in lead_rows(plan, self.data)
        if not leads and not plan.source and self.workshop.kind not in plan.kinds:
            yield self.with_kind()
        if not plan.unpublished:
            state = state_of(self.data, self.engine.clock.now, self.row)
            if not state.is_public:
                yield [self.workshop.ways_to_publish(state)]
        if self.without is not None and self.row in self.without:
            yield [(_PRIORITY,)]
        yield from (self.ways_for(test) for test in group_tests(plan) if not judged.rows(test)[self.row])
        if leads:
            return
        if plan.source and not judged.among(plan.source)[self.row]:
            yield self.inside(plan.source)
        if plan.empty:
            yield []
        for part in parts(plan.condition):
            if not judged.rows(part)[self.row]:
                yield self.ways_for(part)

    def ways_for(self, part: Condition) -> list[Way]:
        """Return ways to make a condition hold."""
        if isinstance(part, ListedIn):
            return self.inside(part.rows)
        if isinstance(part, Negation) and isinstance(part.part, ListedIn):
            return []
        return self.workshop.ways(part)

    def inside(self, rows: Rows) -> list[Way]:
        """Return the edits by which another listing would list the entry."""
        if self.depth >= _DEEPEST or rows.plan.subject.is_terms:
            return []
        judged = self.engine.selection(rows.plan, besides=self.row)
        inner = Remedies(rows.plan, self.engine, Workshop(judged, self.row), depth=self.depth + 1)
        return [way for way in inner.ways() if all(change.edit for change in way)]

    def with_kind(self) -> list[Way]:
        """Return the change of the question that asks for the entry's kind too, where that can be asked."""
        kind = self.workshop.kind
        for ref in map(_stored, self.plan.fields):
            field = self.data.schema.field_of(kind, ref.name)
            if field and isinstance(ref.source, Stored) and field.type != ref.type:
                return []  # the field would have two types
        kinds = (*self.plan.kinds, kind)
        clause = f"from {', '.join(kinds)}"
        return [(Change(f"ask for {kind} too: {clause}", clause=clause, part=("kinds", kinds)),)]

    # Trying

    def completed(self, way: Way) -> Way:
        """Return changes that list the entry: these, with those of the clauses that cut it off after them."""
        place = self.after(way)
        if place.is_listed:
            return way
        if not place.matches:
            return ()
        whole = merged((*way, *self.clauses(way)))
        return whole if self.after(whole).is_listed else ()

    def after(self, way: Way) -> Standing:
        """Return where the entry stands after some changes."""
        changed = Engine(self.workshop.with_changes(way), self.engine.clock)
        plan = changed_plan(self.plan, way)
        return placed(plan, changed.select(plan, self.left(way)), self.row)

    def left(self, way: Way) -> NDArray[np.intp] | None:
        """Return the rows that are left out: none where the section chooses first."""
        return None if _PRIORITY in way else self.without

    def clauses(self, way: Way) -> Iterator[Change]:
        """Yield the changes of clauses that cut the entry off after some changes."""
        changed = Engine(self.workshop.with_changes(way), self.engine.clock)

        def stages(plan: Plan) -> Stages:
            return changed.select(plan, self.left(way))

        plan = changed_plan(self.plan, way)
        return clauses(
            plan,
            lambda each: placed(each, stages(each), self.row),
            lambda: nth_of_value(plan, stages(replace(plan, at_most=None)), self.row),
        )


def changed_plan(plan: Plan, way: Way) -> Plan:
    """Return a plan with the clauses that some changes replace."""
    changed: dict[str, Any] = dict(change.part for change in way if change.part)
    return replace(plan, **changed)


def clauses(plan: Plan, stand: Callable[[Plan], Standing], nth: Callable[[], int]) -> Iterator[Change]:
    """Yield the changes of clauses that cut off a row which matches, one after the other.

    ``stand`` tells where it stands in the answer to a plan; ``nth`` how many rows up to it have its value of
    the field that is kept varied.
    """
    place = stand(plan)
    if plan.at_most and place.rank is None:
        count = nth()
        words = f"raise “at most {plan.at_most.count}” to {count} or more"
        raised = PerValue(count, plan.at_most.field)
        clause = f"at most {count} per {plan.at_most.field.name}"
        yield Change(words, clause=clause, part=("at_most", raised))
        plan = replace(plan, at_most=raised)
        place = stand(plan)
    if place.rank is None:
        return
    if place.after_offset <= 0:
        offset = place.rank - 1
        words = f"an offset of {offset} or less"
        yield Change(words, clause=f"offset {offset}", part=("offset", offset))
        plan = replace(plan, offset=offset)
    after = place.rank - plan.offset
    if plan.limit is not None and after > plan.limit:
        yield Change(f"a limit of {after} or more", clause=f"limit {after}", part=("limit", after))
        plan = replace(plan, limit=after)
    if stand(plan).fails:
        words = "leave having out, which none of its groups meets"
        yield Change(words, clause="no having", part=("having", None))
        plan = replace(plan, having=None)
    turn = stand(plan).turn
    if plan.group_limit is not None and turn >= plan.group_limit:
        words, clause = f"a limit of {turn + 1} or more groups", f"limit {turn + 1} groups"
        yield Change(words, clause=clause, part=("group_limit", turn + 1))
        plan = replace(plan, group_limit=turn + 1)
    at = stand(plan).nth
    if plan.per_group and at >= plan.per_group:
        words = f"a limit of {at + 1} or more per group"
        yield Change(words, clause=f"limit {at + 1} per group", part=("per_group", at + 1))
