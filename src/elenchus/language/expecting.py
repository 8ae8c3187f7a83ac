"""What may stand at the end of a text that somebody is writing, told by the parser that will read it.

The parser runs over the text up to the word that is being written. Where it comes to the end, it looks for
one thing after the other; all that it looks for there may stand there. So this knows no grammar of its own.
"""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING, NoReturn

from elenchus.errors import Problem, Span
from elenchus.frozen import Frozen, member, replace
from elenchus.language.cursor import Cursor, Stop
from elenchus.language.lexer import Sort, Token, tokens
from elenchus.language.parser import read_on
from elenchus.measures import all_measures
from elenchus.operators import spellings

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence

    from elenchus.language.nodes import Literal, Path, Value

__all__ = ["Awaited", "Expected", "Want", "expected"]


class Want(Enum):
    """The sorts of what may stand somewhere."""

    WORDS = "words of the language"
    CLAUSE = "another clause"
    REMOVAL = "a clause that is taken away"
    FLAG = "nothing more, after a field of yes or no"
    ROWS = "a kind, a taxonomy or a listing"
    LISTING = "a listing"
    TAXONOMY = "a taxonomy"
    FIELD = "a field"
    COUNTED = "a kind and its field, after count of"
    OPERATOR = "an operator"
    VALUE = "a value"
    NUMBER = "a whole number"


class Awaited(Frozen):
    """Something that may stand at the end of a text.

    ``words`` are words of the language. ``path`` is the field before an operator or a value, ``operator``
    what compares it with the value; without a path, ``words`` say what a value is for, such as ``lead
    with``. ``at`` is where it begins: before what is read already of a value of several words.
    """

    want: Want
    words: str = ""
    path: Path | None = None
    operator: str = ""
    at: int = 0


class Expected(Frozen):
    """What may stand at the end of a text.

    ``typed`` is the word that is being written, from ``at`` on. ``before`` is where the comparison begins in
    which the end lies, or the end itself outside of one.
    """

    typed: str
    at: int
    before: int
    awaited: tuple[Awaited, ...]


_NAMES = {"a kind": Want.ROWS, "a listing": Want.LISTING, "a taxonomy": Want.TAXONOMY}
# What the parser looks for only to say what is wrong, or takes for a shorter way to write something.
_UNSAID = frozenset({"group", "order", "lead", "<", ">", "=", "<=", ">=", "!="})
_WHOLE = {"related": "related to", "listed": "listed in"}  # what goes on in one way only
_PHRASE = 3  # words in the longest relative date
_NOT_FIRST = frozenset({"asc", "desc", "where"})  # where a field may stand


class _End(Token):
    """The end of a text, which notes what is looked for there."""

    note: Callable[[Sequence[str]], None] = member(default=lambda _: None, compare=False)

    def means(self, *words: str) -> bool:
        """Note the words, none of which stands here."""
        self.note(words)
        return False


