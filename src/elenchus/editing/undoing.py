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

__all__ = ["undone"]


def undone(folder: Path) -> Undone:
    """Take the last change of a site back. Raises NoSuchName for none, FolderError, SiteError."""
    journal = journal_of(folder)
    with journal.alone():
        changes = journal.changes()
        if not changes:
            hint = "elenchus set, rename-term and approve make changes that can be."
            raise NoSuchName(
                [Problem("nothing-to-undo", "no change was made here that could be undone", hint)]
            )
        if not changes[0].rows:
            return journal.undo(changes[0])
        _rows_undone(folder, changes[0])
        journal.forget(changes[0])
        return Undone(changes[0], ())


def _rows_undone(folder: Path, change: MadeChange) -> None:
    """Let the rows of a database be what they were: all of them, or none where one was changed since."""
    rows = [RowChange(*row).reverse for row in reversed(change.rows)]
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
