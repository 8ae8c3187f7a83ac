"""Take the last change of content back, or list what can be taken back."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from elenchus.cli.app import SiteOption, app, examples

__all__ = ["undo"]

_LEFT = 1  # what is exited with where files stay as they are


@app.command(short_help=__doc__, epilog=examples("elenchus undo --list", "elenchus undo"))
def undo(
    site: SiteOption = None,
    listed: Annotated[bool, typer.Option("--list", help="List the changes that can be undone.")] = False,
) -> int:
    """Take the last change of content back: each file that is still as the change left it.

    Files that were changed since stay as they are and are named, and the exit code is 1.
    """
    from elenchus.cli.printing import show
    from elenchus.editing.undoing import undone
    from elenchus.report.editing import changes_listed, undone_told
    from elenchus.site.definition import read_definition
    from elenchus.site.site import find_site, journal_of

    folder = site or find_site(Path.cwd())
    if listed:
        show(changes_listed(journal_of(folder).changes(), read_definition(folder).zone))
        return 0
    found = undone(folder)
    show(undone_told(found))
    return _LEFT if found.left else 0
