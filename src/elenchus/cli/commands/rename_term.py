"""Rename a term, or merge it into another, in content, terms, listings and pages at once."""

from __future__ import annotations

from typing import Annotated

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._changing import DryRunOption, WholeOption, YesOption, tell_made, write_if_agreed

__all__ = ["rename_term"]


@app.command(
    "rename-term",
    short_help=__doc__,
    epilog=examples(
        "elenchus rename-term habitat/mudflat Mud --dry-run",
        "elenchus rename-term habitat/mudflat --into saltmarsh --yes",
    ),
)
def rename_term(
    term: Annotated[
        str,
        typer.Argument(
            metavar="TAXONOMY/TERM", help="The term, such as habitat/mudflat.", autocompletion=words.terms
        ),
    ],
    new: Annotated[
        str, typer.Argument(metavar="[NEW]", help="Its new name; one that is a slug changes the slug alone.")
    ] = "",
    into: Annotated[
        str,
        typer.Option(
            "--into",
            metavar="TERM",
            help="Merge it into this other term, which stays.",
            autocompletion=words.terms_beside,
        ),
    ] = "",
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    whole: WholeOption = False,
) -> None:
    """Rename a term everywhere: in entries, in the file of terms, in the questions of listings and pages.

    Shows the lines that change and the addresses that do; then asks. All files are changed or none, and
    elenchus undo takes it back.
    """
    from elenchus.cli.printing import show
    from elenchus.comparing.showing import Showing
    from elenchus.editing.terms import merged, renamed
    from elenchus.pieces.piece import Piece
    from elenchus.publishing.page_changes import between
    from elenchus.report.changes import difference_told
    from elenchus.report.editing import moved_told, term_told

    if bool(new) == bool(into):
        raise typer.BadParameter("write a new name, or --into another term")
    here = opened(site, at, no_index=no_index, writes=not dry_run)
    change = merged(here, term, into) if into else renamed(here, term, new)
    show(term_told(change, whole=whole))
    with change.after() as after:
        before = Showing(here)
        then = before.beside(after)
        show(difference_told(between(before, then), whole=whole))
        show(moved_told(change.moved(before, then)))
    show([Piece("\n")])
    if change.is_empty:
        show([Piece("Nothing to do.\n")])
        return
    words = ["rename-term", term, *([new] if new else ["--into", into])]
    tell_made(write_if_agreed(change, words, dry_run=dry_run, yes=yes))
