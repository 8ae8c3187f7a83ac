"""Walking through checked conditions: all that stand in one, and the parts that must hold together."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import replace
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    FieldRef,
    FieldTest,
    ListedIn,
    Negation,
    Part,
    RelatednessOrder,
    SharesTerms,
    SortKey,
    SourceOrder,
    Stepped,
    Test,
    TimeValue,
    Via,
    YesFirst,
)
from elenchus.values.dates import Interval

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.plan.nodes import Condition, OrderKey, Plan, Rows, Value

__all__ = [
    "at_instant", "fields_in", "first_step", "group_tests", "is_now", "likenesses_in", "named_rows", "parts",
    "placing_fields", "sorting_fields", "tests_in", "walk",
]  # fmt: skip


def walk(condition: Condition | None) -> Iterator[Condition]:
    """Yield a condition and all that stand in it, each before those in it."""
    if condition is None:
        return
    yield condition
    if isinstance(condition, Negation):
        yield from walk(condition.part)
    elif isinstance(condition, AllOf | AnyOf):
        for part in condition.parts:
            yield from walk(part)


def tests_in(condition: Condition | None) -> Iterator[Test]:
    """Yield all comparisons in a condition."""
    return (each for each in walk(condition) if isinstance(each, Test))


def fields_in(condition: Condition | None) -> dict[FieldRef, None]:
    """Return the fields that a condition compares, in its order."""
    found: dict[FieldRef, None] = {}
    for each in walk(condition):
        if isinstance(each, Test | FieldTest):
            found[each.field] = None
        if isinstance(each, FieldTest):
            found[each.other] = None
    return found


def likenesses_in(condition: Condition | None) -> Iterator[SharesTerms]:
    """Yield all likenesses in a condition."""
    return (each for each in walk(condition) if isinstance(each, SharesTerms))


def parts(condition: Condition | None) -> list[Condition]:
    """Return the parts of a condition that all must hold, in the order in which they are written."""
    if condition is None:
        return []
    if isinstance(condition, AllOf):
        return [inner for part in condition.parts for inner in parts(part)]
    return [condition]


def named_rows(plan: Plan) -> Iterator[Rows]:
    """Yield the listings that a plan names."""
    if plan.source:
        yield plan.source
    if plan.fill:
        yield plan.fill.rows
    yield from (each.rows for each in walk(plan.condition) if isinstance(each, ListedIn))


def sorting_fields(plan: Plan) -> Iterator[FieldRef]:
    """Yield the fields by which the rows of a plan are put in order and grouped."""
    yield from (key.field for key in plan.groups)
    yield from (key.field for key in plan.order if isinstance(key, SortKey | YesFirst))
    yield from (plan.at_most.field,) if plan.at_most else ()


def placing_fields(plan: Plan) -> Iterator[FieldRef]:
    """Yield the fields on which it depends which rows a plan has, and in what order."""
    yield from sorting_fields(plan)
    for key in plan.order:
        yield from key.related.fields if isinstance(key, RelatednessOrder) else ()
    yield from fields_in(plan.condition)
    for each in likenesses_in(plan.condition):
        yield from each.fields


def group_tests(plan: Plan) -> list[Test]:
    """Return what a row must meet to stand in any of the groups that are asked for."""
    return [Test(key.field, "under", key.within) for key in plan.groups if key.within]


def is_now(value: Value) -> bool:
    """Say whether a value is the instant that is now."""
    return isinstance(value, TimeValue) and value.interval.end == value.interval.start + 1


def at_instant(plan: Plan, now: int) -> Plan:
    """Return a plan for another instant of the same local day: what it compares with now is that instant."""

    def of_rows(rows: Rows) -> Rows:
        return replace(rows, plan=at_instant(rows.plan, now))

    def of_key(key: OrderKey) -> OrderKey:
        return replace(key, rows=of_rows(key.rows)) if isinstance(key, SourceOrder) else key

    def of_value(value: Value) -> Value:
        return replace(value, interval=Interval(now, now + 1)) if is_now(value) else value

    def of(condition: Condition) -> Condition:
        match condition:
            case Test():
                return replace(condition, values=tuple(map(of_value, condition.values)))
            case Negation():
                return Negation(of(condition.part))
            case AllOf() | AnyOf():
                return type(condition)(tuple(map(of, condition.parts)))
            case ListedIn():
                return replace(condition, rows=of_rows(condition.rows))
            case _:
                return condition

    return replace(
        plan,
        condition=of(plan.condition) if plan.condition else None,
        order=tuple(
            replace(key, rows=of_rows(key.rows)) if isinstance(key, SourceOrder) else key
            for key in plan.order
        ),
        source=of_rows(plan.source) if plan.source else None,
        fill=replace(plan.fill, rows=of_rows(plan.fill.rows)) if plan.fill else None,
    )


def first_step(field: FieldRef) -> tuple[FieldRef, FieldRef] | None:
    """Return the reference that a path follows first, and the field of what that leads to.

    ``author.station.name`` is ``author``, then ``station.name``; a part of what stands at the end of a path
    is a part there. None for a field that follows no reference.
    """
    match field.source:
        case Via(first, then):
            step = first_step(first)
            return (step[0], FieldRef(then.name, then.type, Via(step[1], then))) if step else (first, then)
        case Part(of, name):
            step = first_step(of)
            if step:
                then = FieldRef(f"{step[1].name}.{name}", field.type, Part(step[1], name))
                return step[0], then
        case Stepped(of, width):
            step = first_step(of)
            if step:
                return step[0], FieldRef(step[1].name, field.type, Stepped(step[1], width))
    return None
