"""What a comparison would say if numbers were texts: the mistake that types prevent, made visible."""

from __future__ import annotations

import operator as python
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.plan.nodes import Test

__all__ = ["textual_reading"]

_COMPARISONS: dict[str, Callable[[str, str], bool]] = {
    "=": python.eq,
    "<": python.lt,
    "<=": python.le,
    ">": python.gt,
    ">=": python.ge,
}


def textual_reading(test: Test, text: str) -> bool:
    """Say whether a comparison would hold between the written texts, by code point."""
    values = [value.shown for value in test.values]
    if test.operator == "between":
        found = values[0] <= text <= values[1]
    elif test.operator == "in":
        found = text in values
    elif test.operator in _COMPARISONS:
        found = _COMPARISONS[test.operator](text, values[0])
    else:
        found = bool(text) == (test.operator == "is set")
    return bool(text and found) != test.negated