class _Listening(Cursor):
    """A cursor that notes what is looked for at the end."""

    def __init__(self, found: Sequence[Token]) -> None:
        super().__init__([*found[:-1], _End(Sort.END, "", found[-1].span, self.words)], [], changes=True)
        self.awaited: dict[Awaited, None] = {}
        self.is_open = True  # until the end is reached and the parser gives up
        self.last: Path | None = None
        self.compares, self.denies = "", False
        self.begun = self.end = found[-1].span.start

    @property
    def is_end(self) -> bool:
        """Say whether the end is next."""
        return self.at == len(self.tokens) - 1

    def note(self, want: Want, words: str = "", **more: object) -> None:
        """Note something that may stand at the end."""
        if self.is_open:
            self.awaited[Awaited(want, words, **{"at": self.end, **more})] = None  # type: ignore[arg-type]

    def words(self, words: Sequence[str]) -> None:
        """Note words of the language."""
        for word in words:
            self.note(Want.WORDS, word)

    def stop(self) -> NoReturn:
        """Give up: nothing more is looked for at the end."""
        self.is_open = False
        raise Stop(Problem("expected", "the text ends here", span=self.next.span))

    # What the rules of the parser ask

    @property
    def ends_clause(self) -> bool:
        """Say whether a clause ends here; at the end of the text another may follow."""
        if self.is_end:
            self.note(Want.CLAUSE)
        return super().ends_clause if not self.is_end else True

    def is_phrase(self, *words: str) -> bool:
        """Say whether several keywords stand here; note what would complete them."""
        there = self.tokens[self.at : -1]
        if len(there) < len(words) and all(map(Token.means, there, words)):
            self.note(Want.WORDS, " ".join(words[len(there) :]))
            return False
        return super().is_phrase(*words)

    def skip_clause(self) -> None:
        """Go on at the next clause; what is passed over tells nothing."""
        was_open, self.is_open = self.is_open and not self.is_end, False
        super().skip_clause()
        self.is_open = was_open and not self.is_end

    def choose(self, phrases: Mapping[str, str]) -> str:
        """Read one of several phrases; note all of them at the end."""
        if self.is_end:
            for words in phrases:
                self.note(Want.REMOVAL, words)
            self.stop()
        return super().choose(phrases)

    def name(self, what: str) -> Literal:
        """Read a name."""
        if self.is_end and what in _NAMES:
            self.note(_NAMES[what])
            self.stop()
        if self.is_end:  # a name that is made up here
            self.note(Want.VALUE, what)
            self.stop()
        return super().name(what)

    def row_name(self, what: str) -> Literal:
        """Read the name of a kind, a taxonomy or a listing."""
        return self.name(what) if self.is_end else super().row_name(what)

    def path(self) -> Path:
        """Read a field."""
        start = self.next.span.start
        is_counted = self.is_phrase("count", "of") and not self.of_groups
        of = is_counted or any(self.is_phrase(name, "of") for name in all_measures())
        if self.at + 2 * of == len(self.tokens) - 1:
            if of or not self.of_groups:
                self.note(Want.COUNTED if is_counted else Want.FIELD)
            else:
                self.words(("count", *(f"{name} of" for name in all_measures())))
            self.begun = start
            self.stop()
        found = super().path()
        self.last, self.begun = found, start
        return found

    def operator(self) -> tuple[str, bool] | None:
        """Read an operator; note those of which only the first words stand here."""
        there = [token.text.lower() for token in self.tokens[self.at : -1]]
        found = super().operator() if there else None
        is_whole = found is None or self.is_end
        for words in spellings() if is_whole else ():
            if len(words) > len(there) and list(words[: len(there)]) == there:
                rest = " ".join(words[len(there) :])
                self.note(Want.OPERATOR, rest, path=self.last, operator=" ".join(words))
        if found:
            self.compares, self.denies = found
        elif self.is_end:
            self.note(Want.FLAG, path=self.last)
        return found

    @property
    def names_a_field(self) -> bool:
        """Say whether ``field NAME`` stands here; at the end a name may follow."""
        is_begun = self.next.means("field") and self.at == len(self.tokens) - 2
        return is_begun or super().names_a_field

    def value(self, after: str) -> Value:
        """Read a value; note where a relative date could be completed."""
        is_compared = after in (self.compares, "under")
        path = self.last if is_compared else None
        words = [token.text for token in self.tokens[self.at : -1]]
        if len(words) < _PHRASE and all(token.sort is Sort.WORD for token in self.tokens[self.at : -1]):
            spelled = f"not {self.compares}" if self.denies else self.compares
            operator = spelled if is_compared else ""
            self.note(Want.VALUE, after, path=path, operator=operator, at=self.next.span.start)
            if not words:
                self.stop()
        return super().value(after)

    def steps(self) -> str:
        """Read how wide groups of numbers are."""
        if self.is_end:
            self.note(Want.NUMBER, "in steps of")
            self.stop()
        return super().steps()

    def number(self, clause: str) -> int:
        """Read a whole number."""
        if self.is_end:
            self.note(Want.NUMBER, clause)
            self.stop()
        return super().number(clause)


def expected(text: str) -> Expected:
    """Return what may stand at the end of changes of a question, or of a question, that is being written."""
    found = list(tokens(text, []))
    typed = _being_written(text, found)
    at = len(text) - len(typed)
    whole = [*found[:-2], Token(Sort.END, "", Span(at, at))] if typed else found
    cursor = _Listening(whole)
    if len(whole) == 1:
        cursor.note(Want.CLAUSE)
        return Expected(typed, at, at, tuple(cursor.awaited))
    read_on(cursor)
    awaited = tuple(_said(cursor.awaited))
    compares = any(each.want in (Want.FIELD, Want.COUNTED, Want.OPERATOR, Want.VALUE) for each in awaited)
    return Expected(typed, at, cursor.begun if compares else at, awaited)


def _being_written(text: str, found: Sequence[Token]) -> str:
    """Return the word at the end of a text that may go on, a text in quotes that is not closed included."""
    if len(found) == 1:
        return ""
    last = found[-2]
    if last.sort is Sort.TEXT:
        is_open = last.span.end == last.span.start + 1  # the lexer knows a quote alone of such
        return text[last.span.start :] if is_open else ""
    is_at_end = last.span.end == len(text) and last.sort in (Sort.WORD, Sort.PARAMETER)
    return text[last.span.start :] if is_at_end else ""


def _said(awaited: dict[Awaited, None]) -> list[Awaited]:
    """Return what is worth to be offered: no second spellings, and words with those that must follow."""
    unsaid = _UNSAID | _NOT_FIRST if any(each.want is Want.FIELD for each in awaited) else _UNSAID
    return [
        replace(each, words=_WHOLE.get(each.words, each.words))
        for each in awaited
        if each.want not in (Want.WORDS, Want.REMOVAL) or each.words not in unsaid
    ]
