"""Typed values as ranges of the keys of a column."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, assert_never

import numpy as np

from elenchus.plan.nodes import (
    EntryValue,
    NumberValue,
    PatternValue,
    PositionValue,
    TermValue,
    TextValue,
    TimeValue,
)
from elenchus.table.columns import Lists, Numbers, Texts

if TYPE_CHECKING:
    from elenchus.plan.nodes import Value
    from elenchus.table.ancestry import Ancestry
    from elenchus.table.columns import Column, KeyRange

__all__ = ["key_range", "tree_range"]

TOP = 2**63 - 1


@dataclass(frozen=True, slots=True)
class Range:
    """A value as the keys low <= key < high; its subtree ends before ``last``."""

    low: float
    high: float
    last: float = 0
    text: str = ""


@dataclass(frozen=True)
class TextRange:
    """A text as a range of ranks, which are worked out only when an order asks for them."""

    column: Texts
    text: str
    last: float = 0

    @cached_property
    def ranks(self) -> tuple[int, int]:
        """The range of ranks; empty, at the place it would have, for a text that no row has."""
        return self.column.lexicon.rank(self.text)

    @property
    def low(self) -> float:
        """The first rank."""
        return self.ranks[0]

    @property
    def high(self) -> float:
        """The rank after the last."""
        return self.ranks[1]


def key_range(column: Column, value: Value) -> KeyRange:
    """Return the range of a column's keys that a value covers."""
    single: Column = column.elements if isinstance(column, Lists) else column
    match value:
        case NumberValue():
            return number_range(single, value)
        case TextValue():
            assert isinstance(single, Texts)  # noqa: S101 - the checker gives texts to text fields only
            return TextRange(single, value.folded)
        case PatternValue():
            return Range(0, 0, text=value.pattern)
        case TimeValue():
            return Range(value.interval.start, value.interval.end)
        case PositionValue():
            return Range(value.position, value.position + 1)
        case TermValue():
            return Range(value.number, value.number + 1, value.end)
        case EntryValue():
            return Range(value.row, value.row + 1)
        case _:
            assert_never(value)


def tree_range(ancestry: Ancestry, value: Value) -> KeyRange:
    """Return the numbers of an entry and of those below it."""
    assert isinstance(value, EntryValue)  # noqa: S101 - the checker gives entries to references only
    number, end = int(ancestry.numbers[value.row]), int(ancestry.ends[value.row])
    return Range(number, number + 1, end)


def number_range(column: Column, value: NumberValue) -> Range:
    """Return the keys equal to a number: whole numbers exactly, others to the nearest float64."""
    if isinstance(column, Numbers) and column.keys.dtype == np.int64:
        low, high = math.ceil(value.number), math.floor(value.number) + 1
        return Range(max(-TOP, min(low, TOP)), max(-TOP, min(high, TOP)))
    number = float(value.number)
    return Range(number, math.nextafter(number, math.inf))
