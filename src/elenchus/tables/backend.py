"""What runs questions over tables: DuckDB, PostgreSQL, Spark; their statements, and what they refuse."""

from __future__ import annotations

import json
import re
import time
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import unquote

from elenchus.errors import Problem, SiteError
from elenchus.tables.layout import TABLES, VERSION, Layout
from elenchus.values.addresses import split_address
from elenchus.values.kept import Kept, cached_property
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
    from contextlib import AbstractContextManager

    from ibis.expr import types as ir

    from elenchus.plan.nodes import Test
    from elenchus.tables.layout import TableLayout

__all__ = [
    "SCHEMA",
    "Backend",
    "Bound",
    "Compared",
    "Described",
    "DuckBackend",
    "PostgresBackend",
    "SparkBackend",
    "Statement",
    "Told",
    "described_in_duckdb",
    "described_in_postgresql",
    "duckdb_errors",
    "exported_files",
    "exporting",
    "no_tables",
    "of_engine",
    "postgresql_errors",
    "read_description",
    "spark_errors",
    "wrong_columns",
]

SCHEMA = "elenchus"  # the schema of a database in which the tables are
_TOKEN = re.compile("\ue000([0-9]+)\ue000")
_EXPORTED = re.compile(r"(?:\d{4}(?:-\d{2})?|undated|all)-[0-9a-f]{20}\.parquet")
_KINDS = {"text": "string", "whole": "int64", "real": "float64", "yesno": "boolean", "time": "timestamp"}
_MOST_COMPILED = 512  # statements whose texts are kept: questions of one shape have one


class Bound:
    """The values of a question, which never become part of a statement's text: each has a place in it.

    ``first`` places are left empty, and so many ``tables`` counted, for a part of what others have begun.
    ``compared`` are the comparisons whose values have places here; ``leaving_out`` tells behind which place
    each list of the rows begins that an answer leaves out.
    """

    def __init__(self, first: int = 0, tables: int = 0) -> None:
        self.values: list[Any] = [None] * first
        self.tables = tables
        self.compared: list[Compared] = []
        self.leaving_out: list[int] = []

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

    def among(self, column: ir.StringValue, texts: Iterable[str]) -> ir.BooleanValue:
        """Return which rows of a column have one of some texts."""
        return column.isin([self.text(each) for each in texts])


class Compared(NamedTuple):
    """A comparison as it was made part of a statement: from which place on, and behind how many tables."""

    test: Test
    entries: ir.Table
    first: int
    tables: int
    mask: ir.BooleanValue
    values: list[Any]


class Statement(NamedTuple):
    """What is run: a text of SQL, and the values for its places, the first of which is $1."""

    text: str
    values: tuple[Any, ...]


class Told(NamedTuple):
    """A statement that was run, as people read it; what it asks for, how many rows it gave, seconds.

    ``marker`` stands before the numbers of places in its text.
    """

    says: str
    statement: Statement
    rows: int
    time: float
    marker: str


class Described(NamedTuple):
    """What tables say of themselves: their layout, how many entries there are, a digest, files by tables."""

    layout: Layout
    entries: int
    content: str
    files: Mapping[str, Sequence[str]]


def exporting(place: str) -> str:
    """Return the command that writes tables which are asked at a place."""
    parts = split_address(place)
    return f"elenchus export {unquote(parts.path) if parts and parts.scheme == 'spark' else place}"


def no_tables(place: str, reason: str | None = None) -> SiteError:
    """Return the error of a place where there are no tables, or none that can be read for a reason."""
    none = f"there are no tables of a site at {quoted(place)}"
    message = f"the tables at {quoted(place)} cannot be read: {reason}" if reason else none
    return SiteError([Problem("no-tables", message, f"Write them there: {exporting(place)}.")])


@contextmanager
def of_engine(kinds: Sequence[type[Exception]], code: str, message: str, hint: str) -> Iterator[None]:
    """Let what an engine refuses be an error of ours, which ends with the first line of its reason."""
    try:
        yield
    except tuple(kinds) as error:
        java = getattr(error, "java_exception", None)  # what Spark means; the text tells of the bridge to it
        told = (line.strip() for line in str(java.toString() if java else error).splitlines())
        reason = next(filter(None, told), type(error).__name__).rstrip(".")
        raise SiteError([Problem(code, f"{message}: {reason}", hint)]) from error


def duckdb_errors() -> list[type[Exception]]:
    """Return what DuckDB raises."""
    import duckdb

    return [duckdb.Error]


