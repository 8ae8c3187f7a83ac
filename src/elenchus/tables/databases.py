"""Tables written into a database in one transaction; where they are there already, only what changed."""

from __future__ import annotations

import json
import os
from collections import defaultdict
from contextlib import contextmanager
from itertools import chain
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from pyarrow import csv

from elenchus.errors import FolderError, Problem
from elenchus.tables.backend import SCHEMA, described_in_duckdb, described_in_postgresql
from elenchus.tables.kinds import VIEW_MARK, views_of_kinds
from elenchus.tables.layout import TABLES, VERSION, Exported, create_statement, sql_name, types_of
from elenchus.tables.places import path_of, postgresql_options, reaching_duckdb, reaching_postgresql

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.tables.frames import Frames
    from elenchus.tables.layout import TableLayout

__all__ = ["DuckTarget", "PostgresTarget", "duckdb_file", "postgresql_server", "to_database"]

_MEMORY = "1GB"  # that DuckDB takes at the most while it is written to

_ABOUT = "about"
_SHOWN = 5  # names that a message lists
_OUR_TABLES = ("entries", *(table.name for table in TABLES), _ABOUT)
# What others were granted on the schema and on its tables; what is made in their place gets the same.
_GRANTS = """
SELECT format('GRANT %%s ON SCHEMA %%I TO %%s', a.privilege_type, n.nspname,
              CASE WHEN a.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END)
  FROM pg_namespace n, aclexplode(n.nspacl) a WHERE n.nspname = %(schema)s AND a.grantee <> n.nspowner
UNION ALL
SELECT format('GRANT %%s ON %%I.%%I TO %%s', a.privilege_type, n.nspname, c.relname,
              CASE WHEN a.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END)
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, aclexplode(c.relacl) a
 WHERE n.nspname = %(schema)s AND c.relkind = 'r' AND a.grantee <> c.relowner
"""


def to_database(frames: Frames, target: DuckTarget | PostgresTarget, told: str) -> Exported:
    """Write content as tables, which say ``told`` of themselves, in the caller's transaction.

    Raises FolderError where the schema has what no export made.
    """
    tables, before = frames.layout.tables, target.described()
    target.refuse_foreign(before)
    is_same = before is not None and _same_layout(frames, before) and _is_whole(tables, target)
    known = dict(target.rows(f"SELECT id, mark FROM {SCHEMA}.entries")) if is_same else {}
    schema = SCHEMA if is_same else target.begin(tables)
    rows, gone, kept = _since(frames, known)
    target.execute("CREATE TEMP TABLE gone (id TEXT)")
    target.insert("gone", [pa.RecordBatch.from_pydict({"id": pa.array(gone, pa.string())})])
    for table in tables:
        key = "id" if table.name == "entries" else "entry"
        left = "" if table.name == "terms" else f" WHERE {key} IN (SELECT id FROM gone)"
        target.execute(f"DELETE FROM {schema}.{table.name}{left}")
        target.insert(f"{schema}.{table.name}", frames.batches(table, rows))
    target.execute("DROP TABLE gone")
    counts = {each.name: _count(target, f"{schema}.{each.name}") for each in tables}
    target.execute(f"DELETE FROM {schema}.{_ABOUT}")
    said = json.dumps({**json.loads(told), "rows": counts}, ensure_ascii=False, indent=1) + "\n"
    target.insert(f"{schema}.{_ABOUT}", [pa.RecordBatch.from_pydict({"told": [said]})])
    target.finish(tables, is_new=not is_same)
    for statement in () if is_same else views_of_kinds(frames):
        target.execute(statement)
    return Exported(len(rows), max(0, len(known) - len(frames.data.entries)), kept)


