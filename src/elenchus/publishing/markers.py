"""Markers in files of others: finding them, and reading what they ask for."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

__all__ = ["Marker", "Span", "markers_in"]

VERBS = ("begin", "end")
COUNT = "count"
SETTINGS = ("layout", "level")  # words before = that are no parameters
# What can hold a comment that is none: in HTML the elements whose content is text, in Markdown code.
HTML = re.compile(
    r"<!--(?P<comment>.*?)--!?>|<(?P<raw>script|style|textarea|title|xmp)\b[^>]*>.*?(?:</(?P=raw)\s*>|\Z)",
    re.DOTALL | re.IGNORECASE,
)
MARKDOWN = re.compile(
    r"^ {0,3}(?P<fence>`{3,}|~{3,})[^\n]*\n.*?(?:^ {0,3}(?P=fence)[`~]*[ \t]*\r?$|\Z)"
    r"|<!--(?P<comment>.*?)-->|(?P<ticks>`+)(?!`)[^\n]*?(?<!`)(?P=ticks)(?!`)",
    re.DOTALL | re.MULTILINE,
)
WORD = re.compile(
    r"""\s*(?:(?P<name>[^\W\d][\w-]*)=)?(?:"(?P<double>(?:[^"\\]|\\.)*)"|'(?P<single>(?:[^'\\]|\\.)*)'|(?P<plain>[^\s"'=]+))""",
    re.DOTALL,
)


@dataclass(frozen=True, slots=True)
class Span:
    """Places in a text: from ``start`` up to ``end``."""

    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Marker:
    """A pair of markers: what stands between them, and what is to stand there.

    ``ask`` is the name of a listing or a question, ``given`` are values for its parameters. ``layout`` and
    ``level`` are empty and 0 where the marker does not say.
    """

    place: Place
    inner: Span
    ask: str
    given: Mapping[str, Sequence[str]] = field(default_factory=dict)
    is_count: bool = False
    layout: str = ""
    level: int = 0


@dataclass(frozen=True, slots=True)
class Note:
    """A comment that is addressed to us: its verb, the rest, where it stands."""

    verb: str
    rest: str
    span: Span
    place: Place


def markers_in(text: str, name: str, *, markdown: bool) -> tuple[list[Marker], list[Problem]]:
    """Return the pairs of markers of a file, and what is wrong with them."""
    found: list[Marker] = []
    problems: list[Problem] = []
    begun: Note | None = None
    for note in notes_in(text, name, markdown=markdown):
        if note.verb not in VERBS:
            problems.append(unknown(note))
        elif note.verb == "begin" and begun:
            message = f"a marker begins inside the one of line {begun.place.line}"
            hint = "Write <!-- elenchus end --> before it: markers do not nest."
            problems.append(Problem("nested-marker", message, hint, place=note.place))
        elif note.verb == "begin":
            begun = note
        elif begun is None:
            message = "a marker ends, and none has begun"
            problems.append(Problem("unbegun-marker", message, "Take it away.", place=note.place))
        else:
            marker, wrong = read_marker(begun, Span(begun.span.end, note.span.start))
            found += [marker] if marker else []
            problems += wrong
            begun = None
    if begun:
        message = f"the marker of {begun.rest.strip() or 'nothing'} is never closed"
        problems.append(
            Problem("unclosed-marker", message, "Write <!-- elenchus end --> after it.", place=begun.place)
        )
    return found, problems


def notes_in(text: str, name: str, *, markdown: bool) -> Iterator[Note]:
    """Yield the comments that are addressed to us, in their order."""
    line, counted = 1, 0
    for match in (MARKDOWN if markdown else HTML).finditer(text):
        words = (match["comment"] or "").split(None, 2)
        if not words or words[0] != "elenchus":
            continue
        line, counted = line + text.count("\n", counted, match.start()), match.start()
        verb = words[1] if len(words) > 1 else ""
        rest = words[2] if len(words) > 2 else ""  # noqa: PLR2004 - what follows the verb
        yield Note(verb, rest, Span(match.start(), match.end()), Place(name, line))


def unknown(note: Note) -> Problem:
    """Return the problem of a marker that says neither begin nor end."""
    near = nearest(note.verb, VERBS)
    hint = (
        f"Did you mean {either(near)}?"
        if near
        else "Write <!-- elenchus begin LISTING --> … <!-- elenchus end -->."
    )
    return Problem(
        "unknown-marker", f"a marker begins or ends, it cannot {quoted(note.verb)}", hint, place=note.place
    )


def read_marker(note: Note, inner: Span) -> tuple[Marker | None, list[Problem]]:
    """Return what a marker asks for, and what is wrong with its words."""
    problems: list[Problem] = []
    words, rest = words_of(note.rest)
    if rest:
        hint = 'Values are words or texts in quotes: habitat=shore, period="last 90 days".'
        problems.append(
            Problem("bad-marker", f"the marker cannot be read at {quoted(rest)}", hint, place=note.place)
        )
        return None, problems
    plain = [text for name, text in words if not name]
    is_count = len(plain) > 1 and plain[0] == COUNT
    asked = plain[1:] if is_count else plain
    if len(asked) != 1:
        message = (
            "the marker names nothing to show"
            if not asked
            else f"the marker asks for {len(asked)} things at once"
        )
        hint = "Write the name of a listing or a question in quotes, then values: name=value."
        problems.append(Problem("bad-marker", message, hint, place=note.place))
        return None, problems
    settings = {name: text for name, text in words if name in SETTINGS}
    level = settings.get("level", "0")
    if level not in "0123456" or not level:
        problems.append(Problem("bad-marker", f"level is 1 to 6, not {quoted(level)}", place=note.place))
        level = "0"
    given = several((name, text) for name, text in words if name and name not in SETTINGS)
    marker = Marker(note.place, inner, asked[0], given, is_count, settings.get("layout", ""), int(level))
    return marker, problems


def words_of(text: str) -> tuple[list[tuple[str, str]], str]:
    """Return the words of a marker, each with the name before its ``=``; and what cannot be read."""
    found: list[tuple[str, str]] = []
    at = 0
    while text[at:].strip():
        match = WORD.match(text, at)
        if match is None:
            return found, text[at:].strip()
        written = next(
            part for part in (match["double"], match["single"], match["plain"]) if part is not None
        )
        found.append((match["name"] or "", re.sub(r"\\(.)", r"\1", written)))
        at = match.end()
    return found, ""


def several(pairs: Iterable[tuple[str, str]]) -> dict[str, list[str]]:
    """Return the values of each name."""
    found: dict[str, list[str]] = {}
    for name, text in pairs:
        found.setdefault(name, []).append(text)
    return found
