"""Walking through checked conditions: all that stand in one, and the parts that must hold together."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.plan.nodes import AllOf, AnyOf, Negation, Test

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.plan.nodes import Condition

__all__ = ["parts", "tests_in", "walk"]


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


def parts(condition: Condition | None) -> list[Condition]:
    """Return the parts of a condition that all must hold, in the order in which they are written."""
    if condition is None:
        return []
    if isinstance(condition, AllOf):
        return [inner for part in condition.parts for inner in parts(part)]
    return [condition]
