"""What pieces of text look like on the screen: in colours, and in shapes alone."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.pieces.piece import Role

if TYPE_CHECKING:
    from collections.abc import Iterable

    from prompt_toolkit.formatted_text import StyleAndTextTuples

    from elenchus.pieces.piece import Piece

__all__ = ["COLOURS", "SHAPES", "lines_of", "painted"]

COLOURS = {
    "heading": "bold ansicyan",
    "name": "ansicyan",
    "strong": "bold",
    "faint": "ansibrightblack",
    "notice": "ansiyellow",
    "error": "bold underline ansired",
    "hint": "ansigreen",
    "chosen": "reverse",
    "bar": "reverse",
    "idle": "#8b979e",
    "near": "italic",
    "completion-menu": "bg:#26313a #e6e9eb",
    "completion-menu.completion": "bg:#26313a #e6e9eb",
    "completion-menu.meta.completion": "bg:#1d262d #b9c4ca",
    "completion-menu.completion.current": "bg:#bfe3ea #14191d bold",
    "completion-menu.meta.completion.current": "bg:#a9d3db #14191d",
}
# Without colours each of these is told by its shape: bold, underlined, reversed, or the words themselves.
SHAPES = {
    "heading": "bold",
    "strong": "bold",
    "notice": "underline",
    "error": "bold underline",
    "chosen": "reverse",
    "bar": "reverse",
    "completion-menu.completion.current": "reverse",
    "completion-menu": "noinherit",
    "completion-menu.completion": "noinherit",
    "completion-menu.meta.completion": "noinherit",
}


def painted(pieces: Iterable[Piece]) -> StyleAndTextTuples:
    """Return pieces as the library shows them."""
    return [("" if each.role is Role.PLAIN else f"class:{each.role.value}", each.text) for each in pieces]


def lines_of(pieces: Iterable[Piece]) -> list[StyleAndTextTuples]:
    """Return pieces line by line."""
    lines: list[StyleAndTextTuples] = [[]]
    for style, text, *_ in painted(pieces):
        first, *more = text.split("\n")
        if first:
            lines[-1].append((style, first))
        lines += [[(style, part)] if part else [] for part in more]
    while lines and not lines[-1]:
        lines.pop()
    return lines
