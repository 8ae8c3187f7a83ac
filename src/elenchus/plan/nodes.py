"""A checked question: what the executors run. It knows neither NumPy nor SQL."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

from elenchus.errors import Span

if TYPE_CHECKING:
    from fractions import Fraction

    from elenchus.errors import Problem
    from elenchus.table.schema import FieldType
    from elenchus.values.dates import Interval

__all__ = [
    "AllOf",
    "AnyOf",
    "Condition",
    "EntryValue",
    "FieldRef",
    "Negation",
    "NumberValue",
    "Plan",
    "PositionValue",
    "SortKey",
    "TermValue",
    "Test",
    "TextValue",
    "TimeValue",
    "Value",
]


@dataclass(frozen=True, slots=True)
class FieldRef:
    """A field by the two things that find its column: name and type."""

    name: str
    type: FieldType


@dataclass(frozen=True, slots=True)
class NumberValue:
    """A number, exact as it was written."""

    number: Fraction


@dataclass(frozen=True, slots=True)
class TextValue:
    """A text in its folded form, and as it was written."""

    folded: str
    shown: str


@dataclass(frozen=True, slots=True)
class TimeValue:
    """A date: an interval of instants."""

    interval: Interval
    shown: str


@dataclass(frozen=True, slots=True)
class PositionValue:
    """A choice by its position among the declared ones; no is 0 and yes is 1."""

    position: int
    shown: str


@dataclass(frozen=True, slots=True)
class TermValue:
    """A term by its number, with the number after its last descendant."""

    number: int
    end: int
    shown: str


@dataclass(frozen=True, slots=True)
class EntryValue:
    """An entry by its row."""

    row: int
    shown: str


Value: TypeAlias = NumberValue | TextValue | TimeValue | PositionValue | TermValue | EntryValue


@dataclass(frozen=True, slots=True)
class Test:
    """A comparison of a field with typed values; ``negated`` rows are those where it is false."""

    field: FieldRef
    operator: str
    values: tuple[Value, ...] = ()
    negated: bool = False
    span: Span = dataclasses.field(default=Span(0, 0), compare=False)


@dataclass(frozen=True, slots=True)
class Negation:
    """True exactly where the part is false."""

    part: Condition


@dataclass(frozen=True, slots=True)
class AllOf:
    """True where all parts are."""

    parts: tuple[Condition, ...]


@dataclass(frozen=True, slots=True)
class AnyOf:
    """True where one of the parts is."""

    parts: tuple[Condition, ...]


Condition: TypeAlias = Test | Negation | AllOf | AnyOf


@dataclass(frozen=True, slots=True)
class SortKey:
    """One key of an order; rows without a value come last in either direction."""

    field: FieldRef
    descending: bool = False


@dataclass(frozen=True, slots=True)
class Plan:
    """A question ready to run.

    ``kinds`` are positions in the schema. ``order`` is never empty; the id always breaks the last tie.
    ``fields`` are those that the question mentions, in its order.
    """

    kinds: tuple[int, ...]
    condition: Condition | None
    order: tuple[SortKey, ...]
    offset: int = 0
    limit: int | None = None
    per_page: int | None = None
    fields: tuple[FieldRef, ...] = ()
    notices: tuple[Problem, ...] = ()
