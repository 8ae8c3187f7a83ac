"""Changing rows of databases: told first, then made in one transaction, each only where it is as it was."""

from __future__ import annotations

import errno
import json
from collections import Counter
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from elenchus.schema.conform import is_yes
from elenchus.schema.edits import EntryEdit, NewValue, RowChange, TermWords, UneditableError
from elenchus.sources._connection import connected, place_of, refusals
from elenchus.sources._keys import as_written
from elenchus.sources._splice import joined
from elenchus.sources._tables import Shape

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.sources import SourceSpec, TableSpec, TermsSpec

__all__ = ["are_rows_written", "row_changes", "rows_after", "writable_table", "write_rows"]


def writable_table(spec: SourceSpec) -> TableSpec:
    """Return the table of a source, whose rows may be changed. Raises UneditableError."""
    if spec.table is None or not spec.table.table:
        raise UneditableError("what a query gives cannot be written", 0, "Name the table of the source.")
    if not spec.table.writable:
        hint = f"Write writable = true in [sources.{spec.name}] to let it be changed from here."
        raise UneditableError("the database is only read", 0, hint)
    return spec.table


def row_changes(
    spec: SourceSpec, root: Path, edits: Sequence[EntryEdit], terms: TermWords | None
) -> list[RowChange]:
    """Return what is to become of the rows of a table, nothing of which is done. Raises UneditableError."""
    _ = writable_table(spec)
    try:
        with connected(spec, root, writing=terms is not None) as connection, refusals(spec):
            try:
                shape = Shape(spec, connection)
                renamed = list(_renamed_terms(shape, terms)) if terms else []
                if renamed:  # what entries then have is told by the table as it will be
                    _apply(shape, renamed)
                    shape = Shape(spec, connection)
                planner = _Planner(shape)
                return [*renamed, *(change for edit in edits for change in planner.changes(edit))]
            finally:
                connection.rollback()
    except OSError as error:
        raise UneditableError(f"the database cannot be read: {error.strerror}") from None


def _renamed_terms(shape: Shape, terms: TermWords) -> Iterator[RowChange]:
    """Yield the rows of a table of terms that change: the name of a term, or what those below it stand under.

    A term that becomes one with another keeps its own row, which no entry has then.
    """
    spec = next((each for each in shape.table.terms if each.taxonomy == terms.taxonomy), None)
    if spec is None or not spec.names:
        return
    table, paths = f"{shape.table.prefix}{spec.names}", shape.paths[spec.taxonomy]
    for key, path in paths.items():
        new = terms.of(path) if terms.is_it(path) else None
        if not new:
            continue
        others = [other for other, text in paths.items() if text == new]
        if not others:
            old, name = path.rpartition("/")[2], new.rpartition("/")[2]
            yield RowChange(shape.spec.name, table, {spec.key: _plain(key)}, spec.name, old, name)
        elif spec.parent:
            for lower, text in paths.items():
                if text.startswith(f"{path}/") and "/" not in text[len(path) + 1 :]:
                    where = {spec.key: _plain(lower)}
                    parents = _plain(key), _plain(others[0])
                    yield RowChange(shape.spec.name, table, where, spec.parent, *parents)


def are_rows_written(spec: SourceSpec, root: Path, changes: Sequence[RowChange]) -> bool:
    """Say whether all rows are as changes leave them: then these can be taken back. Raises OSError."""
    with connected(spec, root, writing=True) as connection, refusals(spec):
        try:
            _apply(Shape(spec, connection), [change.reverse for change in reversed(changes)])
        except OSError as error:
            if error.errno != errno.EBUSY:
                raise
            return False
        finally:
            connection.rollback()
    return True


def rows_after(spec: SourceSpec, root: Path, changes: Sequence[RowChange], units: Sequence[str]) -> list[Any]:
    """Return what units would hold with some changes, which are made and taken back. Raises OSError."""
    from elenchus.sources.database import reader_of

    with connected(spec, root, writing=True) as connection, refusals(spec):
        try:
            _apply(Shape(spec, connection), changes)
            reader = reader_of(spec, root, Shape(spec, connection))
            return [reader.content(unit) for unit in units]
        finally:
            connection.rollback()


def write_rows(spec: SourceSpec, root: Path, changes: Sequence[RowChange]) -> None:
    """Make changes, all of them or none. Raises OSError, also where a row is not as it was."""
    with connected(spec, root, writing=True) as connection, refusals(spec):
        try:
            _apply(Shape(spec, connection), changes)
            connection.commit()
        except BaseException:
            connection.rollback()
            raise


def _apply(shape: Shape, changes: Sequence[RowChange]) -> None:
    """Make changes in the transaction that is open. Raises OSError where a row is not as it was."""
    for change in changes:
        table, values = shape.quote_table(change.table), dict(enumerate(change.where.values()))
        where = [f"{shape.quote(name)} = :w{at}" for at, name in enumerate(change.where)]
        bound = {f"w{at}": value for at, value in values.items()}
        times, count = 1, 1  # how often it is run, and how many rows each must reach
        if not change.column and change.before is None:
            columns = ", ".join(map(shape.quote, change.where))
            sql = f"INSERT INTO {table} ({columns}) VALUES ({', '.join(f':w{at}' for at in values)})"
            times = change.after
        elif not change.column:
            sql = f"DELETE FROM {table} WHERE {' AND '.join(where)}"
            count = change.before
        else:
            column = shape.quote(change.column)
            was = f"{column} IS NULL" if change.before is None else f"{column} = :before"
            if isinstance(change.before, dict):  # of which there are two types, one without an equal sign
                was = f"CAST({column} AS jsonb) = CAST(:before AS jsonb)"
            sql = f"UPDATE {table} SET {column} = :after WHERE {' AND '.join([*where, was])}"
            bound |= {"after": _bound(change.after)}
            bound |= {} if change.before is None else {"before": _bound(change.before)}
        if any(shape.run(sql, **bound).rowcount != count for _ in range(times)):
            where_told = ", ".join(f"{name} {value}" for name, value in change.where.items())
            raise OSError(errno.EBUSY, f"{change.table}: the row with {where_told} was changed meanwhile")


