"""Conditions that cannot hold: what joined comparisons of one single-valued field leave is empty."""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING, Any, TypeAlias

from elenchus.errors import Problem
from elenchus.plan.nodes import (
    AllOf,
    EntryValue,
    FieldRef,
    NumberValue,
    PatternValue,
    PositionValue,
    TermValue,
    Test,
    TextValue,
    TimeValue,
)
from elenchus.values.collation import sort_key

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.plan.nodes import Value

__all__ = ["Range", "conflict", "ranges_of", "reversed_bounds"]

# A bound is 0 for the lowest, 1 with a value, 2 for the highest; then the value; then 0 before it or 1
# after it. So every comparison is a range [low, high) of bounds that compare as tuples do.
_Bound: TypeAlias = tuple[int, Any, int]
Range: TypeAlias = tuple[_Bound, _Bound]

_LOWEST: _Bound = (0, 0, 0)
_HIGHEST: _Bound = (2, 0, 0)


def conflict(condition: AllOf) -> Problem | None:
    """Return the problem of a conjunction that no value can meet."""
    by_field: dict[FieldRef, list[Test]] = defaultdict(list)
    for part in condition.parts:
        if isinstance(part, Test) and not part.field.type.many:
            by_field[part.field].append(part)
    for field, tests in by_field.items():
        if len(tests) > 1 and _contradict(tests):
            message = f"nothing can meet all that is asked of {field.name} here"
            hint = "Join with or what should hold for one or the other."
            return Problem("never-true", message, hint, span=tests[-1].span)
    return None


def _contradict(tests: Sequence[Test]) -> bool:
    """Say whether neither a value nor a missing one passes all tests."""
    presence = [_wants_value(test) for test in tests if test.operator in ("is set", "is missing")]
    ranges = [found for test in tests if not test.negated and (found := ranges_of(test)) is not None]
    if False in presence and (True in presence or ranges):
        return True
    left: list[Range] = [(_LOWEST, _HIGHEST)]
    for allowed in ranges:
        left = [shared for one in left for other in allowed if (shared := _overlap(one, other))]
    return not left


def _wants_value(test: Test) -> bool:
    """Say whether a test of presence holds for rows that have a value."""
    return (test.operator == "is set") != test.negated


def ranges_of(test: Test) -> list[Range] | None:
    """Return the ranges that a test allows; None where it is not about ranges."""
    spans = [span for value in test.values if (span := _span_of(value))]
    if not spans or len(spans) != len(test.values):
        return None
    low, high = spans[0]
    return {
        "=": spans,
        "in": spans,
        "<": [(_LOWEST, low)],
        "<=": [(_LOWEST, high)],
        ">": [(high, _HIGHEST)],
        ">=": [(low, _HIGHEST)],
        "between": [(low, spans[-1][1])],
    }.get(test.operator)


def _span_of(value: Value) -> Range | None:
    """Return a value as a range."""
    match value:
        case NumberValue():
            return _point(value.number)
        case TimeValue():
            return (1, value.interval.start, 0), (1, value.interval.end, 0)
        case PositionValue():
            return _point(value.position)
        case EntryValue():
            return _point(value.id)
        case TermValue():
            return _point(value.path)
        case TextValue():
            return _point(sort_key(value.folded))
        case PatternValue():
            return None


def _point(value: Any) -> Range:
    """Return the range that holds one value and nothing else."""
    return (1, value, 0), (1, value, 1)


def _overlap(one: Range, other: Range) -> Range | None:
    """Return what two ranges share."""
    low, high = max(one[0], other[0]), min(one[1], other[1])
    return (low, high) if low < high else None


def reversed_bounds(low: Value, high: Value) -> bool:
    """Say whether the first of two bounds lies after the second."""
    first, second = _span_of(low), _span_of(high)
    return bool(first and second and not first[0] < second[1])
