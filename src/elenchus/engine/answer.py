"""The answer to a question: which rows, how many, on which page, with what they hold."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from typing import TYPE_CHECKING, Any, TypeAlias

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.errors import Problem

__all__ = ["SHOWN_NAMES", "Answer", "Row", "Scalar"]

# The fields that every row of an answer carries, beside those that its question names.
SHOWN_NAMES = ("id", "kind", "slug", "title", "date", "address")

Scalar: TypeAlias = str | int | float | bool | date | datetime


@dataclass(frozen=True, slots=True)
class Row:
    """One entry of an answer.

    ``values`` holds each shown field: a scalar, a tuple of them for lists and terms (by slug), or None
    where there is no value. References are ids. Dates written without a time are ``date``, the others
    ``datetime`` in the site's zone.
    """

    id: str
    values: Mapping[str, Scalar | tuple[Scalar, ...] | None]

    def __getitem__(self, name: str) -> Any:
        return self.values[name]


@dataclass(frozen=True, slots=True)
class Answer:
    """The answer to one question.

    ``matched`` counts the visible rows that meet the condition, ``total`` those that remain after
    offset and limit; ``rows`` are those of one page. ``page`` counts from 1; ``pages`` is 1 for an
    empty answer. ``mentioned`` are the fields that the question names, ``at`` is the now it was asked at.
    """

    question: str
    matched: int
    total: int
    offset: int
    page: int
    pages: int
    per_page: int | None
    rows: tuple[Row, ...]
    at: datetime
    mentioned: tuple[str, ...] = ()
    notices: tuple[Problem, ...] = ()
    groups: None = field(default=None)
