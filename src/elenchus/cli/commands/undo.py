"""Take the last change of content back, or list what can be taken back."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from elenchus.cli.app import SiteOption, app, examples
from elenchus.cli.commands._changing import YesOption, agreed, nothing_written

__all__ = ["undo"]

_LEFT = 1  # what is exited with where files stay as they are


@app.command(short_help=__doc__, epilog=examples("elenchus undo --list", "elenchus undo --yes"))
def undo(
    site: SiteOption = None,
    listed: Annotated[bool, typer.Option("--list", help="List the changes that can be undone.")] = False,
    yes: YesOption = False,
) -> int:
    """Take the last change of content back: each file that is still as the change left it.

    Shows the change and asks. Files that were changed since stay as they are and are named, and the exit
    code is 1.
    """
    from zoneinfo import ZoneInfo

    from elenchus.cli.printing import show
    from elenchus.editing.undoing import last_change, undone
    from elenchus.errors import FolderError, Problem, SiteError
    from elenchus.report.editing import changes_listed, to_undo_told, undone_told
    from elenchus.site.definition import read_definition
    from elenchus.site.site import find_site, journal_of

    folder = site or find_site(Path.cwd())
    try:
        zone = read_definition(folder).zone
    except SiteError:  # the change to be undone may have broken it
        zone = ZoneInfo("UTC")
    if listed:
        show(changes_listed(journal_of(folder).changes(), zone))
        return 0
    change = last_change(folder)
    show(to_undo_told(change, zone))
    if yes and not change.is_ours:  # it came with the site, and what a site says is not run unasked
        hint = "Run elenchus undo without --yes: it asks."
        raise FolderError([Problem("journal-refused", "that change was not made by you here", hint)])
    if not agreed("Take it back?", yes=yes):
        show(nothing_written())
        return 0
    found = undone(folder, change)
    show(undone_told(found))
    return _LEFT if found.left else 0