def _is_whole(tables: Sequence[TableLayout], target: DuckTarget | PostgresTarget) -> bool:
    """Say whether all tables are there with the columns and as many rows as they are said to have."""
    counts = json.loads(target.described() or "{}").get("rows", {})
    there = target.columns()
    for table in tables:
        columns, types = there.get(table.name, {}), types_of(table, target.engine)
        if columns.keys() != types.keys() or any(not columns[each].startswith(types[each]) for each in types):
            return False
        if _count(target, f"{SCHEMA}.{table.name}") != counts.get(table.name):
            return False
    return True


def _count(target: DuckTarget | PostgresTarget, table: str) -> int:
    """Return how many rows a table has."""
    return int(target.rows(f"SELECT count(*) FROM {table}")[0][0])


def _by_table(rows: Iterable[tuple[str, str, str]]) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = defaultdict(dict)
    for table, column, kind in rows:
        found[table][column] = kind.lower()
    return found


def _in_the_way(what: Sequence[str], place: str) -> FolderError:
    """Return the error of a schema that has what no export made."""
    listed = ", ".join(what[:_SHOWN]) + (f" and {len(what) - _SHOWN} more" if len(what) > _SHOWN else "")
    message = f"the schema {SCHEMA} has what no export made: {listed}"
    if not what:
        message = f"there is a schema {SCHEMA} that no export made"
    hint = f"Move it elsewhere, or export to another database than {place}."
    return FolderError([Problem("export-in-the-way", message, hint)])


def _is_description(told: str | None) -> bool:
    """Say whether a text is what an export wrote of its tables."""
    try:
        data = json.loads(told or "")
        return isinstance(data["version"], int) and data["version"] <= VERSION and bool(data["digest"])
    except (ValueError, KeyError, TypeError, RecursionError):
        return False


def _since(frames: Frames, known: dict[str, int]) -> tuple[NDArray[np.intp], list[str], int]:
    """Return the rows that are to be written, the ids that are to go, and how many stay as they are."""
    ids, marks = list(frames.data.entries.ids), frames.marks.tolist()
    changed = [
        row for row, (name, mark) in enumerate(zip(ids, marks, strict=True)) if known.get(name) != mark
    ]
    before = [ids[row] for row in changed if ids[row] in known]
    gone = sorted(known.keys() - set(ids))
    return np.array(changed, dtype=np.intp), [*gone, *before], len(ids) - len(changed)


def _same_layout(frames: Frames, told: str) -> bool:
    """Say whether tables were made for the same fields."""
    wanted = json.loads(json.dumps(frames.layout.as_data()))
    try:
        there = json.loads(told)
        return all(there[key] == value for key, value in wanted.items())
    except (ValueError, KeyError, TypeError):
        return False