def postgresql_errors() -> list[type[Exception]]:
    """Return what the driver of PostgreSQL raises."""
    import psycopg

    return [psycopg.Error]


def spark_errors() -> list[type[Exception]]:
    """Return what Spark raises, and its bridge to Java."""
    from py4j.protocol import Py4JError
    from pyspark.errors import PySparkException

    return [PySparkException, Py4JError]


def described_in_duckdb(raw: Any) -> str | None:
    """Return what the tables of a database of DuckDB say of themselves, None where there are none."""
    wanted = "SELECT 1 FROM duckdb_tables() WHERE schema_name = $1 AND table_name = 'about'"
    if not raw.execute(wanted, [SCHEMA]).fetchall():  # all of it: DuckDB does nothing else before
        return None
    return _first_text(raw.execute(f"SELECT told FROM {SCHEMA}.about").fetchall())


def _first_text(rows: Sequence[tuple[Any, ...]]) -> str | None:
    """Return the text of a table of one row; None where it is another."""
    found = rows[0][0] if rows else None
    return found if isinstance(found, str) else None


def described_in_postgresql(cursor: Any) -> str | None:
    """Return what the tables of a server say of themselves, None where there are none."""
    [known] = cursor.execute("SELECT to_regclass(%s)", [f"{SCHEMA}.about"]).fetchone()
    if known is None:
        return None
    return _first_text(cursor.execute(f"SELECT told FROM {SCHEMA}.about").fetchall())


