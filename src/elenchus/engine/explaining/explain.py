"""Why an answer is as it is: what each step leaves, and what becomes of one entry on the way."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.decode import decode
from elenchus.engine.explaining.state import state_of
from elenchus.engine.explaining.textual import textual_reading
from elenchus.operators import operator
from elenchus.plan.explanation import Boundary, Explanation, Removed, Step, Tally
from elenchus.plan.nodes import Test, TimeValue
from elenchus.plan.walking import fields_in, parts, tests_in
from elenchus.plan.words import arrangement, condition_words
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.dates import from_instant, is_relative, to_minute
from elenchus.values.texts import either, quoted
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from elenchus.engine.columns.column import Mask
    from elenchus.engine.select import Selection
    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Condition, FieldRef, Plan
    from elenchus.values.dates import Clock

__all__ = ["as_text", "boundaries", "explain", "instant_words", "last_steps", "misfit_of", "value_words"]

_FEW = 6  # removed rows that a step names


def explain(plan: Plan, stages: Stages, clock: Clock, question: str) -> Explanation:
    """Return why the answer to a plan is as it is, from the steps by which it was found."""
    return Explanation(
        question=question,
        at=instant_words(clock.now, clock),
        boundaries=tuple(dict.fromkeys(boundaries(plan.condition, clock))),
        steps=(*_first_steps(plan, stages), *_condition_steps(plan, stages), *_last_steps(plan, stages)),
        arrangement=tuple(arrangement(plan)),
        total=len(stages.rows),
    )


def instant_words(value: int, clock: Clock) -> str:
    """Return an instant in the site's zone; the end of the last of all days as its last minute."""
    try:
        local = from_instant(value, clock.zone)
    except OverflowError:
        local = from_instant(value - 1, clock.zone)
    return f"{local:%a} {to_minute(local)} {clock.zone.key}"


def boundaries(condition: Condition | None, clock: Clock) -> Iterator[Boundary]:
    """Yield the boundaries of the relative dates in a condition."""
    for test in tests_in(condition):
        for value in test.values:
            if isinstance(value, TimeValue) and (is_relative(value.shown) or value.shown.lower() == "now"):
                start, end = (instant_words(at, clock) for at in (value.interval.start, value.interval.end))
                yield Boundary(value.shown, start, end)


def _first_steps(plan: Plan, stages: Stages) -> Iterator[Step]:
    """Yield the steps before the conditions: all rows, the kinds asked, what is public."""
    selection, data = stages.selection, stages.selection.view.data
    ids = selection.view.ids(plan.subject)
    if plan.subject.is_terms:
        yield Step(f"terms of {plan.subject.taxonomy}", len(ids), 0)
        yield from _source_step(plan, stages, np.ones(len(ids), np.bool_))
        return
    yield Step("entries", len(ids), 0)
    asked = np.ones(len(ids), np.bool_) if plan.source else data.of_kinds(plan.kinds)
    if len(plan.kinds) < len(data.kind_names) and not plan.source:
        names = either(plan.kinds)
        yield Step(f"of the kind {names}", int(asked.sum()), len(ids) - int(asked.sum()))
    public = asked & selection.view.visible
    gone = np.flatnonzero(asked & ~public)
    if plan.unpublished:
        yield Step("public or not", int(public.sum()), 0)
    else:
        examples = tuple(
            Removed(ids[row], str(state_of(data, selection.view.now, row))) for row in gone[:_FEW].tolist()
        )
        yield Step("public", int(public.sum()), len(gone), examples)
    yield from _source_step(plan, stages, public)


def _source_step(plan: Plan, stages: Stages, before: Mask) -> Iterator[Step]:
    """Yield the step to the rows of the listing that is asked."""
    if plan.source:
        left = int(stages.asked.sum())
        yield Step(f"listed in {plan.source.name}", left, int(before.sum()) - left)
    if plan.empty:
        yield Step(plan.empty, 0, int(stages.asked.sum()))


def _condition_steps(plan: Plan, stages: Stages) -> Iterator[Step]:
    """Yield a step for each part of the condition, in the order in which they are written."""
    left = stages.asked
    ids = stages.selection.view.ids(plan.subject)
    for part in parts(plan.condition):
        before = left
        left = before & stages.selection.rows(part)
        gone = np.flatnonzero(before & ~left)
        surely = stages.selection.certain(part)[0]
        yield Step(
            words=condition_words(part),
            left=int(left.sum()),
            removed=len(gone),
            examples=tuple(_removed(stages.selection, part, row, ids[row]) for row in gone[:_FEW].tolist()),
            by_absence=int((left & ~surely).sum()),
            as_text=as_text(stages.selection, part, before, left),
            tally=_tally(stages.selection, part, left),
        )


