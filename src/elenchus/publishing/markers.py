"""Markers in files of others: finding them, and reading what they ask for."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem, Span
from elenchus.frozen import Frozen, member
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

__all__ = ["Marker", "markers_in"]

_VERBS = ("begin", "end")
_NUMBER, _MEASURE = "number", "measure"
_SETTINGS = ("layout", "level")  # words before = that are no parameters
# Where a comment may begin, or what can hold one that is none: in HTML tags with their attributes, elements
# whose content is text, CDATA and instructions to programs such as PHP; in Markdown code as well, and there
# a backslash takes the meaning of the sign after it.
_HTML = re.compile(r"<!--|<!\[CDATA\[|<\?(?:php\b|=)?|</?(?P<tag>[a-z][^\s/>]*)", re.IGNORECASE)
_RAW = frozenset({"script", "style", "textarea", "title", "xmp"})
_ATTRIBUTES = re.compile(r"""(?:[^>=]++|=\s*+(?:"[^"]*+"|'[^']*+'|(?!["'])))*+>""")
_MARKDOWN = re.compile(
    r"^ {0,3}(?P<fence>`{3,}|~{3,})[^\n]*$|<!--|\\[!-/:-@\[-`{-~]|(?P<ticks>`+)"
    r"|<!\[CDATA\[|<\?|</?(?P<tag>[a-z][a-z0-9-]*)",
    re.MULTILINE | re.IGNORECASE,
)
# A tag as CommonMark 0.31 has it (section 6.6); any other sign of less in Markdown is text.
_TAG_OF_MARKDOWN = re.compile(
    r"""(?:\s++[a-z_:][\w.:-]*+(?:\s*+=\s*+(?:"[^"]*+"|'[^']*+'|[^\s"'=<>`]++))?+)*+\s*+/?>""", re.IGNORECASE
)
_LINE_BEGINS = re.compile(r"(?:^|\n) {0,3}$")
_HTML_END = re.compile(r"--!?>")
_TICKS = re.compile(r"`+")
_WORD = re.compile(
    r"""\s*(?:(?P<name>[^\W\d][\w-]*)=)?(?:"(?P<double>(?:[^"\\]|\\.)*)"|'(?P<single>(?:[^'\\]|\\.)*)'|(?P<plain>[^\s"'=]+))""",
    re.DOTALL,
)


class Marker(Frozen):
    """A pair of markers: what stands between them, and what is to stand there.

    ``ask`` is the name of a listing or a question, ``given`` are values for its parameters. ``layout`` and
    ``level`` are empty and 0 where the marker does not say. ``is_number`` wants the number of rows in
    the place of these, ``is_measure`` what the first measure comes to.
    """

    place: Place
    inner: Span
    ask: str
    given: Mapping[str, Sequence[str]] = member(default_factory=dict)
    is_number: bool = False
    is_measure: bool = False
    layout: str = ""
    level: int = 0


class _Note(Frozen):
    """A comment that is addressed to us: its verb, the rest, where it stands."""

    verb: str
    rest: str
    span: Span
    place: Place


def markers_in(text: str, name: str, *, markdown: bool) -> tuple[list[Marker], list[Problem]]:
    """Return the pairs of markers of a file, and what is wrong with them."""
    found: list[Marker] = []
    problems: list[Problem] = []
    begun: _Note | None = None
    for note in _notes_in(text, name, markdown=markdown):
        if note.verb not in _VERBS:
            problems.append(_unknown(note))
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
            marker, wrong = _read_marker(begun, Span(begun.span.end, note.span.start))
            found += [marker] if marker else []
            problems += wrong
            begun = None
    if begun:
        message = f"the marker of {begun.rest.strip() or 'nothing'} is never closed"
        problems.append(
            Problem("unclosed-marker", message, "Write <!-- elenchus end --> after it.", place=begun.place)
        )
    return found, problems


def _notes_in(text: str, name: str, *, markdown: bool) -> Iterator[_Note]:
    """Yield the comments that are addressed to us, in their order."""
    if "elenchus" not in text:  # as in most files of a folder
        return
    line, counted = 1, 0
    for span, comment in _comments_in(text, markdown=markdown):
        words = comment.split(None, 2)
        if not words or words[0] != "elenchus":
            continue
        line, counted = line + text.count("\n", counted, span.start), span.start
        verb = words[1] if len(words) > 1 else ""
        rest = words[2] if len(words) > 2 else ""  # noqa: PLR2004 - what follows the verb
        yield _Note(verb, rest, span, Place(name, line))


def _comments_in(text: str, *, markdown: bool) -> Iterator[tuple[Span, str]]:
    """Yield the comments of a text with their places; each character is looked at a few times at the most.

    What is never closed reaches to the end of the text, as browsers have it, so nothing is looked for twice.
    """
    begins = _MARKDOWN if markdown else _HTML
    ticks = _closing_ticks(text) if markdown else {}
    at = 0
    while match := begins.search(text, at):
        if match[0] == "<!--":
            end = _HTML_END.search(text, match.end())
            if end is None:
                return
            yield Span(match.start(), end.end()), text[match.end() : end.start()]
            at = end.end()
        elif markdown and match["ticks"]:
            at = ticks.get(match.start(), match.end())
        elif markdown and match[0].startswith("\\"):
            at = match.end()
        else:
            is_fence = markdown and match["fence"]
            behind = _behind_fence(text, match) if is_fence else _behind_other(text, match, markdown=markdown)
            if behind is None:
                return
            at = behind


def _behind_fence(text: str, match: re.Match[str]) -> int | None:
    """Return where a block of code has ended (CommonMark 0.31, section 4.5); None if nowhere."""
    fence = match["fence"]
    closing = re.compile(rf"^ {{0,3}}{re.escape(fence[0])}{{{len(fence)},}}[ \t]*\r?$", re.MULTILINE)
    end = closing.search(text, match.end())
    return end.end() if end else None


def _behind_other(text: str, match: re.Match[str], *, markdown: bool) -> int | None:
    """Return where a tag, an element with text only, CDATA or an instruction has ended; None if nowhere.

    In Markdown what is never closed is text, except at the start of a line.
    """
    if match["tag"] is None:
        closing = "]]>" if match[0].startswith("<!") else "?>"
        end = text.find(closing, match.end())
        is_text = markdown and not _LINE_BEGINS.search(text, max(0, match.start() - 4), match.start())
        return end + len(closing) if end >= 0 else match.end() if is_text else None
    end_of_tag = (_TAG_OF_MARKDOWN if markdown else _ATTRIBUTES).match(text, match.end())
    if end_of_tag is None:
        return match.end() if markdown else None
    name = match["tag"].lower()
    if name not in _RAW or match[0].startswith("</"):
        return end_of_tag.end()
    end_of_element = re.compile(rf"</{name}\s*>", re.IGNORECASE).search(text, end_of_tag.end())
    return end_of_element.end() if end_of_element else None


def _closing_ticks(text: str) -> dict[int, int]:
    """Return where the code that a run of backticks opens ends: after the next run as long on its line."""
    found: dict[int, int] = {}
    last: dict[tuple[int, int], int] = {}  # length and line → the run that may begin code
    line, counted = 0, 0
    for match in _TICKS.finditer(text):
        line, counted = line + text.count("\n", counted, match.start()), match.start()
        key = (len(match[0]), line)
        if key in last:
            found[last[key]] = match.end()
        last[key] = match.start()
    return found


def _unknown(note: _Note) -> Problem:
    """Return the problem of a marker that says neither begin nor end."""
    near = nearest(note.verb, _VERBS)
    hint = "Write <!-- elenchus begin LISTING --> … <!-- elenchus end -->."
    return Problem(
        "unknown-marker",
        f"a marker begins or ends, it cannot {quoted(note.verb)}",
        hint,
        place=note.place,
        near=near,
    )


def _read_marker(note: _Note, inner: Span) -> tuple[Marker | None, list[Problem]]:
    """Return what a marker asks for, and what is wrong with its words."""
    problems: list[Problem] = []
    words, rest = _words_of(note.rest)
    if rest:
        hint = 'Values are words or texts in quotes: habitat=shore, period="last 90 days".'
        problems.append(
            Problem("bad-marker", f"the marker cannot be read at {quoted(rest)}", hint, place=note.place)
        )
        return None, problems
    plain = [text for name, text in words if not name]
    if len(plain) > 1 and plain[0] == "count":
        hint = 'Write number: <!-- elenchus begin number "…" -->.'
        problems.append(Problem("bad-marker", "a marker counts nothing", hint, place=note.place))
        return None, problems
    is_number, is_measure = (len(plain) > 1 and plain[0] == word for word in (_NUMBER, _MEASURE))
    asked = plain[1:] if is_number or is_measure else plain
    if len(asked) != 1:
        message = (
            "the marker names nothing to show"
            if not asked
            else f"the marker asks for {len(asked)} things at once"
        )
        hint = "Write the name of a listing or a question in quotes, then values: name=value."
        problems.append(Problem("bad-marker", message, hint, place=note.place))
        return None, problems
    settings = {name: text for name, text in words if name in _SETTINGS}
    level = settings.get("level", "0")
    if level not in "0123456" or not level:
        problems.append(Problem("bad-marker", f"level is 1 to 6, not {quoted(level)}", place=note.place))
        level = "0"
    given = _several((name, text) for name, text in words if name and name not in _SETTINGS)
    marker = Marker(
        note.place, inner, asked[0], given, is_number, is_measure, settings.get("layout", ""), int(level)
    )
    return marker, problems


def _words_of(text: str) -> tuple[list[tuple[str, str]], str]:
    """Return the words of a marker, each with the name before its ``=``; and what cannot be read."""
    found: list[tuple[str, str]] = []
    at = 0
    while text[at:].strip():
        match = _WORD.match(text, at)
        if match is None:
            return found, text[at:].strip()
        written = next(
            part for part in (match["double"], match["single"], match["plain"]) if part is not None
        )
        found.append((match["name"] or "", re.sub(r"\\(.)", r"\1", written)))
        at = match.end()
    return found, ""


def _several(pairs: Iterable[tuple[str, str]]) -> dict[str, list[str]]:
    """Return the values of each name."""
    found: dict[str, list[str]] = {}
    for name, text in pairs:
        found.setdefault(name, []).append(text)
    return found
