"""The shape of a measure's record, and what it may ask of the values that it is taken of."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol, TypeAlias

from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.schema.types import FieldType

__all__ = ["Amounts", "Measurable", "Measure"]

Amounts: TypeAlias = Any  # one for each group; one can be divided by another


class Measurable(Protocol):
    """The values that the rows of each group have in a field: each executor has its own way to hold them.

    Values are keys in the order of the type; what is missing, or does not fit, is not among them.
    """

    def total(self) -> Amounts:
        """Return the sum of the values of each group, exact where they are whole numbers."""

    def size(self) -> Amounts:
        """Return how many values each group has."""

    def least(self) -> Amounts:
        """Return the least value of each group."""

    def greatest(self) -> Amounts:
        """Return the greatest value of each group."""

    def middle(self) -> Amounts:
        """Return the value in the middle of each group, or halfway between the two there."""

    def different(self) -> Amounts:
        """Return how many different values each group has."""


class Measure(Frozen):
    """One way to say something of all rows of a group, or of an answer.

    ``name`` stands before “of” in a question. ``fits`` says which types of field it takes, ``types`` the same
    in words; ``holds`` what its result is. ``of`` works it out. A result that is of the field's own type,
    such as the latest date, is shown as such; ``decimals`` are those that a number has beyond its values'.
    """

    name: str
    types: str
    doc: str
    example: str
    fits: Callable[[FieldType], bool]
    holds: Callable[[FieldType], FieldType]
    of: Callable[[Measurable], Amounts]
    decimals: int = 0
