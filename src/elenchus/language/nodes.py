"""The tree of a question. Spans do not count for equality, so trees compare by what they say."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal as OneOf
from typing import TypeAlias

from elenchus.errors import Span

__all__ = [
    "And",
    "Compare",
    "Condition",
    "Flag",
    "From",
    "Limit",
    "Literal",
    "Not",
    "Offset",
    "Or",
    "Order",
    "OrderKey",
    "Path",
    "PerPage",
    "Question",
    "Where",
]

NOWHERE = Span(0, 0)


def at() -> Span:
    """Return the default of a node's span, which equality leaves out."""
    return field(default=NOWHERE, compare=False, repr=False)


@dataclass(frozen=True, slots=True)
class Literal:
    """A value as it was written, without its quotes: the type of the field decides what it means."""

    text: str
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Path:
    """A field, or a way through references: ``station.region`` has two names."""

    names: tuple[str, ...]
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Compare:
    """One comparison; ``operator`` is the name of a record, ``op_span`` where it is written."""

    path: Path
    operator: str
    values: tuple[Literal, ...] = ()
    negated: bool = False
    op_span: Span = at()
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Flag:
    """A bare name: a yes/no field."""

    path: Path
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Not:
    """The opposite of a condition."""

    part: Condition
    span: Span = at()


@dataclass(frozen=True, slots=True)
class And:
    """All of two or more conditions."""

    parts: tuple[Condition, ...]
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Or:
    """Any of two or more conditions."""

    parts: tuple[Condition, ...]
    span: Span = at()


Condition: TypeAlias = Compare | Flag | Not | And | Or


@dataclass(frozen=True, slots=True)
class From:
    """The clause ``from``: names of kinds."""

    names: tuple[Literal, ...]
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Where:
    """The clause ``where``."""

    condition: Condition
    span: Span = at()


@dataclass(frozen=True, slots=True)
class OrderKey:
    """One key of an order: a field, or ``newest`` or ``oldest``."""

    by: OneOf["field", "newest", "oldest"]
    path: Path | None = None
    descending: bool = False
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Order:
    """The clause ``order by``."""

    keys: tuple[OrderKey, ...]
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Offset:
    """The clause ``offset``: how many rows are skipped."""

    count: int
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Limit:
    """The clause ``limit``: how many rows there are at most; None for ``all``."""

    count: int | None
    span: Span = at()


@dataclass(frozen=True, slots=True)
class PerPage:
    """The clause ``per page``: how many rows stand on a page."""

    count: int
    span: Span = at()


@dataclass(frozen=True, slots=True)
class Question:
    """A whole question: each clause at most once."""

    source: From | None = None
    where: Where | None = None
    order: Order | None = None
    offset: Offset | None = None
    limit: Limit | None = None
    per_page: PerPage | None = None
