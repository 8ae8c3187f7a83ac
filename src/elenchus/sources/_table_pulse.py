"""What changes when the tables of a source do, worked out where they are, in a question or two to each table.

The questions need nothing but a connection of the driver: to load what reads a database takes longer than to
learn that nothing has changed.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.sources._connection import refusals
from elenchus.sources._server import driver_connection, longest, only_reading, server_of
from elenchus.sources._spec import TableSpec

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    from elenchus.sources._spec import SourceSpec

    # Runs a statement with values for its %s: the names of the columns, and the rows.
    Run = Callable[[str, tuple[Any, ...]], tuple[Sequence[str], Sequence[Sequence[Any]]]]

__all__ = ["Watched", "pulse_by_driver", "pulse_of"]

_ROWS = "rows_of_site"
_OF_NAMES = "42"  # the class of SQL:2023 for names and rights; MySQL and MariaDB number each
_NUMBERS_OF_NAMES = (1054, 1064, 1142, 1143, 1146, 1356)


class Watched(NamedTuple):
    """What is looked at of the table of a source: its columns as they were read, and the one of its key.

    The key is compared as a text where its values are neither numbers nor texts.
    """

    names: tuple[str, ...]
    key: str
    is_cast: bool

    @classmethod
    def noted(cls, note: Any) -> Watched | None:
        """Return what a note has of it; a note can be anything."""
        match note:
            case [list(names), str(key), bool(is_cast)] if all(isinstance(each, str) for each in names):
                return cls(tuple(names), key, is_cast)
        return None


def pulse_of(run: Run, spec: SourceSpec, sort: str, watched: Watched) -> list[str]:
    """Return what any change of the tables of a source changes.

    Of a table with a column of changes that is what this says, of others a sum over all values.
    """
    known: dict[tuple[str, tuple[Any, ...]], list[str]] = {}
    found: list[str] = []
    for statement in _statements(spec, sort, watched):
        if statement not in known:  # two taxonomies may lie in one table
            names, rows = run(*statement)
            known[statement] = [*names, *(str(value) for row in rows for value in row)]
        found += known[statement]
    return found


def pulse_by_driver(spec: SourceSpec, watched: Watched) -> list[str]:
    """Return the same on a connection of its own. Raises OSError."""
    with refusals(spec):
        server = server_of(spec)
        connection = driver_connection(spec, server)
        try:
            with connection.cursor() as cursor:
                is_mariadb = server.sort == "mysql" and "mariadb" in connection.get_server_info().lower()
                for each in only_reading(server.sort, longest(spec), is_mariadb=is_mariadb):
                    cursor.execute(each)

                def run(sql: str, values: tuple[Any, ...]) -> tuple[Sequence[str], Sequence[Sequence[Any]]]:
                    cursor.execute(sql, values)
                    return [each[0] for each in cursor.description], cursor.fetchall()

                try:
                    return pulse_of(run, spec, server.sort, watched)
                except Exception as error:
                    if not _is_about_names(error):
                        raise
                    return []  # a table is another by now: who reads it in full tells what it lacks
        finally:
            connection.close()


def _is_about_names(error: Exception) -> bool:
    """Say whether a server does not know a table or a column, or lets nobody see it."""
    number = error.args[0] if error.args else None
    return str(getattr(error, "sqlstate", None) or "").startswith(_OF_NAMES) or number in _NUMBERS_OF_NAMES


def _statements(spec: SourceSpec, sort: str, watched: Watched) -> Iterator[tuple[str, tuple[Any, ...]]]:
    """Yield the statements that are asked, each with its values."""
    table, sql = spec.table or TableSpec(), _Sql(sort)
    if query := table.query.strip().rstrip(";"):
        source, values = f"({query.replace('%', '%%')}) AS {_ROWS}", ()
    else:
        source, values = sql.narrowed(f"{table.prefix}{table.table}", table.where)
    yield f"SELECT * FROM {source} WHERE 1 = 0", values  # which tells the names of its columns
    key = sql.name(watched.key)
    key = f"CAST({key} AS {'CHAR(191)' if sort == 'mysql' else 'VARCHAR(191)'})" if watched.is_cast else key
    told = sql.sum_of(watched.names)
    if table.updated:
        told = f"MIN({key}), MAX({key}), MAX({sql.name(table.updated)})"
    yield f"SELECT COUNT(*), {told} FROM {source}", values
    for terms in table.terms:
        own = {} if terms.names else terms.where
        yield sql.counted(f"{table.prefix}{terms.table}", (terms.entry, terms.term), own)
        if terms.names:
            columns = [each for each in (terms.key, terms.name, terms.slug, terms.parent) if each]
            yield sql.counted(f"{table.prefix}{terms.names}", columns, terms.where)
    if extras := table.extras:
        columns = [extras.entry, extras.name, extras.value]
        yield sql.counted(f"{table.prefix}{extras.table}", columns, extras.where)


class _Sql:
    """Parts of statements for a sort of servers; what is no value has each “%” twice, as drivers want it."""

    def __init__(self, sort: str) -> None:
        self.is_postgresql = sort == "postgresql"

    def name(self, name: str) -> str:
        """Return a name, with its schema where it has one before a dot."""
        sign = '"' if self.is_postgresql else "`"
        return f"{sign}{name.replace(sign, sign * 2).replace('%', '%%')}{sign}"

    def table(self, name: str) -> str:
        """Return the name of a table, which may have that of its schema before it."""
        schema, _, own = name.rpartition(".")
        return ".".join(self.name(each) for each in (schema, own) if each)

    def narrowed(self, table: str, where: Mapping[str, Any]) -> tuple[str, tuple[Any, ...]]:
        """Return those rows of a table whose columns have some values, with these."""
        if not where:
            return self.table(table), ()
        tests = " AND ".join(f"{self.name(column)} = %s" for column in where)
        values = tuple(str(each) if self.is_postgresql else each for each in where.values())
        return f"(SELECT * FROM {self.table(table)} WHERE {tests}) AS {_ROWS}", values

    def counted(
        self, table: str, columns: Sequence[str], where: Mapping[str, Any]
    ) -> tuple[str, tuple[Any, ...]]:
        """Return the statement that tells how many rows there are, and a sum over their values."""
        source, values = self.narrowed(table, where)
        return f"SELECT COUNT(*), {self.sum_of(columns)} FROM {source}", values

    def sum_of(self, columns: Sequence[str]) -> str:
        """Return a sum over digests of the values of each row."""
        names = list(map(self.name, columns))
        if self.is_postgresql:
            return f"SUM(hashtextextended(CAST(ROW({', '.join(names)}) AS text), 0))"
        values = ", ".join(f"COALESCE(CAST({name} AS BINARY), X'00')" for name in names)
        return f"SUM(CAST(CONV(LEFT(MD5(CONCAT_WS(X'1F', {values})), 15), 16, 10) AS UNSIGNED))"
