"""Let a shell complete commands, options, and the names of the site."""

from __future__ import annotations

from typing import Annotated

import typer

from elenchus.cli import words
from elenchus.cli.app import app, examples, known_word

__all__ = ["completion"]

_SHELLS = ("bash", "zsh", "fish")


def _known_shell(name: str) -> str:
    """Return the name of a shell that can complete."""
    return known_word(name, _SHELLS, "shell")


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
            autocompletion=words.fixed(*_SHELLS),
        ),
    ],
) -> None:
    """Print what lets a shell complete: commands, options, names of listings and pages, codes.

    Names are those of the nearest site. Write it where the shell reads it at its start: that of bash goes to
    ~/.bashrc, that of zsh to ~/.zshrc below compinit; fish reads ~/.config/fish/completions/elenchus.fish.
    """
    from click.shell_completion import get_completion_class

    from elenchus.cli.printing import show
    from elenchus.cli.program import COMPLETE
    from elenchus.pieces.piece import Piece

    known = get_completion_class(shell)
    if known is not None:
        made = known(typer.main.get_command(app), {}, "elenchus", COMPLETE)
        show([Piece(made.source_template % made.source_vars())], is_data=True)
