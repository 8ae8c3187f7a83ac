"""What the commands that change content share: their options, and the question before they write."""

from __future__ import annotations

import shlex
import sys
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.checks.fixing import Fixing
    from elenchus.comparing.differences import Difference
    from elenchus.editing.changing import ContentChange
    from elenchus.editing.edits import Approval
    from elenchus.editing.terms import TermChange
    from elenchus.journal import MadeChange
    from elenchus.pieces.piece import Piece

__all__ = [
    "DryRunOption",
    "FormOption",
    "WholeOption",
    "YesOption",
    "agreed",
    "effect_of",
    "nothing_written",
    "tell_made",
    "write_if_agreed",
]


_MOST_PAGES = 3_000  # that are looked at, when nothing but values on them can change


def _known_form(form: str) -> str:
    """Return the form of what is told."""
    if form not in ("text", "json"):
        raise typer.BadParameter(f"it is text or json, not “{form}”")
    return form


FormOption = Annotated[
    str, typer.Option("--format", metavar="FORMAT", callback=_known_form, help="text, or json for programs.")
]

DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Tell what would change, and write nothing.")]
YesOption = Annotated[bool, typer.Option("--yes", help="Write without asking.")]
WholeOption = Annotated[bool, typer.Option("--in-full", help="Name every file and entry that changes.")]


def effect_of(change: ContentChange | Approval) -> Difference:
    """Return what listings and pages gain and lose by a change, and which pages are drawn anew.

    Of a large site whose listings all stay as they are, the pages are not looked at. Raises SiteError.
    """
    from elenchus.cli.printing import progress
    from elenchus.comparing.differences import NO_DIFFERENCE
    from elenchus.comparing.showing import Showing
    from elenchus.pages.book import Book
    from elenchus.publishing.page_changes import between

    if change.is_empty:
        return NO_DIFFERENCE
    after = change.after
    count = len(Book(change.site, in_bulk=True).pages)
    if count > _MOST_PAGES and not change.reaches:
        return NO_DIFFERENCE
    with progress("pages", 2 * count) as tick:
        before = Showing(change.site, tick)
        return between(before, before.beside(after))


def write_if_agreed(
    change: ContentChange | TermChange | Approval | Fixing, words: Sequence[str], *, dry_run: bool, yes: bool
) -> MadeChange | None:
    """Write a change where that is wanted and agreed to; return None where it is not.

    ``words`` are those of the command, by which ``undo --list`` names the change.
    """
    from elenchus.cli.printing import progress

    if dry_run or not _is_agreed(change, yes=yes):
        return None
    with progress("files", len(change.files)) as tick:
        return change.write(shlex.join(words), tick)


def tell_made(made: MadeChange | None) -> None:
    """Say whether a change was written."""
    from elenchus.cli.printing import show
    from elenchus.pieces.piece import Piece, Role
    from elenchus.report.editing import linked_told

    if made:
        show([Piece("Written; elenchus undo takes it back.\n", Role.HINT)])
        show(linked_told(made))
    else:
        show(nothing_written())


def nothing_written() -> Iterator[Piece]:
    """Yield the line that says that nothing was written."""
    from elenchus.pieces.piece import Piece, Role

    yield Piece("Nothing was written.\n", Role.FAINT)


def agreed(question: str, *, yes: bool) -> bool:
    """Say whether something may be done: asked on a terminal, refused elsewhere unless said before."""
    if yes:
        return True
    if not sys.stdin.isatty():
        raise typer.BadParameter("nobody can be asked here: add --yes to write")
    return typer.confirm(question, default=False, err=True)


def _is_agreed(change: ContentChange | TermChange | Approval | Fixing, *, yes: bool) -> bool:
    """Say whether a change may be written."""
    count, tables = len(change.files), getattr(change, "tables", ())
    parts = ["this file" if count == 1 else f"these {count} files"] if count else []
    parts += ["the database"] if tables else []
    return agreed(f"Write {' and '.join(parts)}?", yes=yes)