def _removed(selection: Selection, part: Condition, row: int, name: str) -> Removed:
    """Return a removed row with the values of the fields that the condition asks."""
    fields = fields_in(part)
    return Removed(name, "; ".join(value_words(selection, field, row) for field in fields))


def value_words(selection: Selection, field: FieldRef, row: int) -> str:
    """Return what a row has in a field: its value, nothing, or what does not fit."""
    text = spoken(decode(selection.view, field, row, selection.subject))
    misfit = misfit_of(selection, field.name.partition(".")[0], row)
    if misfit and not text:
        return f"{field.name} {quoted(misfit)} does not fit"
    if field.type.type.is_text and text:
        text = quoted(text)
    return f"{field.name} {text}" if text else f"no {field.name}"


def misfit_of(selection: Selection, name: str, row: int) -> str:
    """Return the stored text of a field that does not fit its type; nothing where there is none."""
    if selection.subject.is_terms:
        return ""
    return selection.view.data.misfit(row, name)


def as_text(selection: Selection, part: Condition, before: Mask, left: Mask) -> tuple[str, ...] | None:
    """Return the ids that a comparison of texts would leave, where a misfit is near and it would differ."""
    if not isinstance(part, Test) or part.field.type.type not in (Type.INTEGER, Type.NUMBER):
        return None
    rows = np.flatnonzero(before).tolist()
    if selection.subject.is_terms or not any(misfit_of(selection, part.field.name, row) for row in rows):
        return None
    kept = [row for row in rows if textual_reading(part, _raw_text(selection, part.field, row))]
    if kept == np.flatnonzero(left).tolist():
        return None
    return tuple(selection.view.ids(ENTRIES)[row] for row in kept)


def _raw_text(selection: Selection, field: FieldRef, row: int) -> str:
    """Return a field of a row as it was written."""
    return misfit_of(selection, field.name, row) or spoken(
        decode(selection.view, field, row, selection.subject)
    )


def _tally(selection: Selection, part: Condition, left: Mask) -> Tally | None:
    """Return how the rows add up over several terms of one comparison."""
    if not isinstance(part, Test) or part.negated or part.field.type.type is not Type.TERM:
        return None
    if len(part.values) <= 1:
        return None
    record = operator(part.operator)
    masks = [left & selection.positive(Test(part.field, record.name, (value,))) for value in part.values]
    sums = np.sum(masks, axis=0)
    ids = selection.view.ids(selection.subject)
    counts = tuple((value.shown, int(mask.sum())) for value, mask in zip(part.values, masks, strict=True))
    overlap = tuple(ids[row] for row in np.flatnonzero(sums > 1).tolist())
    return Tally(part.field.name, counts, int((sums > 0).sum()), overlap)


def _last_steps(plan: Plan, stages: Stages) -> Iterator[Step]:
    """Yield the steps after the conditions."""
    ids = stages.selection.view.ids(plan.subject)
    repeated = np.flatnonzero(stages.repeated).tolist()
    yield from last_steps(
        plan,
        matched=int(stages.matched.sum()) - len(repeated),
        repeated=[ids[row] for row in repeated],
        ordered=len(stages.ordered),
        filled=stages.filled,
        between=lambda first, last: [ids[row] for row in stages.ordered[first:last].tolist()],
    )


def last_steps(
    plan: Plan,
    *,
    matched: int,
    repeated: Sequence[str],
    ordered: int,
    filled: int,
    between: Callable[[int, int], list[str]],
) -> Iterator[Step]:
    """Yield the steps after the conditions: repeated and leading rows, variety, offset, limit, filling up.

    ``matched`` rows are left after ``repeated`` ones, ``ordered`` before offset and limit; ``between`` gives
    the ids of some of those.
    """
    if repeated:
        yield Step("not shown above on the page", matched, len(repeated), _named(repeated[:_FEW]))
    if plan.lead or plan.at_most:
        yield Step("with leading rows and at most so many of one value", ordered, max(0, matched - ordered))
    left = ordered
    if plan.offset:
        gone = between(0, plan.offset)
        left -= len(gone)
        yield Step(f"after the first {plan.offset}", left, len(gone), _named(gone))
    if plan.limit is not None and left > plan.limit:
        first = plan.offset + plan.limit
        gone = between(first, first + _FEW)
        yield Step(f"at most {plan.limit}", plan.limit, left - plan.limit, _named(gone))
        left = plan.limit
    if filled and plan.fill:
        yield Step(f"filled up with {filled} of {plan.fill.rows.name}", left + filled, 0)


def _named(ids: Sequence[str]) -> tuple[Removed, ...]:
    """Return rows by their ids alone."""
    return tuple(Removed(name, "") for name in ids)
