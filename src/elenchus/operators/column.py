"""What operators ask of a column, whatever holds it: memory, a database, a cluster.

A column answers each question with a *mask*: which of its rows it is true of. Masks are joined with
``&``, ``|`` and ``~``; what they are made of is the executor's own affair.
"""

from __future__ import annotations

from typing import Any, Protocol, TypeAlias

__all__ = ["Comparable", "KeyRange", "Mask"]

Mask: TypeAlias = Any  # with & and | of two masks, and ~ of one


class KeyRange(Protocol):
    """A value as a range of a column's keys, and as a text where it is one."""

    @property
    def low(self) -> float:
        """The first key that the value covers."""

    @property
    def high(self) -> float:
        """The first key after those that the value covers."""

    @property
    def last(self) -> float:
        """The first key after the value and all that lies below it in a tree."""

    @property
    def text(self) -> str:
        """The folded text, or the pattern."""


class Comparable(Protocol):
    """The values of one field in all rows, as keys in the order of its type."""

    def present(self) -> Mask:
        """Return which rows have a value."""

    def missing(self) -> Mask:
        """Return which rows have none."""

    def equal(self, value: KeyRange) -> Mask:
        """Return which rows have the value, or have it among several."""

    def between(self, low: float, high: float) -> Mask:
        """Return which rows have a key, or one of several, with low <= key < high."""

    def contains(self, part: str) -> Mask:
        """Return which rows have a folded text with a part in it."""

    def starts_with(self, part: str) -> Mask:
        """Return which rows have a folded text that begins with a part."""

    def ends_with(self, part: str) -> Mask:
        """Return which rows have a folded text that ends with a part."""

    def matches(self, pattern: str) -> Mask:
        """Return which rows have a text, as it was written, in which a regular expression (RE2) is found."""
