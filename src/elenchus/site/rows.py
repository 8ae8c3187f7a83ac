"""Writing rows of a site's databases, several at once: all of them or none, as far as databases let."""

from __future__ import annotations

from itertools import groupby
from typing import TYPE_CHECKING, Any

from elenchus.errors import FolderError, Problem
from elenchus.schema.edits import RowChange
from elenchus.site.definition import read_definition
from elenchus.sources import are_rows_written, rows_back, write_rows

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from elenchus.sources import SourceSpec

__all__ = ["SiteRows"]


class SiteRows:
    """The rows of the databases that a site names. Rows are :class:`RowChange` or what JSON keeps of them.

    Methods raise FolderError, SiteError.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def write(self, rows: Sequence[Any]) -> None:
        """Change rows, one database after another; where one refuses, those before it are changed back."""
        done: list[tuple[SourceSpec, list[RowChange]]] = []
        for spec, group in self._by_source(_changes(rows)):
            try:
                write_rows(spec, self.folder, group)
            except OSError as error:
                for earlier, written in reversed(done):
                    write_rows(earlier, self.folder, [row.reverse for row in reversed(written)])
                raise _unwritten(spec, error) from None
            done.append((spec, group))

    def reverse(self, rows: Sequence[Any]) -> tuple[list[RowChange], list[str]]:
        """Return what takes a change of rows back, in the order for that, and what was changed since.

        Each of these is told by its row, with what stands there now and what the change left.
        """
        back: list[RowChange] = []
        left: list[str] = []
        for spec, group in reversed(self._by_source(_changes(rows))):
            try:
                mine, others = rows_back(spec, self.folder, group)
            except OSError as error:
                raise _unwritten(spec, error) from None
            back += mine
            left += [_left_row(change, now) for change, now in others]
        return back, left

    def are_written(self, rows: Sequence[Any]) -> bool:
        """Say whether all rows are as a change left them; what it did only in part is taken back."""
        written, others = [], False
        for spec, group in self._by_source(_changes(rows)):
            try:
                is_written = are_rows_written(spec, self.folder, group)
            except OSError as error:
                raise _unwritten(spec, error) from None
            written += group if is_written else []
            others = others or not is_written
        if others:
            self.write([row.reverse for row in reversed(written)])
        return not others

    def _by_source(self, rows: Sequence[RowChange]) -> list[tuple[SourceSpec, list[RowChange]]]:
        """Return rows by the sources in whose databases they stand."""
        specs = {spec.name: spec for spec in read_definition(self.folder).sources}
        found = []
        for name, group in groupby(rows, lambda row: row.source):
            if name not in specs or specs[name].table is None:
                message = f"the site has no source {name} any more"
                hint = "Name the source again as it was; its database is what the change was made in."
                raise FolderError([Problem("cannot-write", message, hint)])
            found.append((specs[name], list(group)))
        return found


def _unwritten(spec: SourceSpec, error: OSError) -> FolderError:
    """Return the error of a database that cannot be written."""
    message = f"the database of {spec.name} cannot be changed ({error.strerror or error})"
    hint = "Let it be changed from here, and run the command again: it shows the rows as they are then."
    return FolderError([Problem("cannot-write", f"{message}, so nothing was changed", hint)])


def _left_row(change: RowChange, now: Any) -> str:
    """Return a row that somebody changed since, with both values."""
    row = ", ".join(f"{name} {value}" for name, value in change.where.items() if value is not None)
    place = f"{change.table}, {row}"
    if not change.column:
        return f"{place}: there are {now or 0} such rows, and this change left {change.after or 0}"
    if now is None and change.after is not None:
        return f"{place}: {change.column} is empty or the row is gone, and this change left {change.after}"
    return f"{place}: {change.column} is {now}, and this change left {change.after}"


def _changes(rows: Sequence[Any]) -> list[RowChange]:
    """Return changes of rows out of what JSON keeps. Raises FolderError where it holds none."""
    try:
        found = [RowChange(*row) for row in rows]
    except TypeError:  # another number of members
        found = []
    if len(found) != len(rows) or not all(isinstance(row.where, dict) for row in found):
        hint = "Delete that folder of .elenchus-changes; the rows stay as they are."
        message = "the rows of a change are damaged, so nothing was changed"
        raise FolderError([Problem("journal-refused", message, hint)])
    return found
