"""The shape of an operator's record."""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from elenchus.operators.column import Comparable, KeyRange, Mask
    from elenchus.schema.types import FieldType

__all__ = ["Example", "Operands", "Operator"]


class Operands(Enum):
    """What stands to the right of an operator."""

    NONE = "nothing"
    ONE = "one value"
    PAIR = "two values"
    SOME = "one or more values"


class Example(Frozen):
    """A question on the demo site, and what it is for."""

    question: str
    says: str


class Operator(Frozen):
    """One comparison.

    ``name`` is its spelling, ``opposite`` another one for its negation (beside ``not`` before it).
    ``says`` and ``denies`` put it in plain words, with {0} and {1} for the values; ``fix`` and
    ``unfix`` say what to do to an entry so that it, or its negation, comes true; ``of_dates`` has the
    same four for dates, where they read otherwise.
    ``fits`` says which types of field it takes, ``types`` the same in words. ``rows`` returns the mask
    of the rows for which the positive comparison holds; a row without a value never does.
    """

    name: str
    operands: Operands
    says: str
    denies: str
    fix: str
    unfix: str
    types: str
    doc: str
    examples: tuple[Example, ...]
    fits: Callable[[FieldType], bool]
    rows: Callable[[Comparable, Sequence[KeyRange]], Mask]
    of_dates: tuple[str, str, str, str] | None = None
    opposite: str = ""
    instead: str = ""  # what to write on a type that it does not fit
    decides_missing: bool = False  # a row without a value is no unknown to it
    along_tree: bool = False  # keys are numbers in the tree of terms, or of entries below their parents
    takes_pattern: bool = False  # the value is a regular expression, which no parameter can give

    def words(self, *, dates: bool) -> tuple[str, str, str, str]:
        """Return the templates of what it says, denies, and takes to come true or false."""
        return self.of_dates if dates and self.of_dates else (self.says, self.denies, self.fix, self.unfix)
