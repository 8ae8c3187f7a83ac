"""The place that the parser has reached in the tokens, and the small rules that all others use."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NoReturn

from elenchus.errors import Problem, Span
from elenchus.language import nodes
from elenchus.language.habits import NUMBERS
from elenchus.language.lexer import Sort, Token
from elenchus.language.words import CLAUSES
from elenchus.measures import all_measures
from elenchus.operators import spellings
from elenchus.values.dates import is_relative
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.language.nodes import Literal, Value

__all__ = ["Cursor", "Stop"]

_LARGEST = 999_999_999  # of offset, limit and per page
_LONGEST_OPERATOR = 4  # words
_BESIDE_FIELDS = frozenset({"=", "<", "<=", ">", ">=", "between"})  # operators with a field on the right


class Stop(Exception):
    """The clause cannot be read any further; the parser goes on at the next one."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.message)
        self.problem = problem


class Cursor:
    """The tokens of a question, which one comes next, and the problems met on the way."""

    def __init__(self, tokens: list[Token], problems: list[Problem], *, changes: bool = False) -> None:
        self.tokens = tokens
        self.changes = changes  # whether “and where” and “no limit” may stand here
        self.at = 0
        self.depth = 0
        self.of_groups = False  # whether a condition on groups is being read
        self.problems = problems

    @property
    def next(self) -> Token:
        """The token to be read."""
        return self.tokens[self.at]

    @property
    def before(self) -> Token:
        """The token read last."""
        return self.tokens[max(self.at - 1, 0)]

    @property
    def ends_clause(self) -> bool:
        """Say whether a clause, or the question, ends here."""
        if self.next.sort is Sort.END or self.next.means(*CLAUSES):
            return True
        return self.changes and (self.next.means("no") or self.is_phrase("and", "where"))

    def take(self) -> Token:
        """Return the token and move on; the end stays."""
        token = self.next
        self.at = min(self.at + 1, len(self.tokens) - 1)
        return token

    def accept(self, *words: str) -> bool:
        """Move on over a keyword or sign that is one of these, and say whether it was."""
        found = self.next.means(*words)
        if found:
            self.take()
        return found

    def accept_phrase(self, *words: str) -> bool:
        """Move on over several keywords in a row, and say whether they were there."""
        found = self.is_phrase(*words)
        if found:
            self.at += len(words)
        return found

    def choose(self, phrases: Mapping[str, str]) -> str:
        """Move on over the first of several phrases that stands here, and return what it stands for."""
        return next((meant for words, meant in phrases.items() if self.accept_phrase(*words.split())), "")

    def is_phrase(self, *words: str) -> bool:
        """Say whether several keywords in a row stand here."""
        ahead = self.tokens[self.at : self.at + len(words)]
        return len(ahead) == len(words) and all(map(Token.means, ahead, words))

    def skip_clause(self) -> None:
        """Move on to the next word that begins a clause; “per” does so with “page” alone."""
        self.depth = 0
        while not self.ends_clause or (self.next.means("per") and not self.is_phrase("per", "page")):
            self.take()

    def span_from(self, first: Token) -> Span:
        """Return the span from a token to the one read last."""
        return first.span.to(self.before.span)

    def fail(
        self,
        code: str,
        message: str,
        hint: str = "",
        span: Span | None = None,
        *,
        near: Sequence[str] = (),
    ) -> NoReturn:
        """Give up the clause with a problem, at the next token unless a span is given."""
        raise Stop(Problem(code, message, hint, span=span or self.next.span, near=near))

    def expect(self, word: str, after: str, hint: str = "") -> None:
        """Move on over a keyword or sign that must stand here."""
        if not self.accept(word):
            message = f"{quoted(after)} must be followed by {quoted(word)}, not {self.next.shown}"
            self.fail("expected", message, hint)

    def name(self, what: str) -> Literal:
        """Read a name."""
        if not self.next.is_name:
            hint = self.quote_hint() or f"Write {what} there, or take away what asks for it."
            self.fail("expected", f"{what} is missing here; found {self.next.shown}", hint)
        token = self.take()
        return nodes.Literal(token.text, token.span)

    def row_name(self, what: str) -> Literal:
        """Read the name of a kind, a taxonomy or a listing; a listing may well be called “lead”."""
        if self.next.means("lead") and not self.is_phrase("lead", "with"):
            token = self.take()
            return nodes.Literal(token.text, token.span)
        return self.name(what)

    def quote_hint(self) -> str:
        """Return what helps where a keyword stands for a name."""
        text = self.next.text
        if self.next.sort is not Sort.WORD:
            return ""
        return f'{text} is a word of the language; as a name it needs quotes: "{text}".'

    def path(self) -> nodes.Path:
        """Read a field, a way through references with dots, or ``count of KIND.FIELD``."""
        first = self.next
        counted = self.accept_phrase("count", "of")
        measure = "" if counted else self.measure()
        name = self.name("a field")
        names = (name.text,) if self.before.sort is Sort.TEXT else tuple(name.text.split("."))
        if not all(names):
            message = f"{quoted(name.text)} is no field: a dot stands between two names"
            self.fail("bad-path", message, span=name.span)
        if counted and len(names) != 2:  # noqa: PLR2004 - a kind and its field
            self.fail("bad-path", "“count of” needs a kind and its field: kind.field", span=name.span)
        return nodes.Path(names, counted, measure, self.span_from(first))

    def measure(self) -> str:
        """Move on over the name of a measure and the word “of” behind it; nothing where they do not stand."""
        return next((name for name in all_measures() if self.accept_phrase(name, "of")), "")

    def operator(self) -> tuple[str, bool] | None:
        """Read the longest spelling of an operator that stands here: its name, and whether it is negated."""
        for length in range(_LONGEST_OPERATOR, 0, -1):
            ahead = self.tokens[self.at : self.at + length]
            words = tuple(token.text.lower() for token in ahead if token.sort in (Sort.WORD, Sort.SIGN))
            if len(words) == length and words in spellings():
                self.at += length
                return spellings()[words]
        return None

    def number(self, clause: str) -> int:
        """Read a whole number that is not negative."""
        if not re.fullmatch(r"[0-9]+", self.next.text):
            message = f"{quoted(clause)} takes a whole number such as 10, not {self.next.shown}"
            is_less = self.next.text.startswith("-")
            hint = "No number here is less than 0." if is_less else "Write it in digits."
            self.fail("bad-number", message, NUMBERS.get(self.next.text.lower(), hint))
        if len(self.next.text) > len(str(_LARGEST)):
            self.fail("bad-number", f"{quoted(clause)} takes at most {_LARGEST}")
        return int(self.take().text)

    def steps(self) -> str:
        """Read how wide groups of numbers are: a number above 0, perhaps with decimals."""
        if not re.fullmatch(r"[0-9]{1,15}(\.[0-9]{1,6})?", self.next.text) or not float(self.next.text):
            message = f"“in steps of” takes a number above 0 such as 10 or 0.5, not {self.next.shown}"
            self.fail("bad-number", message)
        return self.take().text

    def value(self, after: str) -> Value:
        """Read one value: a word, a text in quotes, a parameter, or a relative date of several words."""
        if self.next.sort is Sort.PARAMETER:
            return self.parameter()
        if after in _BESIDE_FIELDS and self.names_a_field:
            first = self.take()
            return nodes.OtherField(self.path(), self.span_from(first))
        for length in (3, 2):
            ahead = self.tokens[self.at : self.at + length]
            phrase = " ".join(token.text for token in ahead)
            if all(token.sort is Sort.WORD for token in ahead) and is_relative(phrase):
                self.at += length
                return nodes.Literal(phrase, ahead[0].span.to(ahead[-1].span))
        if not self.next.is_name:
            self.no_value(after)
        token = self.take()
        return nodes.Literal(token.text, token.span)

    @property
    def names_a_field(self) -> bool:
        """Say whether ``field NAME`` stands here: the word alone is a value like any other."""
        after = self.tokens[min(self.at + 1, len(self.tokens) - 1)]
        return self.next.means("field") and after.is_name and not after.means(*CLAUSES)

    def parameter(self) -> nodes.Parameter:
        """Read a parameter."""
        token = self.take()
        return nodes.Parameter(token.text[1:].rstrip("?"), token.text.endswith("?"), token.span)

    def no_value(self, after: str) -> NoReturn:
        """Give up where a value should stand."""
        hint = self.quote_hint()
        if self.next.means("("):
            hint = f"{after} takes one value; several go with in (…)."
        elif self.next.means("=", "<", ">", "<=", ">=", "!="):
            hint = "One sign compares."
        elif not hint:
            hint = "Write a value there; a text of several words goes in quotes."
        self.fail("no-value", f"{quoted(after)} needs a value, but here is {self.next.shown}", hint)

    def values(self, after: str) -> tuple[Value, ...]:
        """Read values separated by commas."""
        found = [self.value(after)]
        while self.accept(","):
            found.append(self.value(after))
        return tuple(found)
