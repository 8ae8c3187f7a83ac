"""Where tables are and what runs there: DuckDB over its own file or over Parquet, PostgreSQL, Spark."""

from __future__ import annotations

import json
import re
import time
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import unquote, urlsplit

from elenchus.errors import OptionError, Problem, SiteError
from elenchus.files import is_file, read_whole
from elenchus.tables.layout import VERSION, Layout
from elenchus.values.kept import Kept
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Mapping

    from ibis.expr import types as ir

__all__ = [
    "ABOUT",
    "SCHEMA",
    "Backend",
    "Bound",
    "DuckBackend",
    "PostgresBackend",
    "SparkBackend",
    "Statement",
    "Told",
    "backend_of",
    "is_folder",
    "path_of",
    "postgresql_options",
]

ABOUT = "elenchus.json"  # the file that describes tables in a folder
SCHEMA = "elenchus"  # the schema of a database in which the tables are
_TOKEN = re.compile("\ue000([0-9]+)\ue000")
_MOST_COMPILED = 512  # statements whose texts are kept: questions of one shape have one
_LARGEST = 2**26  # bytes of a description


class Bound:
    """The values of a question, which never become part of a statement's text: each has a place in it."""

    def __init__(self) -> None:
        self.values: list[Any] = []
        self.tables = 0

    def place(self, value: Any) -> str:
        """Return the sign that stands for a value until the statement is made.

        Equal values have signs of their own: questions of one shape are then one expression.
        """
        self.values.append(value)
        return f"\ue000{len(self.values)}\ue000"

    def next_table(self) -> int:
        """Return the number of the next use of a table, by which it is told from others."""
        self.tables += 1
        return self.tables

    def text(self, value: str) -> ir.StringValue:
        """Return a text."""
        import ibis

        return ibis.literal(self.place(value))

    def whole(self, value: int) -> ir.IntegerValue:
        """Return a whole number."""
        import ibis

        return ibis.literal(self.place(int(value))).cast("int64")

    def real(self, value: float) -> ir.FloatingValue:
        """Return a number."""
        import ibis

        return ibis.literal(self.place(float(value))).cast("float64")


class Statement(NamedTuple):
    """What is run: a text of SQL, and the values for its places, the first of which is $1."""

    text: str
    values: tuple[Any, ...]


class Told(NamedTuple):
    """A statement that was run, as people read it; what it asks for, how many rows it gave, seconds."""

    says: str
    statement: Statement
    rows: int
    time: float


class Backend:
    """A connection to tables through Ibis; ``name`` is that of the engine, ``place`` where the tables are."""

    name = ""
    marker = "$"

    def __init__(self, place: str, connection: Any) -> None:
        self.place = place
        self.connection = connection
        self.tables: dict[str, ir.Table] = {}
        self.compiled: Kept[tuple[str, list[int]]] = Kept(_MOST_COMPILED)
        self.told: list[Told] | None = None  # the statements that were run, where somebody wants to read them

    def table(self, name: str) -> ir.Table:
        """Return one of the tables; what columns it has is asked for once."""
        if name not in self.tables:
            self.tables[name] = self.named(name)
        return self.tables[name]

    def narrow(self, name: str, columns: frozenset[str]) -> ir.Table:
        """Return a table with some of its columns: each one more makes expressions slower to build."""
        from ibis.expr import operations, schema

        table = self.table(name)
        kept = {each: kind for each, kind in table.schema().items() if each in columns}
        return operations.DatabaseTable(
            **{**dict(zip(table.op().argnames, table.op().args, strict=True)), "schema": schema.Schema(kept)}
        ).to_expr()

    def named(self, name: str) -> ir.Table:
        """Return one of the tables, which was not asked for before."""
        found: ir.Table = self.connection.table(name, database=SCHEMA)
        return found

    def described(self) -> str | None:
        """Return the description of the tables, as JSON; None where there is none."""
        raise NotImplementedError

    @cached_property
    def about(self) -> Mapping[str, Any]:
        """What the tables say of themselves. Raises SiteError where they are none that can be read."""
        found = self.described()
        hint = f"Write them there: elenchus export {self.place}."
        if found is None:
            message = f"there are no tables of a site at {quoted(self.place)}"
            raise SiteError([Problem("no-tables", message, hint)])
        try:
            data: Mapping[str, Any] = json.loads(found)
            version = data["version"]
        except (ValueError, KeyError, TypeError) as error:
            message = f"the tables at {quoted(self.place)} cannot be read ({error})"
            raise SiteError([Problem("no-tables", message, hint)]) from None
        if version != VERSION:
            message = (
                f"the tables at {quoted(self.place)} are of version {version}, and {VERSION} is read here"
            )
            raise SiteError([Problem("no-tables", message, hint)])
        return data

    @cached_property
    def layout(self) -> Layout:
        """The tables and their columns. Raises SiteError as :attr:`about` does."""
        return Layout.of_data(self.about)

    def statement(self, expression: ir.Expr, values: Bound, *, pretty: bool = False) -> Statement:
        """Return an expression as the engine's own SQL; its values have places there."""
        text, places = self.compiled.get(
            (expression.op(), pretty), lambda: self.compile(expression, pretty=pretty)
        )
        return Statement(text, tuple(values.values[place - 1] for place in places))

    def compile(self, expression: ir.Expr, *, pretty: bool) -> tuple[str, list[int]]:
        """Return the text of a statement, and which values have its places, by the numbers of their signs."""
        from sqlglot import expressions

        compiler = self.connection.compiler
        used: dict[int, int] = {}

        def placed(node: expressions.Expression) -> expressions.Expression:
            match = _TOKEN.fullmatch(node.this) if isinstance(node, expressions.Literal) else None
            if match is None:
                return node
            number = used.setdefault(int(match[1]), len(used) + 1)
            return expressions.Var(this=f"{self.marker}{number}")

        text = compiler.to_sqlglot(expression).transform(placed).sql(dialect=compiler.dialect, pretty=pretty)
        return text, list(used)

    def run(self, statement: Statement) -> list[tuple[Any, ...]]:
        """Return the rows of a statement."""
        raise NotImplementedError

    def rows(self, expression: ir.Expr, values: Bound, says: str) -> list[tuple[Any, ...]]:
        """Return the rows of an expression; ``says`` tells what it asks for."""
        statement, begun = self.statement(expression, values), time.perf_counter()
        found = self.run(statement)
        if self.told is not None:
            pretty = self.statement(expression, values, pretty=True)
            self.told.append(Told(says, pretty, len(found), time.perf_counter() - begun))
        return found

    def close(self) -> None:
        """Let go of the connection."""
        self.connection.disconnect()


