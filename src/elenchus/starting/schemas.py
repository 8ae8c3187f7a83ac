"""The tables and views of a database as they are: their columns, keys, sizes, and which refer to which."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.sources import quoted_name
from elenchus.starting.plurals import singular
from elenchus.starting.vocabulary import words

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from sqlalchemy import Connection
    from sqlalchemy.engine import Inspector

__all__ = ["UPPER_KEYS", "FoundTable", "found_tables", "prefix_of"]

UPPER_KEYS = ("parent", "parent_id", "above", "above_id")  # of a column with the key of a row above
_NARROW = 4  # columns of a table that may join others
_KEYS = ("id", "key", "uuid", "code", "slug", "nr", "number")
_MOST_COUNTED = 200_000  # rows of a table without a key in which one is looked for
_MADE_KEY = "row_key"
# Of the values of a column that is called like a table, so many are keys of it: others refer to what is gone.
_MOSTLY = 0.9
_TEXTS = ("CHAR", "TEXT", "CLOB", "UUID", "ENUM")
_TIMES = ("DATE", "TIME")
_WHOLE = ("INT", "SERIAL")


class FoundTable(NamedTuple):
    """A table or a view: what sort of values its columns have, its key, the tables that columns refer to.

    Sorts are ``text``, ``whole``, ``time`` or nothing. ``size`` is how many rows it has, ``query`` asks for
    all of them; it ``is_made`` with a key if the table has none.
    """

    name: str
    columns: Mapping[str, str]
    key: str
    refers: Mapping[str, str]
    size: int
    query: str
    is_view: bool = False
    is_made: bool = False

    def values_of(self, connection: Connection, column: str, most: int) -> dict[str, int]:
        """Return the first few values of a column, with how many rows have each."""
        from sqlalchemy import text

        name, query = quoted_name(connection, column), self.query.replace(":", "\\:")
        counted = f"SELECT {name}, COUNT(*) FROM ({query}) AS counted_rows"
        sql = f"{counted} WHERE {name} IS NOT NULL GROUP BY {name} ORDER BY {name} LIMIT {most}"
        return {str(value): count for value, count in connection.execute(text(sql))}


def prefix_of(names: Sequence[str]) -> str:
    """Return what the names of all tables begin with, up to an underscore."""
    first = names[0].partition("_")[0] if names else ""
    shared = f"{first}_"
    return shared if len(names) > 1 and all(name.startswith(shared) for name in names) else ""


def found_tables(connection: Connection, left: dict[str, int]) -> dict[str, FoundTable]:
    """Return the tables and views of a database; note in ``left`` what cannot be read of it."""
    from sqlalchemy import inspect
    from sqlalchemy.exc import SQLAlchemyError

    known = inspect(connection)
    found: dict[str, FoundTable] = {}
    views = known.get_view_names()
    for name in (*known.get_table_names(), *views):
        is_view = name in views
        try:
            with connection.begin_nested():  # what fails in it costs this table only
                found[name] = _TableReading(connection, known, name).table(is_view=is_view)
        except (SQLAlchemyError, KeyError):
            left[f"the {'view' if is_view else 'table'} {name} (cannot be read)"] = 1
    references = _References(connection, found)
    return {name: table._replace(refers=references.of(table)) for name, table in found.items()}


class _TableReading:
    """What is read of one table."""

    def __init__(self, connection: Connection, known: Inspector, name: str) -> None:
        self.connection = connection
        self.known = known
        self.name = name
        self.preparer = connection.dialect.identifier_preparer
        self.quote = partial(quoted_name, connection)

    def one(self, sql: str) -> Any:
        """Return the one value of a query."""
        from sqlalchemy import text

        return self.connection.execute(text(sql)).scalar()

    def table(self, *, is_view: bool) -> FoundTable:
        """Return the table."""
        columns = self.columns()
        keys = [] if is_view else self.known.get_pk_constraint(self.name).get("constrained_columns") or []
        declared = [] if is_view else self.known.get_foreign_keys(self.name)
        refers = {
            each["constrained_columns"][0]: str(each["referred_table"])
            for each in declared
            if len(each["constrained_columns"]) == 1
        }
        query = f"SELECT * FROM {self.preparer.quote(self.name)}"
        size = self.one(f"SELECT COUNT(*) FROM {self.quote(self.name)}") or 0
        key = str(keys[0]) if len(keys) == 1 else self.unique(columns, size)
        is_made = not key
        if is_made:
            told = list(map(str, keys)) or list(columns)
            key, query = _MADE_KEY, self.with_key(told, is_declared=bool(keys), is_view=is_view)
        return FoundTable(self.name, columns, key, refers, size, query, is_view, is_made)

    def columns(self) -> dict[str, str]:
        """Return the sorts of columns: as declared, or by their values if a right on the view is missing."""
        from sqlalchemy import text
        from sqlalchemy.exc import SQLAlchemyError

        try:
            with self.connection.begin_nested():
                told = self.known.get_columns(self.name)
            return {str(each["name"]): _sort(str(each["type"]).upper()) for each in told}
        except (SQLAlchemyError, KeyError):
            result = self.connection.execute(text(f"SELECT * FROM {self.quote(self.name)} LIMIT 100"))
            rows = result.fetchall()
            return {name: _sort_of_values([row[at] for row in rows]) for at, name in enumerate(result.keys())}

    def unique(self, columns: Mapping[str, str], size: int) -> str:
        """Return a column that tells rows apart without being declared to; nothing if there is none."""
        able = [column for column, sort in columns.items() if sort in ("text", "whole")]
        able = [column for column in able if column.lower() in _KEYS]
        able.sort(key=lambda column: _KEYS.index(column.lower()))
        for column in able if 0 < size <= _MOST_COUNTED else ():
            counted = f"SELECT COUNT(DISTINCT {self.quote(column)}) FROM {self.quote(self.name)}"
            if self.one(counted) == size:
                return column
        return ""

    def with_key(self, columns: Sequence[str], *, is_declared: bool, is_view: bool) -> str:
        """Return a query for all rows, with a key that is made of some columns.

        It is the values of those that are declared to be the key. Otherwise it is a digest of all columns; in
        SQLite, the number that each row of a table has, or all values of a view.
        """
        names = [f"COALESCE(CAST({self.preparer.quote(name)} AS {self.text_type}), '')" for name in columns]
        if self.connection.dialect.name == "sqlite":
            key = " || '/' || ".join(names) if is_declared or is_view else "CAST(rowid AS TEXT)"
        else:
            listed = ", '/', ".join(names)
            key = f"CONCAT({listed})" if is_declared else f"MD5(CONCAT({listed}))"
        table = self.preparer.quote(self.name)
        return f"SELECT {table}.*, {key} AS {_MADE_KEY} FROM {table}"

    @property
    def text_type(self) -> str:
        """The type of texts of any length."""
        return "CHAR" if self.connection.dialect.name == "mysql" else "TEXT"


def _sort(declared: str) -> str:
    """Return the sort of values of a type."""
    if any(each in declared for each in _TIMES):
        return "time"
    if any(each in declared for each in _WHOLE):
        return "whole"
    return "text" if not declared or any(each in declared for each in _TEXTS) else ""


def _sort_of_values(values: Sequence[Any]) -> str:
    kinds = {type(value) for value in values if value is not None}
    return "whole" if kinds == {int} else "text" if kinds == {str} else ""


class _References:
    """Which columns hold keys of other tables."""

    def __init__(self, connection: Connection, tables: Mapping[str, FoundTable]) -> None:
        self.connection = connection
        self.tables = tables
        prefix = prefix_of(list(tables))
        self.able = [table for table in tables.values() if table.key and not table.is_view]
        self.called = {table.name: singular(table.name[len(prefix) :].lower()) for table in self.able}
        self.quote = partial(quoted_name, connection)

    def of(self, table: FoundTable) -> dict[str, str]:
        """Return the columns of a table that hold keys of others: as declared, named, or by their values."""
        found = {column: target for column, target in table.refers.items() if target in self.tables}
        for column in table.columns:
            if column in found or column == table.key or table.columns[column] not in ("text", "whole"):
                continue
            for target, share in self.likely(table, column):
                if self.share_of_keys(table, column, target) >= share:
                    found[column] = target.name
                    break
        return found

    def likely(self, table: FoundTable, column: str) -> Iterator[tuple[FoundTable, float]]:
        """Yield the tables whose keys a column may hold, the likeliest first, and what share must be."""
        stem = _stem(column)
        if column.lower() in UPPER_KEYS:
            yield table, _MOSTLY
            return
        alike = [each for each in self.able if self.called[each.name] == singular(stem)]
        if stem != column.lower():
            yield from ((each, _MOSTLY) for each in alike)
        is_writer = singular(stem) in words("keys.writers") or column.lower().endswith("_by")
        if is_writer:
            people = words("keys.persons")
            yield from (
                (each, _MOSTLY) for each in self.able if set(self.called[each.name].split("_")) & people
            )
        if len(table.columns) <= _NARROW and not table.refers and not table.is_view:
            rest = [each for each in self.able if each.name != table.name]
            rest.sort(key=lambda each: (each not in alike, stem not in each.name.lower(), -each.size))
            yield from ((each, 1.0) for each in rest)

    def share_of_keys(self, table: FoundTable, column: str, target: FoundTable) -> float:
        """Return the share of the values of a column that are keys of a table; the number 0 is no value."""
        from sqlalchemy import text
        from sqlalchemy.exc import SQLAlchemyError

        if table.columns[column] != target.columns.get(target.key) or table.is_view or target.is_made:
            return 0.0
        name = self.quote(column)
        some = f"{name} <> 0" if table.columns[column] == "whole" else f"{name} IS NOT NULL"
        begin = f"SELECT COUNT(*) FROM {self.quote(table.name)} WHERE {some}"
        keys = f"SELECT {self.quote(target.key)} FROM {self.quote(target.name)}"
        try:
            with self.connection.begin_nested():  # types may be compared that cannot be
                count = self.connection.execute(text(begin)).scalar() or 0
                hits = self.connection.execute(text(f"{begin} AND {name} IN ({keys})")).scalar() or 0
        except SQLAlchemyError:
            return 0.0
        return float(hits / count) if count else 0.0


def _stem(column: str) -> str:
    """Return the name of a column without the end that says that it holds keys."""
    return column.lower().removesuffix("id").rstrip("_") or column.lower()
