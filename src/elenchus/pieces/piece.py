"""Pieces of text, each with the role it plays; whoever prints decides what a role looks like."""

from __future__ import annotations

from enum import Enum
from typing import NamedTuple

# Characters of one column each, which spare most texts the tables of all scripts.
_NARROW = dict.fromkeys((*range(0x20, 0x7F), *range(0xA1, 0xAD), *range(0xAE, 0x180), *map(ord, "–—‘’“”…•")))

__all__ = ["Piece", "Role", "clipped", "printable", "width_of"]


class Role(Enum):
    """What a piece of text is to the reader."""

    PLAIN = "plain"
    HEADING = "heading"
    NAME = "name"
    STRONG = "strong"
    FAINT = "faint"
    NOTICE = "notice"
    ERROR = "error"
    HINT = "hint"


class Piece(NamedTuple):
    """Some text and its role."""

    text: str
    role: Role = Role.PLAIN


def printable(text: str) -> str:
    """Return the text on one line, control characters replaced, so that content cannot move the cursor."""
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() else " " if char.isspace() else "\N{REPLACEMENT CHARACTER}"
        for char in text
    )


def width_of(text: str) -> int:
    """Return how many columns of a terminal a text takes."""
    if text.isascii() or not text.translate(_NARROW):
        return len(text)
    from wcwidth import wcswidth

    return max(wcswidth(text), 0)


def clipped(text: str, width: int) -> str:
    """Return the text cut to so many columns, with an ellipsis where something is missing."""
    if width_of(text) <= width:
        return text
    kept, used = [], 1
    for char in text:
        used += width_of(char)
        if used > width:
            break
        kept.append(char)
    return "".join(kept).rstrip() + "…"