class DuckTarget:
    """A database of DuckDB, which is open in a transaction."""

    engine = "duckdb"

    def __init__(self, raw: Any) -> None:
        self.raw = raw
        self.views: list[str] = []  # that an export made

    def execute(self, text: str) -> None:
        """Run a statement without values."""
        self.raw.execute(text)

    def rows(self, text: str) -> list[tuple[Any, ...]]:
        """Return the rows of a statement without values; all of them, as nothing else is done before."""
        found: list[tuple[Any, ...]] = self.raw.execute(text).fetchall()
        return found

    def described(self) -> str | None:
        """Return what the tables that are there say of themselves, None where there are none."""
        return described_in_duckdb(self.raw)

    def columns(self) -> dict[str, dict[str, str]]:
        """Return the columns of the tables that are there, with their types."""
        wanted = "SELECT table_name, column_name, data_type FROM duckdb_columns() WHERE schema_name = $1"
        return _by_table(self.raw.execute(wanted, [SCHEMA]).fetchall())

    def refuse_foreign(self, described: str | None) -> None:
        """Raise FolderError where the schema has what no export made."""
        tables = "SELECT table_name FROM duckdb_tables() WHERE schema_name = $1"
        views = "SELECT view_name, comment FROM duckdb_views() WHERE schema_name = $1 AND NOT internal"
        names = [row[0] for row in self.raw.execute(tables, [SCHEMA]).fetchall()]
        found = self.raw.execute(views, [SCHEMA]).fetchall()
        foreign = [name for name in names if name not in _OUR_TABLES]
        foreign += [name for name, comment in found if comment != VIEW_MARK]
        if foreign or (names and not _is_description(described)):
            raise _in_the_way(foreign or names, "this file")
        self.views = [name for name, _ in found]

    def begin(self, tables: Sequence[TableLayout]) -> str:
        """Make all tables in place of those that an export made before, and return their schema."""
        for name in self.views:
            self.execute(f"DROP VIEW {SCHEMA}.{sql_name(name)}")
        for name in _OUR_TABLES:
            self.execute(f"DROP TABLE IF EXISTS {SCHEMA}.{name}")
        self.execute(f"CREATE SCHEMA IF NOT EXISTS {SCHEMA}")
        for table in tables:
            self.execute(create_statement(table, self.engine, SCHEMA))
        self.execute(f"CREATE TABLE {SCHEMA}.{_ABOUT} (told VARCHAR)")
        return SCHEMA

    def insert(self, table: str, batches: Iterable[pa.RecordBatch]) -> None:
        """Insert rows into a table.

        By one statement: of several in a transaction DuckDB keeps what they insert in memory until its end.
        """
        coming = iter(batches)
        if (first := next(coming, None)) is None:
            return
        reader = pa.RecordBatchReader.from_batches(first.schema, chain([first], coming))
        self.raw.register("batches", reader)
        self.raw.execute(f"INSERT INTO {table} SELECT * FROM batches")
        self.raw.unregister("batches")

    def finish(self, tables: Sequence[TableLayout], *, is_new: bool) -> None:
        """Do what is to be done when all rows are there: columns are scanned here, which needs no index."""


