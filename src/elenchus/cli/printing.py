"""Putting pieces of text on a stream: coloured on a terminal, plain anywhere else."""

from __future__ import annotations

import os
import re
import shutil
import sys
import time
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, TextIO

import typer

from elenchus.errors import FolderError, Problem
from elenchus.pieces.piece import Piece, Role

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator
    from typing import Any

__all__ = ["has_colours", "output_width", "progress", "show", "show_error"]

_BAR = 30  # columns of the progress bar
# What moves the cursor, sets a terminal up, or turns the direction of what follows.
_CONTROL = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069\ud800-\udfff]")
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


def show(pieces: Iterable[Piece], *, is_data: bool = False) -> None:
    """Write pieces to standard output: text for people, or data for programs. Raises FolderError.

    Content cannot move the cursor or do worse: in text every control character is replaced; data is as it
    is in a file or a pipe, and escaped on a terminal. Text has the encoding of the stream, data UTF-8.
    """
    _write(pieces, sys.stdout, is_data=is_data)


def show_error(pieces: Iterable[Piece]) -> None:
    """Write pieces to standard error."""
    _write(pieces, sys.stderr, is_data=False)


def _write(pieces: Iterable[Piece], stream: TextIO | None, *, is_data: bool) -> None:
    """Write pieces to a stream in its colours."""
    if stream is None:  # it was closed before the program began
        raise _unwritten("it is closed")
    coloured = has_colours(stream)
    text = "".join(_painted(piece, coloured=coloured, is_data=is_data, stream=stream) for piece in pieces)
    encoding = "utf-8" if is_data else stream.encoding or "utf-8"
    try:
        stream.flush()
        stream.buffer.write(text.encode(encoding, "replace"))
        stream.flush()
    except BrokenPipeError:  # the reader went away: say no more, not even when the stream is closed
        _silence(stream)
    except (OSError, ValueError) as error:
        _silence(stream)
        if stream is sys.stderr:
            return
        raise _unwritten(getattr(error, "strerror", None) or str(error)) from None


def _silence(stream: TextIO) -> None:
    """Let what is still to be written to a stream go nowhere."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def _unwritten(why: str) -> FolderError:
    message = f"standard output cannot be written ({why})"
    return FolderError([Problem("cannot-write", message, "Make room for it, or write it somewhere else.")])


def _painted(piece: Piece, *, coloured: bool, is_data: bool, stream: TextIO) -> str:
    """Return the text with the escape codes of its role; line ends stay outside them."""
    whole = piece.text
    if not is_data:
        whole = _CONTROL.sub("\N{REPLACEMENT CHARACTER}", whole)
    elif stream.isatty():
        whole = _CONTROL.sub(lambda match: f"\\u{ord(match[0]):04x}", whole)
    text = whole.rstrip("\n")
    if not (coloured and text and _STYLES[piece.role]):
        return whole
    return typer.style(text, **_STYLES[piece.role]) + whole[len(text) :]


def has_colours(stream: TextIO) -> bool:
    """Say whether a stream is a terminal that shows colours, and the user wants them (no-color.org)."""
    return stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


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
    return shutil.get_terminal_size().columns if sys.stdout and sys.stdout.isatty() else None
