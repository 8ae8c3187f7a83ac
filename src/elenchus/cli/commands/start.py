"""Write the files of a site for content that is there."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from elenchus.cli.app import app, examples

__all__ = ["start"]


@app.command(
    short_help=__doc__,
    epilog=examples(
        "elenchus start notebook --into my-site", "elenchus start terms/habitat.csv --into my-terms"
    ),
)
def start(
    content: Annotated[str, typer.Argument(metavar="FOLDER, FILE OR URL", help="What the content is.")],
    into: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option("--into", metavar="SITE", help="The folder of the site; else that of the content."),
    ] = None,
    password_from: Annotated[
        str,
        typer.Option("--password-from", metavar="NAME", help="The variable with the password of a database."),
    ] = "",
) -> int:
    """Look at content, and write a site file, three listings and pages that show it.

    The content itself is never changed. Run again, it proposes only what is new.
    """
    import elenchus
    from elenchus.checks.run import check_site
    from elenchus.cli.printing import output_width, show
    from elenchus.pieces.piece import Piece, Role
    from elenchus.report.checks import findings
    from elenchus.report.starting import begun_pieces
    from elenchus.starting.beginning import begin

    begun = begin(content, into, password_from)
    show(begun_pieces(begun))
    report = check_site(elenchus.open_site(begun.folder))
    show([Piece("Check\n", Role.HEADING), *findings(report, output_width())])
    site = "" if begun.folder.resolve() == Path.cwd() else f" --site {begun.folder}"
    show([Piece(f"\nTry: elenchus ask newest{site} · elenchus why newest{site} · elenchus serve{site}\n")])
    return 0
