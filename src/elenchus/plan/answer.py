"""The answer to a question: which rows, how many, on which page, in which groups, with what they hold."""

from __future__ import annotations

from datetime import date, datetime
from typing import TYPE_CHECKING, Any, TypeAlias

from elenchus.frozen import Frozen, member
from elenchus.schema.subject import ENTRIES, Subject

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.errors import Problem

__all__ = ["Answer", "Choice", "Choices", "Group", "MeasureTotal", "Row", "Scalar"]

Scalar: TypeAlias = str | int | float | bool | date | datetime


class Row(Frozen):
    """One entry, or one term, of an answer.

    ``values`` holds each shown field: a scalar, a tuple of them for lists and terms (by slug), or None
    where there is no value. References are ids. Dates written without a time are ``date``, the others
    ``datetime`` in the site's zone. ``number`` is the place of the row in its table, where it has one.
    """

    id: str
    values: Mapping[str, Scalar | tuple[Scalar, ...] | None]
    number: int = member(default=-1, compare=False)

    def __getitem__(self, name: str) -> Any:
        return self.values[name]


class Group(Frozen):
    """One group of an answer.

    ``keys`` has a value for each key of ``group by``, None for a missing one. ``count`` is the number of
    rows in the group, ``shown`` how many of them are left by ``limit N per group``, ``rows`` the ids of
    those that stand on this page. ``measures`` are those of its rows, in the order of the answer's.
    """

    keys: tuple[Scalar | None, ...]
    label: str
    count: int
    shown: int
    rows: tuple[str, ...]
    measures: tuple[Scalar | None, ...] = ()


class MeasureTotal(Frozen):
    """A measure over all rows of an answer, each once.

    ``value`` is None where no row has a value; ``missing`` rows have none of the ``field``. ``decimals`` are
    those that people are shown of a number that need not be whole, in the ``unit`` of that.
    """

    label: str
    field: str
    value: Scalar | None
    missing: int = 0
    decimals: int = 0
    unit: str = ""


class Choice(Frozen):
    """One value that a parameter can have: as it is given, as people call it, with its rows.

    ``depth`` counts the terms above it in a tree. ``count`` is None where it cannot be asked.
    """

    value: str
    label: str
    depth: int
    count: int | None


class Choices(Frozen):
    """The choices of one parameter of a listing."""

    parameter: str
    label: str
    many: bool
    choices: tuple[Choice, ...]


class Answer(Frozen):
    """The answer to one question.

    ``matched`` counts the visible rows that meet the condition, ``total`` those that remain after
    offset and limit; ``rows`` are those of one page, each once. ``page`` counts from 1; ``pages`` is 1
    for an empty answer. With groups, ``placements`` is the sum of their counts and ``overlap`` has the
    ids of rows in more than one, each with the labels of its groups; without, ``groups`` is None.
    ``subject`` is what rows are, ``shown`` are the fields that every row has, ``mentioned`` those that the
    question names, ``columns`` those that a listing shows; ``at`` is the now it was asked at,
    ``unpublished`` says that drafts and the like are among the rows, ``formulas`` that cells of a table may
    be such. ``choices`` stand in
    the place of rows where a listing shows what can be chosen; ``filled`` of its rows fill it up.
    ``measures`` are those of all its rows, on every page the same.
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
    subject: Subject = ENTRIES
    shown: tuple[str, ...] = ()
    mentioned: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    notices: tuple[Problem, ...] = ()
    groups: tuple[Group, ...] | None = None
    grouped_by: tuple[str, ...] = ()
    placements: int | None = None
    overlap: Mapping[str, tuple[str, ...]] = member(default_factory=dict)
    unpublished: bool = False
    choices: Choices | None = None
    formulas: bool = False
    filled: int = 0
    measures: tuple[MeasureTotal, ...] = ()

    def own_and_more(self, shown: int) -> tuple[int, int]:
        """Return how many of its first rows meet the condition, and how many are more.

        More are those that fill it up, and those that lead without meeting the condition, as far as that
        shows: where there are more rows than meet it.
        """
        more = max(0, shown - min(self.total - self.filled, self.matched))
        return shown - more, more

    @property
    def fields(self) -> tuple[str, ...]:
        """The names of all values of a row."""
        return tuple(dict.fromkeys((*self.shown, *self.mentioned, *self.columns)))
