"""Several values in one text, parted by a sign: what has it itself stands in double quotes, as in CSV."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterable

__all__ = ["in_one_text", "parts_of_text"]

_QUOTE = '"'


def in_one_text(values: Iterable[str], sign: str, *, tight: bool = True) -> str:
    """Return values as one text; without ``tight`` there is a space behind each sign."""
    return (sign if tight else f"{sign} ").join(_quoted(each, sign) for each in values)


def parts_of_text(text: str, sign: str) -> list[str]:
    """Return the values that one text has, without the blanks around them and without empty ones."""
    if _QUOTE not in text:
        return [part for each in text.split(sign) if (part := each.strip())]
    return [part for each in _pieces(text, sign) if (part := _plain(each.strip()))]


def _quoted(value: str, sign: str) -> str:
    """Return a value in quotes if it could be taken for several, or for one that is in quotes."""
    if sign not in value and not value.startswith(_QUOTE):
        return value
    return _QUOTE + value.replace(_QUOTE, _QUOTE * 2) + _QUOTE


def _pieces(text: str, sign: str) -> list[str]:
    """Return the pieces of a text between signs; one in quotes goes on to the last of them."""
    found, at = [], 0
    while at <= len(text):
        start = at + len(text[at:]) - len(text[at:].lstrip())
        end = text.find(sign, at)
        if text.startswith(_QUOTE, start):
            close = _close(text, start)
            behind = len(text) if close < 0 else close + 1
            rest = text[behind:].lstrip()
            if close >= 0 and (not rest or rest.startswith(sign)):  # else it is a text that begins with one
                end = text.find(sign, behind)
        end = len(text) if end < 0 else end
        found.append(text[at:end])
        at = end + len(sign)
    return found


def _close(text: str, start: int) -> int:
    """Return where the quote that opens at a place is closed, passing over doubled ones; -1 for nowhere."""
    at = text.find(_QUOTE, start + 1)
    while at >= 0 and text.startswith(_QUOTE, at + 1):
        at = text.find(_QUOTE, at + 2)
    return at


def _plain(part: str) -> str:
    """Return what a part in quotes says; others are what they are."""
    is_whole = len(part) > 1 and part.startswith(_QUOTE) and _close(part, 0) == len(part) - 1
    return part[1:-1].replace(_QUOTE * 2, _QUOTE).strip() if is_whole else part
