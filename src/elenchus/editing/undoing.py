"""Taking the last change of a site back."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import FolderError, NoSuchName, Problem
from elenchus.journal import Undone
from elenchus.schema.edits import RowChange
from elenchus.site.definition import read_definition
from elenchus.site.site import journal_of
from elenchus.sources import write_rows

if TYPE_CHECKING:
    from pathlib import Path

    from elenchus.journal import MadeChange

__all__ = ["last_change", "undone"]


def last_change(folder: Path) -> MadeChange:
    """Return the change of a site that undo takes back next. Raises NoSuchName for none."""
    changes = journal_of(folder).changes()
    if not changes:
        hint = "elenchus set, rename-term and approve make changes that can be."
        raise NoSuchName([Problem("nothing-to-undo", "no change was made here that could be undone", hint)])
    return changes[0]


def undone(folder: Path, change: MadeChange) -> Undone:
    """Take back the last change of a site, which the user has seen.

    Raises NoSuchName, FolderError, SiteError.
    """
    journal = journal_of(folder)
    with journal.alone(finishes=False):
        if last_change(folder) != change:
            message = "another change was made meanwhile, so nothing was undone"
            raise FolderError([Problem("changing-already", message, "Look at elenchus undo --list.")])
        if not change.rows:
            return journal.undo(change)
        _rows_undone(folder, change)
        journal.forget(change)
        return Undone(change, 0, ())


def _rows_undone(folder: Path, change: MadeChange) -> None:
    """Let the rows of a database be what they were: all of them, or none where one was changed since."""
    try:
        rows = [RowChange(*row).reverse for row in reversed(change.rows)]
    except (TypeError, ValueError, AttributeError):
        message = f"the rows of change {change.number} are damaged, so nothing was changed"
        hint = "Delete that folder of .elenchus/changes; the rows stay as they are."
        raise FolderError([Problem("journal-refused", message, hint)]) from None
    specs = {spec.name: spec for spec in read_definition(folder).sources}
    name = rows[0].source
    if name not in specs or specs[name].table is None:
        message = f"the site has no source {name} any more"
        hint = "Name the source again as it was; its database is what the change was made in."
        raise FolderError([Problem("cannot-write", message, hint)])
    try:
        write_rows(specs[name], folder, rows)
    except OSError as error:
        message = f"the database cannot be changed back: {error.strerror}"
        raise FolderError([Problem("cannot-write", message, "Nothing was changed.")]) from None