class Backend:
    """A connection to tables through Ibis; ``name`` is that of the engine, ``place`` where the tables are."""

    name = ""
    title = ""  # as people write it
    marker = "$"
    joins_each = True  # whether a relation can be asked for each row of another

    def __init__(self, place: str, connection: Any) -> None:
        self.place = place
        self.connection = connection
        self.tables: dict[str, ir.Table] = {}
        self.compiled: Kept[tuple[str, list[int], list[int]]] = Kept(_MOST_COMPILED)
        self.told: list[Told] | None = None  # the statements that were run, where somebody wants to read them

    def errors(self) -> list[type[Exception]]:
        """Return what the engine raises."""
        raise NotImplementedError

    def reading(self) -> AbstractContextManager[None]:
        """Let tables that are not there, or not as they are described, be an error of ours."""
        from ibis.common.exceptions import IbisError

        message = f"the tables at {quoted(self.place)} cannot be read"
        hint = f"Write them anew: {exporting(self.place)}."
        return of_engine([*self.errors(), IbisError], "no-tables", message, hint)

    def table(self, name: str) -> ir.Table:
        """Return one of the tables; what columns it has is asked for once. Raises SiteError."""
        if name not in self.tables:
            with self.reading():
                found = self.named(name)
                if wrong := wrong_columns(found, self.about.layout.table(name)):
                    raise no_tables(self.place, wrong)
                self.tables[name] = found
        return self.tables[name]

    def narrow(self, name: str, columns: frozenset[str]) -> ir.Table:
        """Return a table with some of its columns: each one more makes expressions slower to build."""
        from ibis.expr import schema

        table = self.table(name)
        kept = {each: kind for each, kind in table.schema().items() if each in columns}
        found: ir.Table = table.op().copy(schema=schema.Schema(kept)).to_expr()
        return found

    def named(self, name: str) -> ir.Table:
        """Return one of the tables, which was not asked for before."""
        found: ir.Table = self.connection.table(name, database=SCHEMA)
        return found

    def described(self) -> str | None:
        """Return the description of the tables, as JSON; None where there is none."""
        raise NotImplementedError

    @cached_property
    def about(self) -> Described:
        """What the tables say of themselves. Raises SiteError where they are none that can be read."""
        with self.reading():
            found = self.described()
        if found is None:
            raise no_tables(self.place)
        return read_description(found, self.place)

    def statement(self, expression: ir.Expr, values: Bound, *, pretty: bool = False) -> Statement:
        """Return an expression as the engine's own SQL; its values have places there."""
        text, places, _ = self.compiled.get(
            (expression.op(), pretty), lambda: self.compile(expression, pretty=pretty)
        )
        return Statement(text, tuple(values.values[place - 1] for place in places))

    def compile(
        self, expression: ir.Expr, *, pretty: bool = False, varying: Collection[int] = ()
    ) -> tuple[str, list[int], list[int]]:
        """Return the text of a statement, and which values have its places, by the numbers of their signs.

        Those that are ``varying`` are columns of ``k_each`` instead, and told apart.
        """
        from sqlglot import expressions

        compiler = self.connection.compiler
        used: dict[int, int] = {}
        columns: dict[int, None] = {}

        def placed(node: expressions.Expression) -> expressions.Expression:
            match = _TOKEN.fullmatch(node.this) if isinstance(node, expressions.Literal) else None
            if match is None:
                return node
            number = int(match[1])
            if number in varying:
                columns[number] = None
                return expressions.column(f"v{number}", table="k_each", quoted=True)
            return expressions.Var(this=f"{self.marker}{used.setdefault(number, len(used) + 1)}")

        tree = self.adapted(compiler.to_sqlglot(expression)).transform(placed)
        return tree.sql(dialect=compiler.dialect, pretty=pretty), list(used), list(columns)

    def adapted(self, tree: Any) -> Any:
        """Return the tree of a statement as the engine runs it best."""
        return tree

    def rows_of_each(
        self, expression: ir.Expr, values: Bound, each: Sequence[Mapping[int, Any]], says: str
    ) -> list[list[tuple[Any, ...]]]:
        """Return the rows of an expression for each of some mappings of signs to values; of one statement.

        The rows of one are in no order.
        """
        text, places, columns = self.compiled.get(
            (expression.op(), tuple(each[0])), lambda: self.compile(expression, varying=each[0].keys())
        )
        constant = [values.values[place - 1] for place in places]
        if not columns:  # none of the values that differ is asked for
            return [self.told_rows(Statement(text, tuple(constant)), says)] * len(each)
        numbers = iter(range(len(constant) + 1, len(constant) + 1 + len(columns) * len(each)))
        rows = ", ".join(
            f"({number}, {', '.join(f'{self.marker}{next(numbers)}' for _ in columns)})"
            for number in range(len(each))
        )
        names = ", ".join(f'"v{number}"' for number in columns)
        outer = f'SELECT k_each."k", k_found.* FROM (VALUES {rows}) AS k_each("k", {names})'
        own = [one[number] for one in each for number in columns]
        statement = Statement(f"{outer} CROSS JOIN LATERAL ({text}) AS k_found", (*constant, *own))
        found: list[list[tuple[Any, ...]]] = [[] for _ in each]
        for number, *row in self.told_rows(statement, says):
            found[number].append(tuple(row))
        return found

    def fetched(self, statement: Statement) -> list[tuple[Any, ...]]:
        """Return the rows of a statement."""
        raise NotImplementedError

    def run(self, statement: Statement) -> list[tuple[Any, ...]]:
        """Return the rows of a statement. Raises SiteError where the engine refuses it."""
        message = f"{self.title} cannot answer at {quoted(self.place)}"
        hint = "Ask again: tables may be written just now. If they are damaged, write them anew: "
        with of_engine(self.errors(), "engine-refused", message, f"{hint}{exporting(self.place)}."):
            return self.fetched(statement)

    def rows(self, expression: ir.Expr, values: Bound, says: str) -> list[tuple[Any, ...]]:
        """Return the rows of an expression; ``says`` tells what it asks for."""
        pretty = None if self.told is None else self.statement(expression, values, pretty=True)
        return self.told_rows(self.statement(expression, values), says, pretty)

    def told_rows(
        self, statement: Statement, says: str, pretty: Statement | None = None
    ) -> list[tuple[Any, ...]]:
        """Return the rows of a statement, kept in its ``pretty`` form for those who want to read it."""
        begun = time.perf_counter()
        found = self.run(statement)
        if self.told is not None:
            spent = time.perf_counter() - begun
            self.told.append(Told(says, pretty or statement, len(found), spent, self.marker))
        return found

    def close(self) -> None:
        """Let go of the connection."""
        self.connection.disconnect()


def read_description(told: str, place: str) -> Described:
    """Return what tables say of themselves, from JSON. Raises SiteError where it cannot be read.

    A description comes from wherever the tables do, so its files may only be those that an export writes.
    """
    try:
        data = json.loads(told)
        if data["version"] != VERSION:
            raise no_tables(place, f"they are of version {data['version']}, and {VERSION} is read here")
        layout = Layout.of_data(data)
        files = exported_files(data.get("files", {}), layout)
        return Described(layout, int(data["entries"]), str(data["content"]), files)
    except KeyError as error:
        raise no_tables(place, f"their description has no {quoted(str(error.args[0]))}") from None
    except (ValueError, TypeError, AttributeError, RecursionError, OverflowError) as error:
        raise no_tables(place, str(error)) from None


