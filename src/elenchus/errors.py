"""What can go wrong, as data: a problem has a code, a message, a hint and a place.

The error tree::

    ElenchusError
    ├── QuestionError    the text of a question cannot be understood or answered as it stands
    ├── NoSuchPage       the question is good, but the page asked for does not exist
    ├── SiteError        the site's own files cannot be read or contradict themselves
    ├── NoSuchName       a name of an entry, a term or whatever else means nothing, or several things
    └── FolderError      a folder to be written to is not empty or cannot be written

Problems in content (an invalid date, a term that is not defined) are never raised: they are
collected beside the answer, because one bad entry must not hide the others.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, TypeAlias

from elenchus.frozen import Frozen, Ordered

if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = [
    "Cure",
    "Edit",
    "ElenchusError",
    "FolderError",
    "NoSuchName",
    "NoSuchPage",
    "Place",
    "Problem",
    "QuestionError",
    "Replacement",
    "SiteError",
    "Span",
]


class Span(Ordered):
    """A half-open range of characters [start, end) in the text of a question."""

    start: int
    end: int

    def to(self, other: Span) -> Span:
        """Return the range from this span's start to the other's end."""
        return Span(self.start, other.end)


class Place(Ordered):
    """A file, as the user would name it, and a line counted from 1; 0 when no line is known."""

    file: str
    line: int = 0

    def __str__(self) -> str:
        return f"{self.file}:{self.line}" if self.line else self.file


class Edit(Frozen):
    """What to write in content: ``=`` sets a field, ``+=`` and ``-=`` add to its values and take from them.

    ``entry`` is the id of the entry. ``value`` is written as content has it, several parted by commas; empty
    with ``=`` clears the field.
    """

    entry: str
    field: str
    operator: Literal["=", "+=", "-="]
    value: str

    def __str__(self) -> str:
        return f"{self.field}{self.operator}{self.value}"


class Replacement(Frozen):
    """What to write in place of a part of a question."""

    span: Span
    text: str


Cure: TypeAlias = Edit | Replacement


class Problem(Frozen):
    """One thing that is wrong: in a question (with a span) or in a file (with a place).

    ``parameter`` is that of the question whose value is wrong or lacking; ``key`` the setting of a listing.
    """

    code: str
    message: str
    hint: str = ""
    span: Span | None = None
    place: Place | None = None
    parameter: str = ""
    key: str = ""

    def __str__(self) -> str:
        where = f"{self.place}: " if self.place else ""
        hint = f" {self.hint}" if self.hint else ""
        return f"{where}{self.message}{hint}"


class ElenchusError(Exception):
    """Base of every error that a user's input can cause; carries all problems found at once."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        super().__init__("; ".join(str(problem) for problem in problems))
        self.problems = tuple(problems)


class QuestionError(ElenchusError):
    """The text of a question cannot be parsed, or names what the site does not have.

    ``text`` is the question; each problem's span lies inside it.
    """

    def __init__(self, text: str, problems: Sequence[Problem]) -> None:
        super().__init__(sorted(problems, key=lambda problem: problem.span or Span(0, 0)))
        self.text = text


class NoSuchPage(ElenchusError):
    """The page asked for lies outside 1 … last, or is no page number at all."""


class NoSuchName(ElenchusError):
    """A name that a command is given means nothing on the site, or more than one thing."""


class SiteError(ElenchusError):
    """The site file is missing, cannot be parsed, or holds unknown keys or contradictions."""


class NotATime(SiteError):
    """The time at which a site is to be seen is no date."""


class MarkerError(ElenchusError):
    """The markers of a file do not fit together, or ask for what the site does not have."""


class FolderError(ElenchusError):
    """A folder that is to be written holds other files, or cannot be written."""
