"""What is to be written for entries, in whatever format they stand."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal, NamedTuple, TypeAlias

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

__all__ = ["EntryEdit", "NewValue", "RowChange", "Sort", "TermWords", "UneditableError"]

Sort: TypeAlias = Literal["text", "number", "yesno", "date"]


class UneditableError(Exception):
    """A file cannot be changed so that all else stays as it is; ``line`` counts from 1, 0 for unknown."""

    def __init__(self, message: str, line: int = 0, hint: str = "") -> None:
        super().__init__(message)
        self.line = line
        self.hint = hint


class NewValue(NamedTuple):
    """What a key is to have: texts as content writes them, none to take it away.

    ``may_be_list`` says whether several may be written as a list; else they are joined in one text.
    """

    values: Sequence[str]
    may_be_list: bool = False
    sort: Sort = "text"


class EntryEdit(NamedTuple):
    """What is to be written for one entry of a unit: the values of keys by the names that content has.

    The entry stands at a ``line`` of a ``file``, as the ``nth`` that is read of the unit, from 0. In a table
    of a database its key is the ``line`` where that is a number, else what ``file`` ends with.
    """

    line: int
    nth: int
    values: Mapping[str, NewValue]
    file: str = ""


class TermWords(NamedTuple):
    """What becomes of the spellings of a term of a taxonomy, and of those below it.

    ``of`` gives other words for a spelling, None where it keeps its own; ``is_it`` says whether one means
    the term itself.
    """

    taxonomy: str
    of: Callable[[str], str | None]
    is_it: Callable[[str], bool]


class RowChange(NamedTuple):
    """A value of a row that becomes another, or rows of a joining table that come (before None) or go.

    ``where`` tells the row by columns and values. Without a ``column`` it is the row itself, and ``before``
    and ``after`` say how often it stands there.
    """

    source: str
    table: str
    where: Mapping[str, Any]
    column: str
    before: Any
    after: Any

    @property
    def reverse(self) -> RowChange:
        """What takes it back."""
        return self._replace(before=self.after, after=self.before)
