"""Taking the last change of a site back."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import FolderError, NoSuchName, Problem
from elenchus.site.site import journal_of

if TYPE_CHECKING:
    from pathlib import Path

    from elenchus.journal import MadeChange, Undone

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
        return journal.undo(change)
