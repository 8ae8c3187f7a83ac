"""Allow a variable of the environment to be used for a server."""

from __future__ import annotations

from typing import Annotated

import typer

from elenchus.cli.app import app, examples

__all__ = ["allow"]


@app.command(
    short_help=__doc__,
    epilog=examples(
        "elenchus allow BAY_PASSWORD db.bay.example", "elenchus allow NOTES_PASSWORD notes.bay.example"
    ),
)
def allow(
    variable: Annotated[str, typer.Argument(metavar="VARIABLE", help="The variable that has the password.")],
    host: Annotated[str, typer.Argument(metavar="HOST", help="The server, as the site file names it.")],
) -> int:
    """Allow a variable of the environment to be used for a server.

    A site names both, and a site may come from somebody else: so nobody's password is sent to a server that
    its owner has not named. This is remembered for you, outside of all sites. Servers of this machine need no
    permission.
    """
    from elenchus.cli.printing import show
    from elenchus.files import written_or_told
    from elenchus.pieces.piece import Piece, printable
    from elenchus.userdata import allow_host, state_folder

    with written_or_told(
        f"the folder {state_folder()}", "Set XDG_STATE_HOME to a folder that can be written."
    ):
        allow_host(variable, host)
    show([Piece(f"{printable(variable)} may be used for {printable(host)} from now on.\n")])
    return 0
