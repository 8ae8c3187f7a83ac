"""List the built-in templates, or copy some into the site to be changed."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import SiteOption, app, examples

__all__ = ["templates"]


@app.command(
    short_help=__doc__, epilog=examples("elenchus templates", "elenchus templates layouts/cards.html")
)
def templates(
    names: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Argument(
            metavar="[NAME]...",
            help="Which are to be copied, such as layouts/cards.html.",
            autocompletion=words.templates,
        ),
    ] = None,
    site: SiteOption = None,
) -> None:
    """List the built-in templates with what each is given, or copy some into templates/ of the site.

    A template of the site takes the place of the built-in one of its name.
    """
    import elenchus
    from elenchus.cli.printing import output_width, show
    from elenchus.pieces.flowing import flowing
    from elenchus.pieces.piece import Piece, Role
    from elenchus.rendering.built_in import BUILT_IN, copied

    if names:
        folder = site or elenchus.find_site(Path.cwd())
        for path in copied(folder, names):
            show([Piece(f"Wrote {path.relative_to(folder)}.\n")])
        return
    for each in BUILT_IN.values():
        given = f" Given: {each.given}." if each.given else ""
        show(flowing([Piece(f"{each.name}  ", Role.NAME), Piece(f"{each.draws}.{given}")], output_width(), 4))
