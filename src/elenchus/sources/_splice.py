"""Changing texts so that only what must change does: the parts to be replaced, in bytes of any encoding."""

from __future__ import annotations

import codecs
import re
from typing import TYPE_CHECKING, NamedTuple

from elenchus.schema.edits import UneditableError
from elenchus.sources._encoding import MARKS, encoding_for
from elenchus.values.several import in_one_text

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources._spec import SourceSpec

__all__ = [
    "Splice", "as_lines", "changed_text", "cut",
    "end_of_line", "joined", "kept_and_new", "line_end", "line_start", "line_starts", "spliced",
]  # fmt: skip

_CODECS = {
    codecs.BOM_UTF8: "utf-8",
    codecs.BOM_UTF32_LE: "utf-32-le",
    codecs.BOM_UTF32_BE: "utf-32-be",
    codecs.BOM_UTF16_LE: "utf-16-le",
    codecs.BOM_UTF16_BE: "utf-16-be",
}
_LINE_END = re.compile(r"\r\n|\n|\r")


class Splice(NamedTuple):
    """A part of a text, and what is to stand there."""

    start: int
    end: int
    text: str


def spliced(text: str, splices: Iterable[Splice]) -> str:
    """Return a text with parts replaced, which must not overlap; those at one place stay in their order."""
    parts: list[str] = []
    at = 0
    for start, end, new in sorted(splices, key=lambda each: each[:2]):
        parts += [text[at:start], new]
        at = end
    return "".join([*parts, text[at:]])


def end_of_line(text: str) -> str:
    """Return the sign with which the lines of a text end: that of its first one."""
    match = _LINE_END.search(text)
    return match[0] if match else "\n"


def cut(spans: Sequence[tuple[int, int]], gone: Sequence[bool]) -> Iterator[Splice]:
    """Yield what takes some of several things away that commas part, with one comma for each."""
    for at, is_gone in enumerate(gone):
        if not is_gone:
            continue
        if not all(gone[at:]):
            yield Splice(spans[at][0], spans[at + 1][0], "")
        elif at and not all(gone[:at]):
            yield Splice(spans[at - 1][1], spans[at][1], "")
        else:  # nothing is left of all
            yield Splice(spans[at][0], spans[at + 1][0] if at + 1 < len(spans) else spans[at][1], "")


def line_start(text: str, at: int) -> int:
    """Return where the line of a place begins."""
    return max(text.rfind("\n", 0, at), text.rfind("\r", 0, at)) + 1


def line_end(text: str, at: int) -> int:
    """Return where the line of a place ends, with its sign: where the next one begins."""
    if at and text[at - 1] in "\r\n":
        return at
    match = _LINE_END.search(text, at)
    return match.end() if match else len(text)


def as_lines(text: str, at: int, lines: Sequence[str], end: str) -> Splice:
    """Return what puts lines where one begins, or behind the last one, which may lack its sign."""
    is_cut = at > 0 and text[at - 1] not in "\r\n"
    return Splice(at, at, "".join(f"{end}{line}" if is_cut else f"{line}{end}" for line in lines))


def line_starts(text: str, edits: Iterable[EntryEdit]) -> Iterator[tuple[EntryEdit, int]]:
    """Yield edits with where their lines begin, in the order of the lines."""
    at, line = 0, 1
    for edit in sorted(edits, key=lambda each: each.line):
        while line < edit.line:
            match = _LINE_END.search(text, at)
            if match is None:
                raise UneditableError("the line is not there any more", edit.line)
            at, line = match.end(), line + 1
        yield edit, at


def joined(values: Sequence[str], before: str, separator: str) -> str:
    """Return values as one text, parted as they were before, or in a text like it, where one tells."""
    if len(values) == 1:  # which may be a text with any sign in it
        return values[0]
    sign = separator or ","
    inner = before.strip().strip(sign)
    tight = f"{sign} " not in inner if sign in inner else sign != ","
    return in_one_text(values, sign, tight=tight)


def kept_and_new(old: Sequence[str], new: Sequence[str]) -> tuple[list[bool], list[str]] | None:
    """Return which items of a list stay, and which come behind them; None where one would come twice."""
    left, stay = list(new), []
    for item in old:
        stay.append(left[:1] == [item])
        if stay[-1]:
            del left[0]
    kept = {item for item, stays in zip(old, stay, strict=True) if stays}
    return None if kept & set(left) else (stay, left)


def changed_text(content: bytes, spec: SourceSpec, change: Callable[[str], str]) -> bytes:
    """Return bytes whose text a function has changed, in the same encoding and with the same mark.

    Raises UneditableError where bytes have no text, or the new one has no bytes.
    """
    mark = next((mark for mark, _ in MARKS if content.startswith(mark)), b"")
    codec = _CODECS.get(mark) or encoding_for(content, spec)
    try:
        text = content[len(mark) :].decode(codec)
        if text.encode(codec) != content[len(mark) :]:
            raise UneditableError(f"its bytes can be written in several ways in {codec}")
    except UnicodeError:
        raise UneditableError(f"its bytes are not {codec}") from None
    new = change(text)
    try:
        return mark + new.encode(codec)
    except UnicodeEncodeError as error:
        wrong = new[error.start : error.end]
        hint = "Save the file as UTF-8 first."
        raise UneditableError(f"“{wrong}” cannot be written in {codec}", 0, hint) from None
