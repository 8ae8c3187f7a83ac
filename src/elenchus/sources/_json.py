"""JSON with the places at which things stand, numbers as they were written, within bounds."""

from __future__ import annotations

import json
import re
from json.decoder import scanstring  # type: ignore[attr-defined]  # it is there
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from elenchus.files import DEEPEST_VALUE, MOST_VALUES
from elenchus.schema.record import Raw
from elenchus.sources._simple import Unreadable
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

Steps: TypeAlias = tuple[Any, ...]  # names and numbers that lead to a value of a document

__all__ = [
    "Lines", "Member", "Steps", "items_at", "json_object", "members_at", "offsets_of", "plain_object",
    "whole_value", "without_halves",
]  # fmt: skip

_SPACE = re.compile(r"[ \t\n\r]*")
_DECODER = json.JSONDecoder(parse_float=str, parse_int=str, parse_constant=str, strict=False)


class Lines:
    """The lines of places in a text, asked for in their order."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.line = 1

    def of(self, at: int) -> int:
        """Return the line of a place."""
        if at < self.at:
            return self.line - self.text.count("\n", at, self.at)
        self.line += self.text.count("\n", self.at, at)
        self.at = at
        return self.line


def _json_value(text: str, at: int = 0) -> tuple[Any, int]:
    """Return the value that stands at a place, and where it ends. Raises Unreadable."""
    try:
        return _DECODER.raw_decode(text, at)
    except json.JSONDecodeError as error:
        raise Unreadable(f"this is not valid JSON: {_plain(error.msg)}", _line(text, error.pos)) from None
    except RecursionError:
        raise Unreadable("the values nest too many lists and tables", _line(text, at)) from None


_HALVES = re.compile(
    r"\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2}|\\u[dD][89a-fA-F][0-9a-fA-F]{2}|\\.",
    re.DOTALL,
)
_HALF = re.compile(r"\\u[dD][89a-fA-F]")
_LENGTH_OF_HALF = 6  # characters, as its replacement has


def without_halves(text: str) -> str:
    """Return the text of a document in which no half of a surrogate pair stands alone: no text can hold one.

    What stands in its place is as long, so that all else stays where it is.
    """
    if not _HALF.search(text):
        return text
    return _HALVES.sub(lambda found: _whole(found[0]), text)


def _whole(escape: str) -> str:
    is_half = len(escape) == _LENGTH_OF_HALF and _HALF.match(escape)
    return "\\ufffd" if is_half else escape


def whole_value(text: str) -> Any:
    """Return the value of a document. Raises Unreadable."""
    found, end = _json_value(text, _after(text, 0))
    if text[end:].strip():
        raise Unreadable("something stands behind the document", _line(text, end))
    return found


def _without_doubles(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    """Return the members of an object. Raises Unreadable where a name stands twice."""
    found = dict(pairs)
    if len(found) < len(pairs):
        seen: set[str] = set()
        for name, _ in pairs:
            if name in seen:
                raise Unreadable(f"{quoted(name)} stands twice in one object")
            seen.add(name)
    return found


_STRICT = json.JSONDecoder(
    parse_float=str, parse_int=str, parse_constant=str, strict=False, object_pairs_hook=_without_doubles
)


def plain_object(line: str) -> dict[str, Any]:
    """Return the object that a line holds. Raises Unreadable."""
    try:
        found = _STRICT.decode(line)
    except json.JSONDecodeError as error:
        raise Unreadable(
            f"this is not valid JSON: {_plain(error.msg)} at character {error.pos + 1}"
        ) from None
    except RecursionError:
        raise Unreadable("the values nest too many lists and tables") from None
    if not isinstance(found, dict):
        raise Unreadable("the line is no object")
    _bounded(found, 0)
    return found


def _plain(message: str) -> str:
    """Return what the reader of JSON says as part of a sentence."""
    return message[:1].lower() + message[1:].rstrip(":").removesuffix(" at")


def _line(text: str, at: int) -> int:
    """Return the line of a place."""
    return text.count("\n", 0, at) + 1


def _after(text: str, at: int) -> int:
    """Return the next place that is not blank."""
    match = _SPACE.match(text, at)
    return match.end() if match else at


class Member(NamedTuple):
    """A member of an object: its name, where that ``begins`` and ends, its value, where that stands.

    What ends an object has no name.
    """

    name: str | None
    begins: int
    name_end: int = 0
    value: Any = None
    start: int = 0
    end: int = 0


def members_at(text: str, at: int) -> Iterator[Member]:
    """Yield the members of the object at a place, and last one at the place behind it. Raises Unreadable."""
    at = _after(text, at + 1)
    seen: set[str] = set()
    while text[at : at + 1] != "}":
        if text[at : at + 1] != '"':
            raise Unreadable("this is not valid JSON: here a name in quotes was expected", _line(text, at))
        begins = at
        try:
            name, at = scanstring(text, at + 1, False)  # noqa: FBT003 - line ends in texts are let through
        except json.JSONDecodeError as error:
            raise Unreadable(f"this is not valid JSON: {_plain(error.msg)}", _line(text, begins)) from None
        if name in seen:
            raise Unreadable(f"{quoted(name)} stands twice in one object", _line(text, begins))
        seen.add(name)
        name_end = at
        at = _after(text, at)
        if text[at : at + 1] != ":":
            raise Unreadable("this is not valid JSON: here a colon was expected", _line(text, at))
        value_at = _after(text, at + 1)
        value, at = _json_value(text, value_at)
        yield Member(name, begins, name_end, value, value_at, at)
        at = _after(text, at)
        if text[at : at + 1] == ",":
            at = _after(text, at + 1)
        elif text[at : at + 1] != "}":
            raise Unreadable("this is not valid JSON: here a comma was expected", _line(text, at))
    yield Member(None, at + 1)


def items_at(text: str, at: int) -> Iterator[tuple[Any, int, int]]:
    """Yield the items of the list at a place, with where they begin and end. Raises Unreadable."""
    at = _after(text, at + 1)
    while text[at : at + 1] != "]":
        value, end = _json_value(text, at)
        yield value, at, end
        at = _after(text, end)
        at = _after(text, at + 1) if text[at : at + 1] == "," else at


def json_object(
    text: str, at: int, lines: Lines | None = None, *, most: int = 2**24
) -> tuple[dict[str, Raw], int]:
    """Return the values of the object at a place with their lines, and where it ends. Raises Unreadable."""
    lines = lines or Lines(text)
    found: dict[str, Raw] = {}
    end = at
    for name, begins, _, value, _, _ in members_at(text, at):
        if name is None:
            end = begins
            break
        line = lines.of(begins)
        _bounded(value, line)
        found[name] = Raw(value, line)
        if begins - at > most:
            raise Unreadable(f"the object is longer than {most // 2**20} MB", line)
    return found, end


def _bounded(value: Any, line: int) -> None:
    """Raise Unreadable for a value that nests too deeply or has too many values in it."""
    if not isinstance(value, (list, dict)):
        return
    waiting, met = [(value, 1)], 0
    while waiting:
        each, depth = waiting.pop()
        met += len(each)
        if depth > DEEPEST_VALUE or met > MOST_VALUES:
            most = f"{DEEPEST_VALUE} deep" if depth > DEEPEST_VALUE else f"{MOST_VALUES} in number"
            raise Unreadable(f"the values are more than {most}", line)
        inner = each.values() if isinstance(each, dict) else each
        waiting += [(item, depth + 1) for item in inner if isinstance(item, (list, dict))]


def offsets_of(text: str, places: Iterable[Steps]) -> Iterator[tuple[Steps, int]]:
    """Yield the values of a document to which some steps lead, names and numbers, with where they stand.

    They come in the order of the document, each once. Raises Unreadable.
    """
    wanted: dict[Any, Any] = {}
    for place in places:
        below = wanted
        for step in place:
            below = below.setdefault(step, {})
        below[None] = {}  # here is one
    yield from _offsets(text, wanted, (), 0)


def _offsets(text: str, wanted: dict[Any, Any], above: Steps, at: int) -> Iterator[tuple[Steps, int]]:
    """Yield the values that are wanted at a place and below it; see :func:`offsets_of`."""
    at = _after(text, at)
    if None in wanted:
        yield above, at
        if len(wanted) == 1:
            return
    if text[at : at + 1] == "{":
        for member in members_at(text, at):
            if member.name is not None and member.name in wanted:
                yield from _offsets(text, wanted[member.name], (*above, member.name), member.start)
    elif text[at : at + 1] == "[":
        for number, (_, begins, _) in enumerate(items_at(text, at)):
            if number in wanted:
                yield from _offsets(text, wanted[number], (*above, number), begins)
