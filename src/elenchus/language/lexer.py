"""Cutting a question into words, texts in quotes, and signs."""

from __future__ import annotations

import re
from enum import Enum
from typing import TYPE_CHECKING

from elenchus.errors import Problem, Span
from elenchus.frozen import Frozen
from elenchus.language.habits import SIGNS
from elenchus.language.words import is_keyword
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

__all__ = ["Sort", "Token", "is_plain_word", "tokens"]

_TOKEN = re.compile(
    r"""(?P<space>\s+)
      | (?P<comment>\#[^\n]*)
      | (?P<word>\d{4}-\d{2}-\d{2}T\d{2}(?::\d{2}(?::\d{2}(?:\.\d{1,6})?)?)?(?:Z|[+-]\d{2}:\d{2})?(?![\w./-])
                 |[\w./-]+)
      | (?P<text>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')
      | (?P<parameter>:[^\W\d][\w-]*(?:\.[^\W\d][\w-]*)*\??)
      | (?P<foreign>==+|<>|=~|~|&+|\|+|!(?!=)|[\[\]])
      | (?P<sign><=|>=|!=|[=<>(),])
      | (?P<open>["'])
      | (?P<curly>[“”„][^“”„]*[“”]|[‘’][^‘’]*[‘’])
      | (?P<other>.)""",
    re.VERBOSE | re.DOTALL,
)
_ESCAPES = {"n": "\n", "t": "\t", "\\": "\\", '"': '"', "'": "'"}
_CURLY = 'Use straight quotes: "…".'
_STRAY = {
    "“": 'Use straight quotes: "…".', "”": 'Use straight quotes: "…".',
    "‘": "Use straight quotes: '…'.", "’": "Use straight quotes: '…'.",
    ";": "A question has no “;”.", "*": "There are no wildcards: use contains, or leave the condition out.",
}  # fmt: skip


class Sort(Enum):
    """The sorts of tokens."""

    WORD = "word"
    TEXT = "text"
    SIGN = "sign"
    PARAMETER = "parameter"
    END = "end"


class Token(Frozen):
    """A piece of the question: ``text`` is a word as written, or a text without quotes and escapes."""

    sort: Sort
    text: str
    span: Span

    def means(self, *words: str) -> bool:
        """Say whether this is one of some keywords or signs, not a text in quotes."""
        return self.sort in (Sort.WORD, Sort.SIGN) and self.text.lower() in words

    @property
    def is_name(self) -> bool:
        """Say whether this can stand for a name or a value."""
        return self.sort is Sort.TEXT or (self.sort is Sort.WORD and not is_keyword(self.text))

    @property
    def shown(self) -> str:
        """The token as it stands in a message."""
        return "the end" if self.sort is Sort.END else quoted(self.text)


def tokens(text: str, problems: list[Problem], *, comments: bool = False) -> Iterator[Token]:
    """Yield the tokens of a question, and an end; characters that belong to none are reported.

    ``comments`` lets ``#`` begin a comment up to the end of its line, as in files.
    """
    for match in _TOKEN.finditer(text):
        span = Span(*match.span())
        if match["word"]:
            yield Token(Sort.WORD, match["word"], span)
        elif match["text"]:
            yield Token(Sort.TEXT, _unescaped(match["text"][1:-1]), span)
        elif match["sign"] or match["parameter"]:
            yield Token(Sort.SIGN if match["sign"] else Sort.PARAMETER, match[0], span)
        elif match["foreign"]:
            known = match[0] if match[0] in SIGNS else match[0][:2] if match[0][:2] in SIGNS else match[0][0]
            meant, hint = SIGNS[known]
            problems.append(
                Problem("stray-character", f"{quoted(match[0])} means nothing here", hint, span=span)
            )
            yield Token(Sort.WORD if meant.isalpha() else Sort.SIGN, meant, span)
        elif match["open"]:
            problems.append(
                Problem("open-quote", f"this {match[0]} is never closed", span=Span(span.start, len(text)))
            )
            yield Token(Sort.TEXT, text[span.end :], span)
            break
        elif match["curly"]:
            problems.append(Problem("stray-character", "curly quotes mean nothing here", _CURLY, span=span))
            yield Token(Sort.TEXT, match[0][1:-1], span)
        elif match["other"] or (match["comment"] and not comments):
            problems.append(
                _stray(match[0][0], Span(span.start, span.start + 1) if match["comment"] else span)
            )
            if match["comment"]:
                break
    yield Token(Sort.END, "", Span(len(text), len(text)))


def is_plain_word(text: str) -> bool:
    """Say whether a text can stand in a question without quotes."""
    match = _TOKEN.fullmatch(text)
    return bool(match and match["word"]) and not is_keyword(text)


def _unescaped(text: str) -> str:
    """Return the text in quotes with its escapes resolved; before other letters a backslash stays."""
    return re.sub(r"\\(.)", lambda match: _ESCAPES.get(match[1], match[0]), text, flags=re.DOTALL)


def _stray(char: str, span: Span) -> Problem:
    """Return the problem of characters that mean nothing in a question."""
    hint = _STRAY.get(char, "Put a text with such characters in quotes.")
    if char == "#":
        hint = "Comments stand in files only; put a text with # in quotes."
    return Problem("stray-character", f"{quoted(char)} means nothing here", hint, span=span)
