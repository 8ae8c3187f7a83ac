"""Typed values as ranges of the keys of a column."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, assert_never

import numpy as np

from elenchus.engine.columns.column import Lists, Numbers, Texts, narrowed
from elenchus.frozen import Frozen, Working
from elenchus.plan.nodes import (
    EntryValue,
    NumberValue,
    PatternValue,
    PositionValue,
    TermValue,
    TextValue,
    TimeValue,
)
from elenchus.schema.subject import ENTRIES
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from elenchus.engine.columns.column import Column
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.operators.column import KeyRange
    from elenchus.plan.nodes import Value
    from elenchus.schema.types import FieldType

__all__ = ["key_range", "tree_range"]

_TOP = 2**63 - 1


class _Range(Frozen):
    """A value as the keys low <= key < high; its subtree ends before ``last``."""

    low: float
    high: float
    last: float = 0
    text: str = ""


class _TextRange(Working):
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


_NOWHERE = _Range(0, 0)  # what this content has not


def key_range(data: Dataset, column: Column, kind: FieldType, value: Value) -> KeyRange:
    """Return the range of the keys of a column, which is of a type, that a value covers."""
    single: Column = column.elements if isinstance(column, Lists) else column
    match value:
        case NumberValue():
            return _number_range(single, value)
        case TextValue():
            return _TextRange(narrowed(single, Texts), value.folded)
        case PatternValue():
            return _Range(0, 0, text=value.pattern)
        case TimeValue():
            return _Range(value.interval.start, value.interval.end)
        case PositionValue():
            return _Range(value.position, value.position + 1)
        case TermValue():
            terms = data.taxonomies[kind.taxonomy]
            number = terms.places.get(value.path, -1)
            return _NOWHERE if number < 0 else _Range(number, number + 1, terms.ends[number])
        case EntryValue():
            row = data.row_of(ENTRIES, value)
            return _NOWHERE if row < 0 else _Range(row, row + 1)
        case _:
            assert_never(value)


def tree_range(data: Dataset, value: Value) -> KeyRange:
    """Return the numbers of an entry and of those below it."""
    row = data.row_of(ENTRIES, value) if isinstance(value, EntryValue) else -1
    if row < 0:
        return _NOWHERE
    number = int(data.entries.ancestry.numbers[row])
    return _Range(number, number + 1, int(data.entries.ancestry.ends[row]))


def _number_range(column: Column, value: NumberValue) -> _Range:
    """Return the keys equal to a number: whole numbers exactly, others to the nearest float64."""
    if isinstance(column, Numbers) and column.keys.dtype == np.int64:
        low, high = math.ceil(value.number), math.floor(value.number) + 1
        return _Range(max(-_TOP, min(low, _TOP)), max(-_TOP, min(high, _TOP)))
    number = float(value.number)
    return _Range(number, math.nextafter(number, math.inf))
