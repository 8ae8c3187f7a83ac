"""Exploring line by line: what is typed is read, what comes of it is written below."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from elenchus.cli.printing import output_width, show
from elenchus.errors import ElenchusError
from elenchus.pieces.piece import Piece, Role
from elenchus.pieces.problems import plain_problems
from elenchus.report.exploring import answer_told, lines_told, said_told, written_told

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from elenchus.exploring.keeping import Keeping
    from elenchus.exploring.workbench import Said, Workbench

__all__ = ["explore_plainly"]

_PROMPT = "explore: "


def explore_plainly(bench: Workbench) -> None:
    """Read lines from standard input until it ends or somebody quits."""
    is_asked = sys.stdin.isatty()
    if is_asked:
        _complete_with(bench)
    _show_whole(bench)
    for text in _lines(is_asked=is_asked):
        said = bench.enter(text)
        show(said_told(said, text, output_width()))
        if said.ends:
            return
        if said.keeping and not said.keeping.is_idle:
            _keep(bench, said.keeping, is_asked=is_asked)
        elif _changes(said):
            _show_whole(bench)


def _changes(said: Said) -> bool:
    """Say whether the question or its answer is another now."""
    return not (said.problems or said.verdict or said.chart or said.copied or said.helps or said.keeping)


def _show_whole(bench: Workbench) -> None:
    """Write the question and its answer."""
    look = bench.look()
    show([*lines_told(look, output_width()), Piece("\n"), *answer_told(look, output_width()), Piece("\n")])


def _lines(*, is_asked: bool) -> Iterator[str]:
    """Yield what is typed, line by line."""
    while True:
        try:
            text = input(_PROMPT) if is_asked else next(sys.stdin).rstrip("\n")
        except (EOFError, StopIteration):
            return
        if not is_asked:
            show([Piece(f"{_PROMPT}{text}\n", Role.FAINT)])
        yield text


def _keep(bench: Workbench, kept: Keeping, *, is_asked: bool) -> None:
    """Write a listing where somebody agrees: on a terminal with yes, elsewhere by a line that says yes."""
    show([Piece(f"Write {kept.file.path}? yes or no\n", Role.NOTICE)])
    if next(_lines(is_asked=is_asked), "").strip().lower() not in ("yes", "y"):
        show([Piece("Nothing was written.\n", Role.FAINT)])
        return
    try:
        bench.write(kept)
    except ElenchusError as error:
        show(plain_problems(error.problems))
    else:
        show(written_told(kept))


def _complete_with(bench: Workbench) -> None:
    """Let the Tab key complete what is typed, where the system can."""
    try:
        import readline
    except ImportError:
        return
    found: list[str] = []

    def complete(_word: str, number: int) -> str | None:
        if not number:
            text = readline.get_line_buffer()[: readline.get_endidx()]
            offered = bench.offers(text)
            lead = text[readline.get_begidx() : offered.at] if offered.at > readline.get_begidx() else ""
            found[:] = [f"{lead}{each.text} " for each in offered.offers if not each.is_idle]
        return found[number] if number < len(found) else None

    readline.set_completer_delims(" ")
    readline.set_completer(complete)
    bind: Callable[[str], None] = readline.parse_and_bind
    bind("tab: complete")
