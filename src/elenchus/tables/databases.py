"""Tables written into a database in one transaction; where they are there already, only what changed."""

from __future__ import annotations

import json
from contextlib import contextmanager
from itertools import chain
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
from pyarrow import csv

from elenchus.tables.backend import SCHEMA, described_in_duckdb, described_in_postgresql
from elenchus.tables.layout import Exported, create_statement
from elenchus.tables.places import path_of, postgresql_options, reaching_duckdb, reaching_postgresql

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.tables.frames import Frames
    from elenchus.tables.layout import TableLayout

__all__ = ["DuckTarget", "PostgresTarget", "duckdb_file", "postgresql_server", "to_database"]

_MEMORY = "1GB"  # that DuckDB takes at the most while it is written to

_ABOUT = "about"


def to_database(frames: Frames, target: DuckTarget | PostgresTarget, told: str) -> Exported:
    """Write content as tables, which say ``told`` of themselves, in the caller's transaction."""
    tables, before = frames.layout.tables, target.described()
    is_same = before is not None and _same_layout(frames, before)
    known = dict(target.rows(f"SELECT id, mark FROM {SCHEMA}.entries")) if is_same else {}
    schema = SCHEMA if is_same else target.anew(tables)
    rows, gone, kept = _since(frames, known)
    target.execute("CREATE TEMP TABLE gone (id TEXT)")
    target.insert("gone", [pa.RecordBatch.from_pydict({"id": pa.array(gone, pa.string())})])
    for table in tables:
        key = "id" if table.name == "entries" else "entry"
        left = "" if table.name == "terms" else f" WHERE {key} IN (SELECT id FROM gone)"
        target.execute(f"DELETE FROM {schema}.{table.name}{left}")
        target.insert(f"{schema}.{table.name}", frames.batches(table, rows))
    target.execute("DROP TABLE gone")
    target.execute(f"DELETE FROM {schema}.{_ABOUT}")
    target.insert(f"{schema}.{_ABOUT}", [pa.RecordBatch.from_pydict({"told": [told]})])
    target.finish(tables, is_new=not is_same)
    return Exported(len(rows), max(0, len(known) - len(frames.data.entries)), kept)


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

    def anew(self, tables: Sequence[TableLayout]) -> str:
        """Make all tables anew, and return their schema."""
        self.execute(f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE")
        self.execute(f"CREATE SCHEMA {SCHEMA}")
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
    coming = f"{SCHEMA}_coming"

    def __init__(self, cursor: Any) -> None:
        self.cursor = cursor

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

    def anew(self, tables: Sequence[TableLayout]) -> str:
        """Make all tables anew in a schema beside, and return that: the old ones are read meanwhile."""
        self.execute(f"DROP SCHEMA IF EXISTS {self.coming} CASCADE")
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
            self.execute(f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE")
            self.execute(f"ALTER SCHEMA {self.coming} RENAME TO {SCHEMA}")
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

    options = postgresql_options(place)
    with (
        reaching_postgresql(place),
        psycopg.connect(**options) as connection,
        connection.cursor() as cursor,
    ):
        yield PostgresTarget(cursor)