class PostgresTarget:
    """A server of PostgreSQL with a cursor in a transaction."""

    engine = "postgresql"

    def __init__(self, cursor: Any) -> None:
        self.cursor = cursor
        self.coming = f"{SCHEMA}_{os.urandom(6).hex()}"  # which nobody else has
        self.grants: list[str] = []

    def execute(self, text: str) -> None:
        """Run a statement without values."""
        self.cursor.execute(text)

    def rows(self, text: str) -> list[tuple[Any, ...]]:
        """Return the rows of a statement without values."""
        found: list[tuple[Any, ...]] = self.cursor.execute(text).fetchall()
        return found

    def described(self) -> str | None:
        """Return what the tables that are there say of themselves, None where there are none."""
        return described_in_postgresql(self.cursor)

    def columns(self) -> dict[str, dict[str, str]]:
        """Return the columns of the tables that are there, with their types."""
        names = "table_name, column_name, data_type"
        wanted = f"SELECT {names} FROM information_schema.columns WHERE table_schema = %s"
        return _by_table(self.cursor.execute(wanted, [SCHEMA]).fetchall())

    def refuse_foreign(self, described: str | None) -> None:
        """Raise FolderError where the schema has what no export made."""
        wanted = (
            "SELECT c.relname, c.relkind, obj_description(c.oid) FROM pg_class c JOIN pg_namespace n"
            " ON n.oid = c.relnamespace WHERE n.nspname = %s AND c.relkind IN ('r', 'v', 'm', 'f', 'p', 'S')"
        )
        found = self.cursor.execute(wanted, [SCHEMA]).fetchall()
        foreign = [name for name, kind, _ in found if kind != "v" and name not in _OUR_TABLES]
        foreign += [name for name, kind, comment in found if kind == "v" and comment != VIEW_MARK]
        routines = (
            "SELECT proname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE nspname = %s"
        )
        foreign += [name for (name,) in self.cursor.execute(routines, [SCHEMA]).fetchall()]
        exists = self.cursor.execute("SELECT to_regnamespace(%s)", [SCHEMA]).fetchone()[0]
        if foreign or (exists and not _is_description(described)):
            raise _in_the_way(foreign, "this one")
        self.views = [name for name, kind, _ in found if kind == "v"]

    def begin(self, tables: Sequence[TableLayout]) -> str:
        """Make all tables in a schema beside, and return that: the old ones are read meanwhile."""
        self.grants = [row[0] for row in self.cursor.execute(_GRANTS, {"schema": SCHEMA}).fetchall()]
        self.execute(f"CREATE SCHEMA {self.coming}")
        for table in tables:
            self.execute(create_statement(table, self.engine, self.coming))
        self.execute(f"CREATE TABLE {self.coming}.{_ABOUT} (told text)")
        return self.coming

    def insert(self, table: str, batches: Iterable[pa.RecordBatch]) -> None:
        """Insert rows into a table; those of a new one are seen by all, which indexes can tell then."""
        frozen = ", FREEZE" if table.startswith(f"{self.coming}.") else ""
        with self.cursor.copy(f"COPY {table} FROM STDIN (FORMAT csv{frozen})") as copy:
            for batch in batches:
                copy.write(_as_csv(batch))

    def finish(self, tables: Sequence[TableLayout], *, is_new: bool) -> None:
        """Make indexes, let the new schema take the place of the old one, and the planner know."""
        if is_new:
            for table in tables:
                for number, columns in enumerate(table.indexes):
                    names = ", ".join(map(_in_index, columns))
                    self.execute(
                        f"CREATE INDEX {table.name}_{number} ON {self.coming}.{table.name} ({names})"
                    )
            for name in self.views:
                self.execute(f"DROP VIEW {SCHEMA}.{sql_name(name)}")
            for name in _OUR_TABLES:  # without CASCADE: what others made of them is theirs
                self.execute(f"DROP TABLE IF EXISTS {SCHEMA}.{name}")
            self.execute(f"DROP SCHEMA IF EXISTS {SCHEMA}")
            self.execute(f"ALTER SCHEMA {self.coming} RENAME TO {SCHEMA}")
            for grant in self.grants:
                self.execute(grant)
        for table in tables:
            self.execute(f"ANALYZE {SCHEMA}.{table.name}")


def _in_index(column: str) -> str:
    """Return a column of an index."""
    name = column.removeprefix("-")
    return f'"{name}"' if name == column else f'"{name}" DESC NULLS LAST'


def _as_csv(batch: pa.RecordBatch) -> bytes:
    """Return a batch as COPY takes it: what is lacking is empty, an empty text stands in quotes."""
    sink = pa.BufferOutputStream()
    csv.write_csv(batch, sink, csv.WriteOptions(include_header=False, quoting_style="all_valid"))
    found: bytes = sink.getvalue().to_pybytes()
    return found


@contextmanager
def duckdb_file(place: str) -> Iterator[DuckTarget]:
    """Give a file of DuckDB, in a transaction that ends well or leaves nothing. Raises SiteError."""
    import duckdb

    with reaching_duckdb(place), duckdb.connect(str(path_of(place))) as raw:
        raw.execute(f"SET memory_limit = '{_MEMORY}'")  # it would keep all that it has written, else
        raw.execute("BEGIN")
        yield DuckTarget(raw)
        raw.execute("COMMIT")


@contextmanager
def postgresql_server(place: str) -> Iterator[PostgresTarget]:
    """Give a server, in a transaction that ends well or leaves nothing. Raises OptionError, SiteError."""
    import psycopg
    from psycopg.errors import DependentObjectsStillExist

    options = postgresql_options(place)
    with (
        reaching_postgresql(place),
        psycopg.connect(**options) as connection,
        connection.cursor() as cursor,
    ):
        try:
            yield PostgresTarget(cursor)
        except DependentObjectsStillExist as error:
            raise _in_the_way([error.diag.message_detail or str(error)], "this one") from None
