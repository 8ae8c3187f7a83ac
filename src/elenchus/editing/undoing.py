"""Taking the last change of a site back."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import NoSuchName, Problem
from elenchus.site.site import journal_of

if TYPE_CHECKING:
    from pathlib import Path

    from elenchus.journal import Undone

__all__ = ["undone"]


def undone(folder: Path) -> Undone:
    """Take the last change of the site in a folder back. Raises NoSuchName for none, FolderError."""
    journal = journal_of(folder)
    with journal.alone():
        changes = journal.changes()
        if not changes:
            raise NoSuchName([Problem("nothing-to-undo", "no change was made here that could be undone")])
        return journal.undo(changes[0])
