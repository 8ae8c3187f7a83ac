"""Answers as text: one file a format, found by scanning this folder.

A format module has a function ``write(answer, width)`` that yields pieces of text; its name is the
word after ``--format``. ``width`` is that of the terminal, None where lines may be of any length.
"""

from __future__ import annotations

import pkgutil
from importlib import import_module
from typing import TYPE_CHECKING, Protocol, cast

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer
    from elenchus.layout.pieces import Piece

__all__ = ["Format", "answer_format", "names"]


class Format(Protocol):
    """What a format module offers."""

    def write(self, answer: Answer, width: int | None) -> Iterator[Piece]:
        """Yield the text of an answer, line ends included."""


def names() -> list[str]:
    """Return the names of all formats."""
    return sorted(module.name for module in pkgutil.iter_modules(__path__))


def answer_format(name: str) -> Format:
    """Return a format by its name; KeyError when there is none."""
    if name not in names():
        raise KeyError(name)
    return cast("Format", import_module(f"{__name__}.{name}"))