class DuckBackend(Backend):
    """DuckDB in this process, over a file of its own, or over files of Parquet."""

    name = "duckdb"

    def described(self) -> str | None:
        """See :class:`Backend`."""
        raw = self.connection.con
        known = raw.execute(
            "SELECT 1 FROM information_schema.tables WHERE table_schema = $1 AND table_name = 'about'",
            [SCHEMA],
        ).fetchall()  # all of it: DuckDB does nothing else before
        return raw.execute(f"SELECT told FROM {SCHEMA}.about").fetchall()[0][0] if known else None

    def run(self, statement: Statement) -> list[tuple[Any, ...]]:
        """See :class:`Backend`: by a cursor of its own, so that several threads can ask."""
        with self.connection.con.cursor() as cursor:
            found: list[tuple[Any, ...]] = cursor.execute(statement.text, list(statement.values)).fetchall()
        return found


class PostgresBackend(Backend):
    """A server of PostgreSQL."""

    name = "postgresql"

    def described(self) -> str | None:
        """See :class:`Backend`."""
        with self.connection.con.cursor() as cursor:
            known = cursor.execute("SELECT to_regclass(%s)", [f"{SCHEMA}.about"]).fetchone()
            if not known or known[0] is None:
                return None
            found = cursor.execute(f"SELECT told FROM {SCHEMA}.about").fetchone()
        return str(found[0]) if found else None

    def run(self, statement: Statement) -> list[tuple[Any, ...]]:
        """See :class:`Backend`."""
        from psycopg import RawCursor

        with RawCursor(self.connection.con) as cursor:
            found: list[tuple[Any, ...]] = cursor.execute(statement.text, statement.values).fetchall()
        return found


class SparkBackend(Backend):
    """Spark, in this process or a cluster, over files of Parquet."""

    name = "spark"
    marker = ":p"

    def __init__(self, place: str, connection: Any, told: str) -> None:
        super().__init__(place, connection)
        self.description = told

    def described(self) -> str | None:
        """See :class:`Backend`."""
        return self.description

    def named(self, name: str) -> ir.Table:
        """See :class:`Backend`."""
        found: ir.Table = self.connection.table(name)
        return found

    def run(self, statement: Statement) -> list[tuple[Any, ...]]:
        """See :class:`Backend`."""
        named = {f"p{number}": value for number, value in enumerate(statement.values, start=1)}
        return [tuple(row) for row in self.connection._session.sql(statement.text, args=named).collect()]  # noqa: SLF001


