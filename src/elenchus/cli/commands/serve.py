"""Show the whole site while it is worked on, at an address of this machine."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from secrets import token_urlsafe
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from elenchus.cli.app import AnswersOption, AtOption, NoIndexOption, SiteOption, app, examples

if TYPE_CHECKING:
    from elenchus.pieces.piece import Piece

__all__ = ["serve"]

_USUAL_PORT = 4040


def _where(host: str, port: int, key: str) -> list[Piece]:
    """Tell where a preview is served, and where its listings can be changed."""
    from elenchus.pieces.piece import Piece, Role

    address = f"http://{f'[{host}]' if ':' in host else host}:{port}/"
    told = [Piece("Serving at "), Piece(address, Role.STRONG), Piece(" – Ctrl+C ends it.\n")]
    if key:
        change = Piece(f"{address}-elenchus/key?key={key}\n", Role.NAME)
        told += [Piece("To change listings there, open "), change]
    return told


@app.command(
    short_help=__doc__, epilog=examples("elenchus serve", "elenchus serve --at 2026-07-01 --port 4041")
)
def serve(
    port: Annotated[
        Optional[int],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Option(
            "--port",
            metavar="PORT",
            min=0,
            max=65535,
            help="The port, 0 for any free one; else 4040, or a free one if that is taken.",
        ),
    ] = None,
    host: Annotated[
        str,
        typer.Option(
            "--host", metavar="HOST", help="The address to listen at; only this machine by default."
        ),
    ] = "127.0.0.1",
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    on: AnswersOption = "",
) -> None:
    """Show the site as it would be published, and again whenever content or definitions change.

    Each page tells what is wrong, why each entry stands there, and can be seen at another time. Who opens the
    address with the key that is printed can change sections with the page in sight; with --host nobody can.
    Listings are at /api/listings as JSON:API. Ctrl+C ends it.
    """
    import elenchus
    from elenchus.cli.printing import show
    from elenchus.errors import OptionError, Problem
    from elenchus.pieces.problems import plain_problems
    from elenchus.preview.app import serve as run_server
    from elenchus.preview.live import Live
    from elenchus.values.addresses import is_of_this_machine

    folder = site or elenchus.find_site(Path.cwd())
    # Whoever else may look is shown what visitors of the site are shown. No host at all means all of them.
    is_alone = bool(host) and is_of_this_machine(host)
    live = Live(folder, at, index=not no_index, offers_all=is_alone, on=on)
    show(plain_problems(live.problems()))

    key = token_urlsafe(16) if is_alone else ""
    ports = (_USUAL_PORT, 0) if port is None else (port,)
    try:
        with suppress(KeyboardInterrupt):  # that is how it ends
            run_server(live, host, ports, lambda taken: show(_where(host, taken, key)), key)
    except OSError as error:
        message = f"{host} port {ports[0]} cannot be served at ({error.strerror})"
        hint = "Name another with --port, or --port 0."
        raise OptionError([Problem("port-taken", message, hint)]) from None
