"""Let a shell complete commands, options, and the names of the site."""

from __future__ import annotations

from typing import Annotated

import typer

from elenchus.cli import words
from elenchus.cli.app import app, examples, known_word
from elenchus.cli.completing import SHELLS

__all__ = ["completion"]


def _known_shell(name: str) -> str:
    """Return the name of a shell that can complete."""
    return known_word(name, SHELLS, "shell")


@app.command(
    short_help=__doc__,
    epilog=examples("elenchus completion bash", "elenchus completion fish"),
)
def completion(
    shell: Annotated[
        str,
        typer.Argument(
            metavar="SHELL",
            help="bash, zsh or fish.",
            callback=_known_shell,
            autocompletion=words.fixed(*SHELLS),
        ),
    ],
) -> None:
    """Print a script that lets a shell complete commands, options, files and the names of the nearest site.

    Names are those of listings, pages, entries, fields, terms and parameters. Bash reads the script from
    ~/.bashrc, zsh from ~/.zshrc below compinit, and fish from ~/.config/fish/completions/elenchus.fish.
    """
    from elenchus.cli.completing import script
    from elenchus.cli.printing import show
    from elenchus.pieces.piece import Piece

    show([Piece(script(shell))], is_data=True)