def _bound(value: Any) -> Any:
    """Return a value as statements take it."""
    return json.dumps(value, ensure_ascii=False) if isinstance(value, dict) else value


class _Planner:
    """What edits mean for the rows of a table and of those beside it."""

    def __init__(self, shape: Shape) -> None:
        self.shape = shape
        self.spec = shape.spec
        self.table = shape.table
        self.place = f"{place_of(shape.spec)}/"
        self.key = shape.names[shape.key_at]
        self.terms = {each.taxonomy: each for each in shape.table.terms}

    def changes(self, edit: EntryEdit) -> Iterator[RowChange]:
        """Yield what is to become of one entry."""
        key: Any = edit.line if edit.line else edit.file.removeprefix(self.place)
        rows = self.shape.rows(key, key)
        if len(rows) != 1:
            raise UneditableError(f"{len(rows)} rows have the key {key}")
        row = dict(zip(self.shape.names, rows[0], strict=True))
        key = row[self.key]
        own = []
        for name, new in as_written(edit.values, [*self.terms, *row]).items():
            if name in self.terms:
                yield from self.of_terms(self.terms[name], key, new)
            elif name in row:
                own.append(name)
                yield self.update(key, name, row[name], self.value(new, row[name], name))
            else:
                yield self.of_extras(name, key, new)
        if self.table.updated and self.table.updated not in own:
            before = row[self.table.updated]
            yield self.update(key, self.table.updated, before, self.now(before))

    def update(self, key: Any, column: str, before: Any, after: Any) -> RowChange:
        """Return another value for a column of a row of the table itself."""
        name = f"{self.table.prefix}{self.table.table}"
        return RowChange(self.spec.name, name, {self.key: _plain(key)}, column, _plain(before), after)

    def value(self, new: NewValue, before: Any, column: str) -> Any:
        """Return what is to be written: a text, or a number or truth where the column had one."""
        if isinstance(before, (list, dict, bytes, memoryview)) and (
            new.values or not isinstance(before, dict)
        ):
            raise UneditableError(f"{column} holds a list or a table of the database's own")
        if not new.values:
            return None
        text = joined(new.values, str(before or ""), self.spec.habits.separator)
        if new.sort == "yesno" and isinstance(before, (bool, int)):
            return is_yes(text) if isinstance(before, bool) else int(is_yes(text))
        if new.sort == "number" and isinstance(before, int) and text.lstrip("+-").isdigit():
            return int(text)
        return text

    def now(self, before: Any) -> str | int:
        """Return the present time as a column of changes has it."""
        moment = datetime.now(ZoneInfo(self.table.zone) if self.table.zone else UTC)
        if isinstance(before, int):
            return int(moment.timestamp())
        sign = "T" if "T" in str(before) else " "
        has_zone = getattr(before, "tzinfo", None) is not None
        text = moment.isoformat(sign, "seconds")
        return text if has_zone else text[:19]

    def of_terms(self, terms: TermsSpec, key: Any, new: NewValue) -> Iterator[RowChange]:
        """Yield rows of a joining table that come and go."""
        paths = self.shape.paths[terms.taxonomy]
        by_path = {path: term for term, path in paths.items()}
        wanted = []
        for text in new.values:
            if terms.names and text not in by_path:
                message = f"{self.table.prefix}{terms.names} has no row for {text}"
                raise UneditableError(message, 0, "Add the term there first.")
            wanted.append(by_path.get(text, text) if terms.names else text)
        side = next(each for each in self.shape.sides if each.terms == terms)
        there = Counter(row[1] for row in self.shape.about(side, [key]))
        name = f"{self.table.prefix}{terms.table}"
        for term in dict.fromkeys([*there, *wanted]):
            if (term in there) != (term in wanted):
                where = {terms.entry: _plain(key), terms.term: _plain(term)}
                counts = (there[term], None) if term in there else (None, 1)
                yield RowChange(self.spec.name, name, where, "", *counts)

    def of_extras(self, name: str, key: Any, new: NewValue) -> RowChange:
        """Return a row of the table of more fields that comes, goes, or has another value."""
        extras = self.table.extras
        if extras is None:
            raise UneditableError(f"the table has no column {name}", 0, "Add the column there first.")
        side = next(each for each in self.shape.sides if not each.terms)
        there = [row[2] for row in self.shape.about(side, [key]) if row[1] == name]
        if len(there) > 1 or len(new.values) > 1:
            raise UneditableError(f"{name} has several rows in {self.table.prefix}{extras.table}")
        table = f"{self.table.prefix}{extras.table}"
        where = {extras.entry: _plain(key), extras.name: name}
        after = new.values[0] if new.values else None
        if there and after is not None:
            return RowChange(self.spec.name, table, where, extras.value, _plain(there[0]), after)
        value = {extras.value: _plain(there[0]) if there else after}
        return RowChange(
            self.spec.name, table, {**where, **value}, "", 1 if there else None, None if there else 1
        )


def _plain(value: Any) -> Any:
    """Return a value as the journal keeps it: a text, a number, a truth, an object of JSON, or nothing."""
    return value if value is None or isinstance(value, (str, int, float, bool, dict)) else str(value)