def exported_files(written: Any, layout: Layout) -> dict[str, list[str]]:
    """Return the files that a description lists for each table. Raises ValueError for any other."""
    names = {table.name for table in layout.tables}
    found: dict[str, list[str]] = {}
    for name, paths in dict(written).items():
        for path in paths:
            folder, _, file = str(path).partition("/")
            if name not in names or folder != name or not _EXPORTED.fullmatch(file):
                raise ValueError(f"it lists {quoted(str(path))}, which no export writes")
        found[name] = [str(path) for path in paths]
    return found


def wrong_columns(table: ir.Table, spec: TableLayout) -> str:
    """Return what keeps a table from being the one that is described; nothing where it is."""
    there = table.schema()
    for column in spec.columns:
        if column.name not in there:
            return f"{spec.name} has no column {quoted(column.name)}"
        kind = there[column.name]
        if not getattr(kind, f"is_{_KINDS[column.sort]}")():
            return f"{quoted(column.name)} of {spec.name} holds {kind}"
    return ""


class DuckBackend(Backend):
    """DuckDB in this process, over a file of its own, or over files of Parquet."""

    name = "duckdb"
    title = "DuckDB"

    def errors(self) -> list[type[Exception]]:
        """See :class:`Backend`."""
        return duckdb_errors()

    def described(self) -> str | None:
        """See :class:`Backend`."""
        return described_in_duckdb(self.connection.con)

    def foreign(self) -> str:
        """Return what a file has in place of tables, such as views that would be run; empty for nothing."""
        with self.reading():
            views = "SELECT view_name FROM duckdb_views() WHERE schema_name = $1"
            names = {row[0] for row in self.connection.con.execute(views, [SCHEMA]).fetchall()}
            macros = "SELECT function_name FROM duckdb_functions() WHERE NOT internal"
            found = self.connection.con.execute(macros).fetchall()
        wrong = next(
            (name for name in ("about", "entries", *(each.name for each in TABLES)) if name in names), ""
        )
        if wrong:
            return f"{wrong} is a view, and no table"
        return f"they define the macro {quoted(str(found[0][0]))}" if found else ""

    def fetched(self, statement: Statement) -> list[tuple[Any, ...]]:
        """See :class:`Backend`: by a cursor of its own, so that several threads can ask."""
        with self.connection.con.cursor() as cursor:
            found: list[tuple[Any, ...]] = cursor.execute(statement.text, list(statement.values)).fetchall()
        return found


class PostgresBackend(Backend):
    """A server of PostgreSQL."""

    name = "postgresql"
    title = "PostgreSQL"

    def adapted(self, tree: Any) -> Any:
        """See :class:`Backend`."""
        from elenchus.tables.memberships import with_exists

        return with_exists(tree)

    def errors(self) -> list[type[Exception]]:
        """See :class:`Backend`."""
        return postgresql_errors()

    def described(self) -> str | None:
        """See :class:`Backend`."""
        with self.connection.con.cursor() as cursor:
            return described_in_postgresql(cursor)

    def fetched(self, statement: Statement) -> list[tuple[Any, ...]]:
        """See :class:`Backend`."""
        from psycopg import RawCursor

        with RawCursor(self.connection.con) as cursor:
            found: list[tuple[Any, ...]] = cursor.execute(statement.text, statement.values).fetchall()
        return found


class SparkBackend(Backend):
    """Spark, in this process or a cluster, over files of Parquet."""

    name = "spark"
    title = "Spark"
    marker = ":p"
    joins_each = False  # it lacks most of what could stand in such a relation

    def __init__(self, place: str, connection: Any, told: str) -> None:
        super().__init__(place, connection)
        self.description = told

    def errors(self) -> list[type[Exception]]:
        """See :class:`Backend`."""
        return spark_errors()

    def described(self) -> str | None:
        """See :class:`Backend`."""
        return self.description

    def named(self, name: str) -> ir.Table:
        """See :class:`Backend`."""
        found: ir.Table = self.connection.table(name)
        return found

    def fetched(self, statement: Statement) -> list[tuple[Any, ...]]:
        """See :class:`Backend`."""
        named = {f"p{number}": value for number, value in enumerate(statement.values, start=1)}
        return [tuple(row) for row in self.connection._session.sql(statement.text, args=named).collect()]  # noqa: SLF001
