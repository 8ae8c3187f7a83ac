"""Fill the markers in HTML and Markdown files of any website."""

from __future__ import annotations

from typing import Annotated, Optional

import typer

from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened, refuse_old_content

__all__ = ["weave"]

_FAILED = 1  # what is exited with where a file is not up to date


@app.command(
    short_help=__doc__, epilog=examples("elenchus weave index.html", "elenchus weave --check index.html")
)
def weave(
    files: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Argument(metavar="FILE…", help="Files, or folders whose pages and Markdown are meant."),
    ] = None,
    only_check: Annotated[
        bool, typer.Option("--check", help="Write nothing; exit with 1 where a file is not up to date.")
    ] = False,
    style: Annotated[
        bool, typer.Option("--style", help="Print a small stylesheet for what is woven, and do nothing else.")
    ] = False,
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
) -> int:
    """Fill what stands between <!-- elenchus begin LISTING --> and <!-- elenchus end -->.

    Everything else in the files stays as it is, to the byte. Where anything is wrong in any of them,
    nothing is written.
    """
    from elenchus.cli.printing import show
    from elenchus.pieces.piece import Piece
    from elenchus.publishing.weaving import files_of, woven, write
    from elenchus.rendering.renderer import Renderer, woven_style
    from elenchus.report.publishing import woven_told

    if style:
        show([Piece(woven_style())], is_data=True)
        return 0
    if not files:
        raise typer.BadParameter("name the files to be woven, or --style alone")
    here = opened(site, at, no_index=no_index, writes=not only_check)
    refuse_old_content(here, "nothing is written")
    found = woven(Renderer(here), files_of(files))
    for each in found:
        if each.changes and not only_check:
            write(each)
    show(woven_told(found, only_check=only_check))
    return _FAILED if only_check and any(each.changes for each in found) else 0
