"""What can go wrong, as data: a problem has a code, a message, a hint and a place.

The error tree::

    ElenchusError
    ├── QuestionError    the text of a question cannot be understood or answered as it stands
    ├── NoSuchPage       the question is good, but the page asked for does not exist
    ├── SourceError      a database that content comes from cannot be read, and never was
    ├── SiteError        the site's own files cannot be read or contradict themselves
    ├── NoSuchName       a name of an entry, a term or whatever else means nothing, or several things
    ├── FolderError      a folder to be written to is not empty or cannot be written
    ├── MarkerError      the markers of a file do not fit together, or ask for what the site does not have
    └── OptionError      a time that is no date, a port that is taken, a file of no form that can be drawn

Problems in content (an invalid date, a term that is not defined) are never raised: they are
collected beside the answer, because one bad entry must not hide the others.
"""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING, Literal, NamedTuple, TypeAlias

from elenchus.frozen import Frozen, Ordered, replace
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Sequence

__all__ = [
    "About",
    "Cure",
    "Edit",
    "ElenchusError",
    "FolderError",
    "KeyEdit",
    "MarkerError",
    "Near",
    "NoSuchName",
    "NoSuchPage",
    "NotSupported",
    "OptionError",
    "OwnName",
    "Place",
    "Problem",
    "QuestionError",
    "Replacement",
    "Respelling",
    "SiteError",
    "SourceError",
    "Span",
    "did_you_mean",
    "in_file",
    "moved",
    "respelling",
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
    with ``=`` clears the field. ``by_hand`` says why the program cannot write it, where it cannot.
    """

    entry: str
    field: str
    operator: Literal["=", "+=", "-="]
    value: str
    by_hand: str = ""

    def __str__(self) -> str:
        return f"{self.field}{self.operator}{self.value}"


class Replacement(Frozen):
    """What to write in place of a part of a question."""

    span: Span
    text: str


class KeyEdit(Frozen):
    """A key of an entry, by its id, that is to be called otherwise in content."""

    entry: str
    wrong: str
    right: str


class Respelling(Frozen):
    """What to write in place of a few words in a file of definitions, at the line of the problem."""

    wrong: str
    right: str


class OwnName(Frozen):
    """Entries of a kind that want a ``slug`` or an ``id`` of their own, by the numbers of their records."""

    what: Literal["slug", "id"]
    kind: str
    records: tuple[int, ...]


Cure: TypeAlias = Edit | KeyEdit | OwnName | Replacement | Respelling


class Near(NamedTuple):
    """A name that means nothing, and those that come near it, the nearest first."""

    wrong: str
    names: Sequence[str]


def respelling(wrong: str, near: Sequence[str]) -> Respelling | None:
    """Return the one name that comes near a wrong one in its place; None where none or several do."""
    return Respelling(wrong, near[0]) if len(near) == 1 else None


def did_you_mean(near: Sequence[str]) -> str:
    """Return the question that offers names which come near a wrong one; nothing where none does."""
    return f"Did you mean {either(near)}?" if near else ""


class About(Enum):
    """What a problem is about, where somebody must know that: who is to be told, and where it stands."""

    ANYTHING = "anything"
    VALUE = "a value, which means nothing for its field or its parameter"
    CONTENT = "a value of an entry, which means nothing for its field"
    ABSENCE = "a parameter without a value"
    PARAMETER = "a parameter that there is not"
    CHOICE = "a parameter for which only declared choices could stand"
    CYCLE = "a chain that leads back to itself, and tells its whole way"
    CLASH = "a name that means two things, which is also told where the second is defined"
    FILE = "a file that cannot be read at all"
    ENCODING = "bytes that are no text in their encoding"
    IDENTITY = "an id that another entry has"
    SOURCE = "a database that cannot be read now"


class Problem(Frozen):
    """One thing that is wrong: in a question (with a span) or in a file (with a place).

    ``near`` are the names that come near a wrong one, as they would be written, the nearest first;
    ``advice`` is what helps where none does. ``parameter`` is that of the question whose value is wrong or
    lacking; ``setting`` the setting of a listing, ``index`` the place in it, from 0, where it is a list.
    ``cure`` is what would put it right, where that is known. ``entries`` is how many entries it costs, if it
    costs any.
    """

    code: str
    message: str
    advice: str = ""
    span: Span | None = None
    place: Place | None = None
    near: Sequence[str] = ()
    parameter: str = ""
    setting: str = ""
    index: int | None = None
    about: About = About.ANYTHING
    cure: Cure | None = None
    entries: int = 1

    @property
    def hint(self) -> str:
        """What helps, as a sentence."""
        return did_you_mean(self.near) or self.advice

    @property
    def sentences(self) -> str:
        """What is wrong, and what helps."""
        return f"{self.message}. {self.hint}".rstrip()

    def __str__(self) -> str:
        where = f"{self.place}: " if self.place else ""
        hint = f" {self.hint}" if self.hint else ""
        return f"{where}{self.message}{hint}"


def moved(problem: Problem, by: int) -> Problem:
    """Return a problem of a text as one of another, in which it stands some characters further on."""
    span = problem.span
    if span is None:
        return problem
    return replace(problem, span=Span(max(span.start + by, 0), max(span.end + by, 0)))


def in_file(text: str, problem: Problem) -> Problem:
    """Return a problem of a question that stands in a file, with what cures it as words there."""
    cure = problem.cure
    if isinstance(cure, Replacement):
        return replace(problem, cure=Respelling(text[cure.span.start : cure.span.end], cure.text))
    return problem


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

    def __reduce__(self) -> tuple[type[QuestionError], tuple[str, Sequence[Problem]]]:
        """Travel to another process with its text."""
        return type(self), (self.text, self.problems)


class NoSuchPage(ElenchusError):
    """The page asked for lies outside 1 … last, or is no page number at all."""


class NoSuchName(ElenchusError):
    """A name that a command is given means nothing on the site, or more than one thing."""


class SiteError(ElenchusError):
    """The site file is missing, cannot be parsed, or holds unknown keys or contradictions."""


class NotSupported(SiteError):
    """Tables cannot be asked for something, which ``what`` names; the content itself can.

    ``cure`` is a sentence with what would let them.
    """

    def __init__(self, what: str, cure: str = "") -> None:
        hint = f"{cure} Ask the content itself: without --sql, and with --tables content.".strip()
        super().__init__([Problem("not-supported", f"tables cannot be asked for {what}", hint)])
        self.what = what
        self.cure = cure

    def __reduce__(self) -> tuple[type[NotSupported], tuple[str, str]]:
        """Travel to another process with what it names."""
        return type(self), (self.what, self.cure)


class OptionError(ElenchusError):
    """What somebody asks for besides a question cannot be had: a time, a port, a file to draw."""


class SourceError(ElenchusError):
    """What content comes from cannot be read, and nothing of it is known from an earlier run."""


class MarkerError(ElenchusError):
    """The markers of a file do not fit together, or ask for what the site does not have."""


class FolderError(ElenchusError):
    """A folder that is to be written holds other files, or cannot be written."""
