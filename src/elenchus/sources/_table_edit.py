"""Changing rows of databases: told first, then made in one transaction, each only where it is as it was."""

from __future__ import annotations

import errno
from typing import TYPE_CHECKING, Any

from elenchus.schema.edits import EntryEdit, RowChange, TermWords, UneditableError
from elenchus.sources._connection import connected, refusals
from elenchus.sources._table_apply import apply, can_apply, value_now
from elenchus.sources._table_plan import Planner, plain, renamed_terms
from elenchus.sources._tables import Shape

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from elenchus.sources._spec import SourceSpec, TableSpec

__all__ = ["are_rows_written", "row_changes", "rows_after", "rows_back", "writable_table", "write_rows"]


def writable_table(spec: SourceSpec) -> TableSpec:
    """Return the table of a source, whose rows may be changed. Raises UneditableError."""
    if spec.table is None or not spec.table.table:
        raise UneditableError("what a query gives cannot be written", 0, "Name the table of the source.")
    if not spec.table.writable:
        hint = f"Write writable = true in [sources.{spec.name}] to let it be changed from here."
        raise UneditableError("the database is only read", 0, hint)
    return spec.table


def row_changes(
    spec: SourceSpec,
    root: Path,
    edits: Sequence[EntryEdit],
    terms: TermWords | None,
    *,
    new_terms: bool = False,
) -> list[RowChange]:
    """Return what is to become of the rows of a table, nothing of which is done. Raises UneditableError."""
    _ = writable_table(spec)
    try:
        with connected(spec, root, writing=terms is not None) as connection, refusals(spec):
            try:
                shape = Shape(spec, connection)
                first, last = renamed_terms(shape, terms, edits) if terms else ([], [])
                if first:  # what entries then have is told by the table as it will be
                    apply(shape, first, is_trial=True)
                    shape = Shape(spec, connection)
                planner = Planner(shape, may_add_terms=new_terms)
                changes = [change for edit in edits for change in planner.changes(edit)]
                return [*first, *planner.added, *changes, *last]
            finally:
                connection.rollback()
    except OSError as error:
        raise UneditableError(f"the database cannot be read: {error.strerror}") from None


def are_rows_written(spec: SourceSpec, root: Path, changes: Sequence[RowChange]) -> bool:
    """Say whether all rows are as changes leave them: then these can be taken back. Raises OSError."""
    with connected(spec, root, writing=True) as connection, refusals(spec):
        try:
            apply(Shape(spec, connection), [change.reverse for change in reversed(changes)], is_trial=True)
        except OSError as error:
            if error.errno != errno.EBUSY:
                raise
            return False
        finally:
            connection.rollback()
    return True


def rows_back(
    spec: SourceSpec, root: Path, changes: Sequence[RowChange]
) -> tuple[list[RowChange], list[tuple[RowChange, Any]]]:
    """Return what takes changes back, as far as rows are as these left them, and the others.

    Of each of the others it tells what stands there now. Raises OSError.
    """
    back: list[RowChange] = []
    left: list[tuple[RowChange, Any]] = []
    with connected(spec, root, writing=True) as connection, refusals(spec):
        shape = Shape(spec, connection)
        try:
            for change in reversed(changes):
                if can_apply(shape, change.reverse):
                    back.append(change.reverse)
                else:
                    left.append((change, value_now(shape, change)))
        finally:
            connection.rollback()
    # A row that goes back in part has changed once more, and its column of changes has to say so.
    updated = spec.table.updated if spec.table else ""
    touched = {_row_of(change) for change in back if change.column != updated}
    kept = {_row_of(change) for change, _ in left if change.column != updated}
    back = [
        change
        for change in back
        if change.column != updated or _row_of(change) in touched or _row_of(change) not in kept
    ]
    if updated:
        planner, stale = Planner(shape), [each for each in left if each[0].column == updated]
        left = [each for each in left if each[0].column != updated]
        for change, now in stale:
            if now is not None and _row_of(change) in touched:
                back.append(change._replace(before=plain(now), after=planner.now(now)))
    return back, left


def _row_of(change: RowChange) -> tuple[str, str]:
    """Return what tells the row of a change from others."""
    return change.table, repr(change.where)


def rows_after(spec: SourceSpec, root: Path, changes: Sequence[RowChange], units: Sequence[str]) -> list[Any]:
    """Return what units would hold with some changes, which are made and taken back. Raises OSError."""
    from elenchus.sources.database import reader_of

    with connected(spec, root, writing=True) as connection, refusals(spec):
        try:
            apply(Shape(spec, connection), changes, is_trial=True)
            reader = reader_of(spec, root, Shape(spec, connection))
            return [reader.content(unit) for unit in units]
        finally:
            connection.rollback()


def write_rows(spec: SourceSpec, root: Path, changes: Sequence[RowChange]) -> None:
    """Make changes, all of them or none. Raises OSError, also where a row is not as it was."""
    with connected(spec, root, writing=True) as connection, refusals(spec):
        try:
            apply(Shape(spec, connection), changes)
            connection.commit()
        except BaseException:
            connection.rollback()
            raise
