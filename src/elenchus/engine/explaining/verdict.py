"""What becomes of one entry: each condition with its value, its place, and what would list it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.engine.explaining.cures import Workshop
from elenchus.engine.explaining.explain import value_words
from elenchus.engine.explaining.placing import placed
from elenchus.engine.explaining.remedies import Remedies
from elenchus.engine.explaining.state import state_of
from elenchus.engine.groups import grouped
from elenchus.plan.explanation import Gate, Verdict
from elenchus.plan.nodes import AllOf, AnyOf, Negation
from elenchus.plan.walking import fields_in, group_tests, parts
from elenchus.plan.words import condition_words
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    import numpy as np
    from numpy.typing import NDArray

    from elenchus.engine.executor import Engine
    from elenchus.engine.explaining.placing import Standing
    from elenchus.engine.select import Selection
    from elenchus.engine.stages import Stages
    from elenchus.plan.explanation import Way
    from elenchus.plan.nodes import Condition, Plan, Rows

__all__ = ["gates_inside", "gates_of", "judge", "page_of"]


def judge(engine: Engine, plan: Plan, row: int, *, without: NDArray[np.intp] | None = None) -> Verdict:
    """Return what becomes of a row, an entry or a term, in the answer to a plan.

    ``without`` are rows that the answer leaves out, because they stand on its page already.
    """
    data, now = engine.data, engine.clock.now
    judged = engine.selection(plan, besides=row)
    gates = list(
        gates_of(
            plan,
            judged,
            row,
            holds=lambda condition: bool(judged.rows(condition)[row]),
            is_listed=lambda rows: bool(judged.among(rows)[row]),
        )
    )
    if without is not None:
        gates.append(Gate("does not stand on the page already", row not in without))
    stages = engine.select(plan, without)
    place = placed(plan, stages, row)
    ways: tuple[Way, ...] = ()
    then = place
    if not place.is_listed and plan.subject.is_entries:
        remedies = Remedies(plan, engine, Workshop(judged, row), without)
        ways = remedies.ways()
        then = remedies.after(ways[0]) if ways else place
    failing = [gate.words for gate in gates if not gate.holds and not gate.depth]
    failing += [condition_words(test) for test in group_tests(plan) if not judged.rows(test)[row]]
    return Verdict(
        id=judged.view.ids(plan.subject)[row],
        name=_name_of(judged, row),
        place="" if plan.subject.is_terms else data.texts("source").item(row) or "",
        state=None if plan.subject.is_terms else state_of(data, now, row),
        listed=place.is_listed,
        matches=place.matches,
        findings=tuple(gates),
        rank=place.rank or then.rank,
        of=place.of if place.rank else then.of,
        page=page_of(plan, place) if place.is_listed else None,
        groups=_groups_of(plan, stages, row) if place.is_listed else (),
        cut=place.cut,
        ways=ways,
        edits_tried=plan.subject.is_entries,
        needs=tuple(failing) if not (ways or place.is_listed) else (),
    )


def _name_of(selection: Selection, row: int) -> str:
    """Return the title of an entry, or the name of a term."""
    if selection.subject.is_terms:
        return selection.view.data.taxonomies[selection.subject.taxonomy].terms[row].name
    return selection.view.titles.item(row) or ""


def gates_of(
    plan: Plan,
    judged: Selection,
    row: int,
    *,
    holds: Callable[[Condition], bool],
    is_listed: Callable[[Rows], bool],
) -> Iterator[Gate]:
    """Yield all that is asked of a row, in the order of the pipeline; its values are read in ``judged``.

    ``holds`` says whether it meets a condition, ``is_listed`` whether it is a row of another listing.
    """
    data = judged.view.data
    if plan.subject.is_entries:
        kind = data.kind_of(row)
        if len(plan.kinds) < len(data.kind_names) and not plan.source:
            yield Gate(f"is of the kind {either(plan.kinds)}", kind in plan.kinds, f"kind {kind}")
        if not plan.unpublished:
            state = state_of(data, judged.view.now, row)
            yield Gate("is public", state.is_public, str(state))
    if plan.source:
        yield Gate(f"is listed in {plan.source.name}", is_listed(plan.source))
    if plan.empty:
        yield Gate("all parameters that it needs are given", holds=False, values=plan.empty)
    for part in parts(plan.condition):
        for condition, words, depth in gates_inside(part):
            yield Gate(*_gate_words(condition, words, judged, row, holds=holds(condition)), depth)


def gates_inside(condition: Condition, depth: int = 0) -> Iterator[tuple[Condition, str, int]]:
    """Yield a condition and those inside it, with words for those that only hold others, and their depth."""
    if isinstance(condition, AnyOf | AllOf):
        yield condition, "one of these holds" if isinstance(condition, AnyOf) else "all of these hold", depth
        for part in condition.parts:
            yield from gates_inside(part, depth + 1)
    elif isinstance(condition, Negation) and isinstance(condition.part, AnyOf | AllOf | Negation):
        yield condition, "this does not hold", depth
        yield from gates_inside(condition.part, depth + 1)
    else:
        yield condition, "", depth


def _gate_words(
    condition: Condition, words: str, judged: Selection, row: int, *, holds: bool
) -> tuple[str, bool, str]:
    """Return what a gate says of a row: in words, whether it holds, and the values that decide it."""
    if words:
        return words, holds, ""
    fields = fields_in(condition)
    values = "; ".join(value_words(judged, field, row) for field in fields)
    return condition_words(condition), holds, values


def page_of(plan: Plan, place: Standing) -> int | None:
    """Return the page of a listed row; none where rows stand in groups."""
    if plan.groups or place.rank is None:
        return None
    return (place.after_offset - 1) // plan.per_page + 1 if plan.per_page else 1


def _groups_of(plan: Plan, stages: Stages, row: int) -> tuple[str, ...]:
    """Return the labels of the groups in which a listed row stands."""
    if not plan.groups:
        return ()
    grouping = grouped(stages, plan)
    numbers = grouping.group_of[stages.rows[grouping.place_of] == row].tolist()
    return tuple(grouping.label(number) for number in numbers)