def _over_spark(place: str) -> Backend:
    """Return Spark over the files of a folder: in this process, or in the cluster of a master."""
    import ibis
    from pyspark.sql import SparkSession

    parts = urlsplit(place)
    master = f"spark://{parts.netloc}" if parts.netloc else "local[*]"
    folder = _FolderOf(Path(unquote(parts.path)))
    told = folder.described()
    if told is None:
        raise _nothing(place)
    settings = {
        "spark.sql.session.timeZone": "UTC",
        "spark.ui.enabled": "false",
        "spark.ui.showConsoleProgress": "false",
        "spark.sql.ansi.enabled": "true",  # what overflows is refused, and not answered wrongly
    }
    if not parts.netloc:  # few rows at a time, so that a step need not be cut in hundreds
        settings |= {"spark.sql.shuffle.partitions": "4", "spark.driver.memory": "2g"}
    builder = SparkSession.builder.master(master).appName("elenchus")
    for name, value in settings.items():
        builder = builder.config(name, value)
    session = builder.getOrCreate()
    session.sparkContext.setLogLevel("ERROR")
    for table in Layout.of_data(json.loads(told)).tables:
        session.read.parquet(*folder.files(table.name)).createOrReplaceTempView(table.name)
    return SparkBackend(place, ibis.pyspark.connect(session), told)


class _FolderOf:
    """The description of tables in a folder, and their files."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def described(self) -> str | None:
        """Return the description, None where there is none."""
        path = self.folder / ABOUT
        return read_whole(path, _LARGEST).decode() if is_file(path) else None

    def files(self, name: str) -> list[str]:
        """Return the files of a table."""
        data = json.loads(self.described() or "{}")
        return [str(self.folder / each) for each in data.get("files", {}).get(name, [])]


def backend_of(place: str) -> Backend:
    """Return what runs questions on tables at a place.

    That is a folder of Parquet, ``duckdb:///file``, ``postgresql://…``, or ``spark://host:port/folder`` and
    ``spark:folder`` for a cluster and for Spark in this process. Raises OptionError for others, SiteError
    where nothing can be reached.
    """
    import ibis

    parts = urlsplit(place)
    if parts.scheme == "duckdb":
        path = path_of(place)
        if not is_file(path):
            raise _nothing(place)
        return DuckBackend(place, ibis.duckdb.connect(path, read_only=True))
    if parts.scheme in ("postgresql", "postgres"):
        options = postgresql_options(place)
        return PostgresBackend(
            place, ibis.postgres.connect(database=options.pop("dbname", None), autocommit=True, **options)
        )
    if parts.scheme == "spark":
        return _over_spark(place)
    if is_folder(place):
        return _over_parquet(place)
    known = "a folder, duckdb:///FILE, postgresql://…, spark:FOLDER or spark://HOST:PORT/FOLDER"
    raise OptionError(
        [Problem("unknown-engine", f"{quoted(place)} is no place of tables", f"Write {known}.")]
    )


def is_folder(place: str) -> bool:
    """Say whether a place is a folder: it has no scheme, or the letter of a drive."""
    return len(urlsplit(place).scheme) <= 1


def path_of(place: str) -> Path:
    """Return the file of an address such as duckdb:///notes.duckdb, which is one of the working directory."""
    return Path(unquote(urlsplit(place).path.removeprefix("/")))


def postgresql_options(place: str) -> dict[str, Any]:
    """Return how a server is connected to. Raises OptionError for a password, which is the environment's.

    What the address does not say is for the variables of the environment that all clients of PostgreSQL know.
    """
    parts = urlsplit(place)
    if parts.password is not None:
        hint = "Put it into the variable PGPASSWORD of the environment."
        raise OptionError([Problem("secret-in-address", "an address has no place for a password", hint)])
    wanted = {
        "host": parts.hostname,
        "port": parts.port,
        "user": unquote(parts.username) if parts.username else None,
        "dbname": unquote(parts.path.strip("/")) or None,
    }
    return {name: value for name, value in wanted.items() if value is not None}


def _nothing(place: str) -> SiteError:
    """Return the error of a place where there are no tables."""
    hint = f"Write them there: elenchus export {place}."
    return SiteError([Problem("no-tables", f"there are no tables of a site at {quoted(place)}", hint)])


def _over_parquet(place: str) -> Backend:
    """Return DuckDB over the files of a folder."""
    import ibis

    folder = _FolderOf(Path(place))
    told = folder.described()
    if told is None:
        raise _nothing(place)
    found = DuckBackend(place, ibis.duckdb.connect())
    raw = found.connection.con
    raw.execute(f"CREATE SCHEMA {SCHEMA}")
    raw.execute(f"CREATE TABLE {SCHEMA}.about AS SELECT $1 AS told", [told])
    for table in Layout.of_data(json.loads(told)).tables:
        files = folder.files(table.name)
        listed = ", ".join("'" + each.replace("'", "''") + "'" for each in files)
        raw.execute(f"CREATE VIEW {SCHEMA}.{table.name} AS SELECT * FROM read_parquet([{listed}])")
    return found
