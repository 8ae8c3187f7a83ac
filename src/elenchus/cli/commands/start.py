"""Write the files of a site for content that is there."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from elenchus.cli.app import app, examples
from elenchus.cli.commands._changing import FormOption

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
    output: FormOption = "text",
    quiet: Annotated[bool, typer.Option("--quiet", help="Write the files without a report.")] = False,
) -> int:
    """Look at content, and write a site file, listings and pages that show it.

    The content itself is never changed. Run again, it proposes only what is new.
    """
    import json

    import elenchus
    from elenchus.checks.census import census
    from elenchus.checks.run import check_site
    from elenchus.cli.printing import output_width, show
    from elenchus.pieces.piece import Piece, Role
    from elenchus.report.checks import findings
    from elenchus.report.starting import begun_data, begun_pieces
    from elenchus.starting.beginning import begin

    begun = begin(content, into, password_from)
    if quiet:
        return 0
    counts = {kind: census(begun.site, kind) for kind in begun.site.dataset.kind_names}
    if output == "json":
        text = json.dumps(begun_data(begun, counts), ensure_ascii=False, indent=2)
        show([Piece(f"{text}\n")], is_data=True)
        return 0
    show(begun_pieces(begun, counts))
    if not begun.written:
        report = check_site(elenchus.open_site(begun.folder))
        show([Piece("Check\n", Role.HEADING), *findings(report, output_width())])
    option = "" if begun.folder.resolve() == Path.cwd() else f" --site {begun.folder}"
    show([Piece(f"Next: elenchus publish{option} · elenchus serve{option}\n", Role.HEADING)])
    return 0
