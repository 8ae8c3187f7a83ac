"""Completing a command line: what may follow it, in the lines that the scripts in ``shells`` read.

Each line has a sort, a value and a help text, separated by tabs. A ``word`` is offered as it is; ``file`` and
``folder`` let the shell offer names from the disk. Words come from sites, which can come from anybody, and a
shell puts them on its command line: only those are offered that no shell gives a meaning to.
"""

from __future__ import annotations

import os
import pathlib
import re
import sys
from typing import TYPE_CHECKING

from elenchus.cli.commands import load

if TYPE_CHECKING:
    from collections.abc import Iterator

    import click

__all__ = ["SHELLS", "complete", "script"]

SHELLS = ("bash", "zsh", "fish")
_LINE = "ELENCHUS_LINE"  # the variable with the command line up to the cursor
_SAFE = re.compile(r"[\w./@%,+-][\w./:@%,+= -]*")  # with no meaning to any shell; blanks are quoted
_BREAKS = re.compile(r".*[=:]")  # after which bash completes a word of its own
_MOST = 400
_PLACES = {"FOLDER": "dir", "FILE": "file", "URL": "file", "PLACE": "file"}


def script(shell: str) -> str:
    """Return the script by which a shell completes the program."""
    return (pathlib.Path(__file__).with_name("shells") / shell).read_text(encoding="utf-8")


def complete(shell: str) -> int:
    """Write what may follow a line; return the exit code. Nothing about a site stops a shell."""
    from elenchus.errors import ElenchusError

    try:
        found = list(_lines(os.environ.get(_LINE, ""), shell))
    except (ElenchusError, OSError, ValueError, RecursionError):
        found = []
    sys.stdout.buffer.write("".join(f"{line}\n" for line in found[:_MOST]).encode("utf-8", "replace"))
    return 0


def _lines(line: str, shell: str) -> Iterator[str]:
    """Yield the lines for a shell."""
    from click.shell_completion import ShellComplete, split_arg_string
    from typer.main import get_command

    words = split_arg_string(line)
    begun = words.pop() if words and not line[-1:].isspace() else ""
    command = get_command(load(words[1:2]))
    _offer_places(command)
    for item in ShellComplete(command, {"obj": words[2:]}, "elenchus", "").get_completions(words[1:], begun):
        if item.type in ("file", "dir"):
            yield f"{'folder' if item.type == 'dir' else 'file'}\t\t"
        elif _SAFE.fullmatch(item.value):
            value = item.value
            if shell == "bash" and (before := _BREAKS.match(begun)) and value.startswith(before[0]):
                value = value[before.end() :]
            told = "".join(char if char.isprintable() else " " for char in item.help or "")
            yield f"word\t{value}\t{told}"


def _offer_places(command: click.Command) -> None:
    """Let all options and arguments that take a file or a folder be completed from the disk."""
    from click import Path
    from click.shell_completion import CompletionItem

    for below in getattr(command, "commands", {}).values():
        _offer_places(below)
    for parameter in command.params:
        metavar = parameter.metavar or ""
        sorts = {sort for name, sort in _PLACES.items() if name in metavar}
        if not metavar and isinstance(parameter.type, Path):
            sorts = {"dir"}
        if sorts:  # what can be a folder or a file is completed as a file
            kind = "file" if "file" in sorts else "dir"
            offer = lambda _ctx, begun, kind=kind: [CompletionItem(begun, type=kind)]  # noqa: E731
            setattr(parameter, "shell_complete", offer)  # noqa: B010 - of this one parameter
