"""Publish pending edits."""

from __future__ import annotations

from typing import Annotated, Optional

import typer

from elenchus.cli import words
from elenchus.cli.app import AtOption, NoIndexOption, SiteOption, app, examples, opened
from elenchus.cli.commands._changing import (
    DryRunOption,
    WholeOption,
    YesOption,
    effect_of,
    tell_made,
    write_if_agreed,
)

__all__ = ["approve"]


@app.command(
    short_help=__doc__,
    epilog=examples("elenchus approve grey-seal-count-may --dry-run", "elenchus approve --yes"),
)
def approve(
    entries: Annotated[
        Optional[list[str]],  # noqa: UP045 - Typer reads the annotation while the program starts
        typer.Argument(
            metavar="[ENTRY...]",
            help="Entries by id, slug or kind/slug; all that have an edit.",
            autocompletion=words.entries,
        ),
    ] = None,
    site: SiteOption = None,
    at: AtOption = None,
    no_index: NoIndexOption = False,
    dry_run: DryRunOption = False,
    yes: YesOption = False,
    whole: WholeOption = False,
) -> None:
    """Let pending edits be what is published.

    The file name.edit.md takes the place of name.md beside it; a row takes the values of its column of edits,
    which is empty then. Shows the lines that change, and what listings and pages gain and lose; then asks.
    elenchus undo takes it back.
    """
    from elenchus.cli.printing import show
    from elenchus.editing.edits import approval
    from elenchus.pieces.piece import Piece
    from elenchus.report.changes import difference_told
    from elenchus.report.editing import approval_told

    change = approval(opened(site, at, no_index=no_index, writes=not dry_run), entries or [])
    if not change.count:
        show([Piece("No edit is pending.\n")])
        return
    show(approval_told(change, whole=whole))
    show(difference_told(effect_of(change), whole=whole))
    show([Piece("\n")])
    tell_made(write_if_agreed(change, ["approve", *(entries or [])], dry_run=dry_run, yes=yes))
