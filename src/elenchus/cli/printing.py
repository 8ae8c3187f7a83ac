"""Putting pieces of text on a stream: coloured on a terminal, plain anywhere else."""

from __future__ import annotations

import os
import shutil
import sys
import time
from contextlib import contextmanager
from typing import TYPE_CHECKING, TextIO

import typer

from elenchus.pieces.piece import Piece, Role

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from typing import Any

__all__ = ["has_colours", "output_width", "progress", "show", "show_error"]

_BAR = 30  # columns of the progress bar
_STYLES: dict[Role, dict[str, Any]] = {
    Role.PLAIN: {},
    Role.HEADING: {"bold": True, "fg": "cyan"},
    Role.NAME: {"fg": "cyan"},
    Role.STRONG: {"bold": True},
    Role.FAINT: {"fg": "bright_black"},
    Role.NOTICE: {"fg": "yellow"},
    Role.ERROR: {"fg": "red", "bold": True},
    Role.HINT: {"fg": "green"},
}


def show(pieces: Iterable[Piece]) -> None:
    """Write pieces to standard output."""
    _write(pieces, sys.stdout)


def show_error(pieces: Iterable[Piece]) -> None:
    """Write pieces to standard error."""
    _write(pieces, sys.stderr)


def _write(pieces: Iterable[Piece], stream: TextIO) -> None:
    """Write pieces to a stream in its colours."""
    coloured = has_colours(stream)
    try:
        stream.write("".join(_painted(piece) if coloured else piece.text for piece in pieces))
        stream.flush()
    except BrokenPipeError:  # the reader went away: say no more, not even when the stream is closed
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def _painted(piece: Piece) -> str:
    """Return the text with the escape codes of its role; line ends stay outside them."""
    text = piece.text.rstrip("\n")
    if not text or not _STYLES[piece.role]:
        return piece.text
    return typer.style(text, **_STYLES[piece.role]) + piece.text[len(text) :]


def has_colours(stream: TextIO) -> bool:
    """Say whether a stream is a terminal that shows colours, and the user wants them (no-color.org)."""
    return stream.isatty() and "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb"


@contextmanager
def progress(what: str, total: int) -> Iterator[Callable[[], None]]:
    """Return a function to be called for each piece of work; a bar shows on a terminal after a second."""
    started, done = time.monotonic(), 0

    def tick() -> None:
        nonlocal done
        done += 1
        if sys.stderr.isatty() and time.monotonic() - started > 1:
            filled = done * _BAR // max(total, 1)
            sys.stderr.write(f"\r{what} {'█' * filled}{'░' * (_BAR - filled)} {done} of {total}")

    try:
        yield tick
    finally:
        if sys.stderr.isatty() and time.monotonic() - started > 1:
            sys.stderr.write("\r\x1b[K")


def output_width() -> int | None:
    """Return the width of the terminal, or None where output goes to a file or a pipe."""
    return shutil.get_terminal_size().columns if sys.stdout.isatty() else None
