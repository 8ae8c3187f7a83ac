"""What is read of a database: the rows of a source, their keys, and what other tables say of them."""

from __future__ import annotations

import errno
import json
import re
from collections import defaultdict
from contextlib import suppress
from functools import partial
from hashlib import blake2b
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.errors import did_you_mean
from elenchus.sources._blocks import without_markup
from elenchus.sources._connection import quoted_name
from elenchus.sources._keys import is_omitted
from elenchus.sources._spec import TableSpec
from elenchus.sources._table_pulse import Watched, pulse_of
from elenchus.values.kept import cached_property
from elenchus.values.texts import nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from sqlalchemy import Connection
    from sqlalchemy.engine import Inspector

    from elenchus.sources._spec import SourceSpec, TermsSpec

__all__ = ["Shape", "Structured"]

_PART = 10_000  # rows that are taken at once while all are looked at
_IN = 500  # keys that one question names
_SHOWN = 20  # names that a message lists
_SORTS = {"date": "Date", "yesno": "Boolean", "whole": "Integer", "real": "Numeric", "json": "JSON"}
_DEEPEST = 50  # terms below one another


class _Side(NamedTuple):
    """What a query reads of another table about the rows, whose keys it has in the column ``entry``.

    Of a taxonomy, ``columns`` has that of the term; else those of the name of a field and of its value.
    """

    source: str
    entry: str
    columns: tuple[str, ...]
    terms: TermsSpec | None = None


class Structured(NamedTuple):
    """How a statement compares a column with the list or object ``:before``, and writes ``:after``."""

    compared: str
    written: str = ":after"
    is_json: bool = True


class Shape:
    """What a source reads of a database. Raises OSError where something of it is not there."""

    def __init__(self, spec: SourceSpec, connection: Connection) -> None:
        self.spec = spec
        self.table = spec.table or TableSpec()
        self.connection = connection
        self.quote = partial(quoted_name, connection)
        self.sorts: dict[str, dict[str, tuple[str, bool]]] = {}  # of columns, by table
        self.bound: dict[str, Any] = {}  # the values of its conditions, by their names in queries
        if query := self.table.query.strip().rstrip(";"):
            self.source = f"({query.replace(':', chr(92) + ':')}) AS rows_of_site"
            told = self.run(f"SELECT * FROM {self.source} WHERE 1 = 0")
            self.names, primary = list(told.keys()), ""
        else:
            self.names, primary = self.columns(self.table.table)
            self.source = self.narrowed(self.table.table, self.table.where)
        key = self.table.key or primary or ("id" if "id" in self.names else "")
        if not key:
            raise OSError(errno.EINVAL, 'no column tells its rows apart; write key = "…"')
        self.checked(key, self.names, self.spec.name)
        if self.table.updated:
            self.checked(self.table.updated, self.names, self.spec.name)
        needed = {key, self.table.updated}
        self.names = [name for name in self.names if name in needed or not is_omitted(name, spec.omit)]
        self.key_at = self.names.index(key)
        self.updated = self.quote(self.table.updated) if self.table.updated else ""
        self.key = self.quote(key)
        self.watched = Watched(tuple(self.names), key, is_cast=False)
        # A column of SQLite holds values of any type; a blob names no row.
        types = f"typeof({self.key}) IN ('integer', 'text', 'real')"
        self.has_key = types if connection.dialect.name == "sqlite" else f"{self.key} IS NOT NULL"
        first = self.run(f"SELECT {self.key} FROM {self.source} WHERE {self.has_key} LIMIT 1").scalar()
        self.is_whole = isinstance(first, int)
        if first is not None and not isinstance(first, (int, str)):
            kind = "CHAR(191)" if connection.dialect.name == "mysql" else "VARCHAR(191)"
            self.key = f"CAST({self.key} AS {kind})"
            self.watched = self.watched._replace(is_cast=True)
        self.sides = [
            self.side(each.table, each.entry, (each.term,), {} if each.names else each.where, each)
            for each in self.table.terms
        ]
        if extras := self.table.extras:
            self.sides.append(
                self.side(extras.table, extras.entry, (extras.name, extras.value), extras.where)
            )
        # The names of terms by their keys, and the slugs by those names.
        self.paths: dict[str, dict[Any, str]] = {}
        self.own_slugs: dict[str, dict[str, str]] = {}
        for side in self.sides:
            if side.terms:
                found = self.terms(side.terms)
                self.paths[side.terms.taxonomy] = {key: path for key, (path, _) in found.items()}
                if side.terms.names:
                    slugs = {path: slug for path, slug in found.values() if slug}
                    self.own_slugs[side.terms.taxonomy] = slugs

    # what is there

    @cached_property
    def known(self) -> Inspector:
        """What tells which tables and columns there are, each asked for once."""
        from sqlalchemy import inspect

        return inspect(self.connection)

    def run(self, sql: str, **values: Any) -> Any:
        """Return the result of a query; names with a colon in it stand for values."""
        from sqlalchemy import text

        return self.connection.execute(text(sql), {**self.bound, **values})

    def named(self, table: str) -> str:
        """Return a table as a query names it, with the prefix of the source."""
        return self.quote_table(f"{self.table.prefix}{table}")

    def narrowed(self, table: str, where: Mapping[str, Any]) -> str:
        """Return what a query reads of a table: those rows whose columns have some values."""
        if not where:
            return self.named(table)
        known, _ = self.columns(table)
        parts = []
        for column, value in where.items():
            self.checked(column, known, f"{self.table.prefix}{table}")
            name = f"where{len(self.bound)}"
            self.bound[name] = str(value) if self.connection.dialect.name == "postgresql" else value
            parts.append(f"{self.quote(column)} = :{name}")
        return f"(SELECT * FROM {self.named(table)} WHERE {' AND '.join(parts)}) AS rows_of_site"

    def quote_table(self, table: str) -> str:
        """Return the whole name of a table as a query has it."""
        schema, _, name = table.rpartition(".")
        return ".".join(self.quote(each) for each in (schema, name) if each)

    def columns(self, table: str) -> tuple[list[str], str]:
        """Return the names of the columns of a table, and its primary key where that is one of them."""
        schema, _, name = f"{self.table.prefix}{table}".rpartition(".")
        known = self.known
        tables = [*known.get_table_names(schema=schema or None), *known.get_view_names(schema=schema or None)]
        self.checked(name, tables, self.spec.name, what="table")
        found = [str(each["name"]) for each in known.get_columns(name, schema=schema or None)]
        primary = known.get_pk_constraint(name, schema=schema or None).get("constrained_columns") or []
        return found, primary[0] if len(primary) == 1 else ""

    def checked(self, name: str, known: Sequence[str], where: str, what: str = "column") -> None:
        """Raise OSError where there is no such column or table."""
        if name not in known:
            listed = ", ".join(sorted(known)[:_SHOWN]) or "none"
            hint = did_you_mean(nearest(name, known)) or f"There are {listed}."
            raise OSError(errno.ENOENT, f"{where} has no {what} {quoted(name)}. {hint}")

    def side(
        self,
        table: str,
        entry: str,
        columns: tuple[str, ...],
        where: Mapping[str, Any],
        terms: TermsSpec | None = None,
    ) -> _Side:
        """Return another table, whose columns are there."""
        known, _ = self.columns(table)
        for each in (entry, *columns):
            self.checked(each, known, f"{self.table.prefix}{table}")
        return _Side(self.narrowed(table, where), entry, columns, terms)

    @cached_property
    def types(self) -> dict[str, tuple[str, bool]]:
        """The sort of values that each column of the table takes, and whether it may have none."""
        return self.types_of(f"{self.table.prefix}{self.table.table}")

    def types_of(self, table: str) -> dict[str, tuple[str, bool]]:
        """Return the sorts of values of the columns of a table, by its whole name; looked up once."""
        if table in self.sorts:
            return self.sorts[table]
        schema, _, name = table.rpartition(".")
        told = self.known.get_columns(name, schema=schema or None)
        found = {str(each["name"]): (_sort(each["type"]), bool(each.get("nullable", True))) for each in told}
        for column in self.checked_as_json(name, schema):
            found[column] = "json", found[column][1]
        self.sorts[table] = found
        return found

    def checked_as_json(self, name: str, schema: str) -> list[str]:
        """Return the columns of JSON in MariaDB: those of texts that it checks to be such."""
        if not getattr(self.connection.dialect, "is_mariadb", False):
            return []
        told = self.run(_JSON_CHECKS, table=name, schema=schema or None).scalars()
        return [match[1] for each in told if (match := _JSON_CHECK.fullmatch(str(each)))]

    @cached_property
    def in_json(self) -> list[int]:
        """The places of columns whose JSON the driver gives as a text."""
        if self.table.query or self.connection.dialect.name == "postgresql":
            return []
        return [at for at, name in enumerate(self.names) if self.types.get(name, ("",))[0] == "json"]

    def structured(self, table: str, column: str) -> Structured:
        """Return how a statement deals with a column that holds lists or objects.

        JSON is compared by what it says, and not by how it is written.
        """
        dialect, quoted = self.connection.dialect, self.quote(column)
        sort = self.types_of(table).get(column, ("", True))[0]
        if sort == "array":
            schema, _, name = table.rpartition(".")
            told = self.known.get_columns(name, schema=schema or None)
            kind = next(each["type"] for each in told if each["name"] == column).compile(dialect=dialect)
            return Structured(f"{quoted} = CAST(:before AS {kind})", f"CAST(:after AS {kind})", is_json=False)
        if dialect.name == "postgresql":  # of its two types for JSON, one has no equal sign
            return Structured(f"CAST({quoted} AS jsonb) = CAST(:before AS jsonb)")
        if dialect.name == "sqlite":
            return Structured(f"json({quoted}) = json(:before)")
        if getattr(dialect, "is_mariadb", False):
            return Structured(f"JSON_EQUALS({quoted}, :before)")
        return Structured(f"{quoted} = CAST(:before AS JSON)")

    def trial_key(self, table: str, values: Mapping[str, Any]) -> dict[str, int]:
        """Return a key for a row that is taken back, so that the counter of its table stays where it is."""
        if self.connection.dialect.name == "sqlite":  # which takes that back, too
            return {}
        schema, _, name = table.rpartition(".")
        keys = self.known.get_pk_constraint(name, schema=schema or None)["constrained_columns"]
        if len(keys) != 1 or keys[0] in values or self.types_of(table)[keys[0]][0] != "whole":
            return {}
        column, source = self.quote(keys[0]), self.quote_table(table)
        if self.connection.dialect.name == "postgresql":
            last = self.run(f"SELECT MAX({column}) FROM {source}").scalar() or 0
            return {keys[0]: last + 1}
        # MariaDB counts on from what is written down, and never back: only a number below the first is safe.
        lowest = self.run(f"SELECT MIN({column}) FROM {source}").scalar()
        return {keys[0]: min(lowest, 0) - 1} if lowest is not None else {}

    # how it has changed

    def pulse(self) -> list[str]:
        """Return what any change of the tables changes; nothing for a file, whose signature tells that."""
        sort = self.connection.dialect.name
        if sort == "sqlite":
            return []

        def run(sql: str, values: tuple[Any, ...]) -> tuple[Sequence[str], Sequence[Sequence[Any]]]:
            result = self.connection.exec_driver_sql(sql, values)
            return list(result.keys()), result.fetchall()

        return pulse_of(run, self.spec, sort, self.watched)

    def keyless(self, count: int) -> int:
        """Return how many rows have no key that names them, given how many have one."""
        return int(self.run(f"SELECT COUNT(*) FROM {self.source}").scalar()) - count

    def newest(self) -> str:
        """Return the last time at which a row was changed, as the database says it."""
        if not self.updated:
            return ""
        newest = f"MAX({self.updated})"
        if self.connection.dialect.name == "postgresql":  # as the texts of the rows are
            newest = f"CAST({newest} AS text)"
        return str(self.run(f"SELECT {newest} FROM {self.source}").scalar())

    def key_parts(self) -> Iterator[tuple[list[Any], list[str]]]:
        """Yield the keys of rows in their order, some thousands at a time, and what these say of changes."""
        if self.connection.dialect.name == "postgresql" and self.updated:
            yield from self.joined_key_parts()
            return
        more = f", {self.updated}" if self.updated else ""
        order = f"WHERE {self.has_key} ORDER BY {self.key}"
        for part in self.parts(f"SELECT {self.key}{more} FROM {self.source} {order}"):
            keys, *updated = zip(*part, strict=True)
            yield list(keys), list(map(str, updated[0])) if updated else []

    def joined_key_parts(self) -> Iterator[tuple[list[Any], list[str]]]:
        """Yield the same from PostgreSQL, which joins the texts of a part, so that few objects are made.

        A part with a text in which the sign stands that is put between them is asked for row by row.
        """
        rows = (
            f"SELECT CAST({self.key} AS text) AS k, COALESCE(CAST({self.updated} AS text), 'None') AS u,"
            f" row_number() OVER (ORDER BY {self.key}) - 1 AS n"
            f" FROM {self.source} WHERE {self.key} IS NOT NULL"
        )
        joined = "string_agg(k, chr(31) ORDER BY n), string_agg(u, chr(31) ORDER BY n)"
        parts = f"SELECT count(*), min(n), {joined} FROM ({rows}) AS numbered GROUP BY n / {_PART}"
        for count, first, *texts in self.streamed(f"{parts} ORDER BY min(n)"):
            keys, updated = (text.split("\x1f") for text in texts)
            if not len(keys) == len(updated) == count:
                bounds = f"n >= {first} AND n < {first + count}"
                found = self.run(
                    f"SELECT k, u FROM ({rows}) AS numbered WHERE {bounds} ORDER BY n"
                ).fetchall()
                keys, updated = [row[0] for row in found], [row[1] for row in found]
            yield list(map(int, keys)) if self.is_whole else keys, updated

    def all_of(self, side: _Side) -> Iterator[Any]:
        """Yield all rows of another table: the entry, then the columns."""
        columns = ", ".join(map(self.quote, (side.entry, *side.columns)))
        return self.streamed(f"SELECT {columns} FROM {side.source}")

    def parts(self, sql: str) -> Iterator[Sequence[Any]]:
        """Yield rows, some thousands at a time, without holding all of them."""
        from sqlalchemy import text

        options = {"stream_results": True}
        result = self.connection.execute(text(sql), self.bound, execution_options=options)
        unread: Any = getattr(result.cursor, "_result", None)
        try:
            yield from result.partitions(_PART)
        except Exception:
            # PyMySQL reads on when a result goes, and writes a traceback if the connection is lost.
            if hasattr(unread, "unbuffered_active"):
                unread.unbuffered_active = False
            raise

    def streamed(self, sql: str) -> Iterator[Any]:
        """Yield rows without holding all of them."""
        for part in self.parts(sql):
            yield from part

    @property
    def names_digest(self) -> str:
        """A digest of the names of all terms."""
        told = repr(sorted((name, sorted(paths.items(), key=repr)) for name, paths in self.paths.items()))
        return blake2b(told.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()

    # what it holds

    def rows(self, low: Any, high: Any) -> list[Any]:
        """Return the rows between two keys, in their order."""
        columns = ", ".join(self.quote(name) for name in self.names)
        between = f"{self.key} >= :low AND {self.key} <= :high"
        sql = f"SELECT {columns} FROM {self.source} WHERE {between} ORDER BY {self.key}"
        result = self.run(sql, low=low, high=high)
        # As the driver gives them: to wrap each so that its columns have names takes as long as reading it.
        found = list(result.cursor.fetchall())
        result.close()
        return [self.with_json(row) for row in found] if self.in_json else found

    def with_json(self, row: Sequence[Any]) -> tuple[Any, ...]:
        """Return a row with what its columns of JSON say."""
        values = list(row)
        for at in self.in_json:
            if isinstance(values[at], str):
                with suppress(ValueError, RecursionError):
                    values[at] = json.loads(values[at])
        return tuple(values)

    def names_above(self, keys: Sequence[Any]) -> dict[str, str]:
        """Return what the rows of some keys are called, in a table whose rows are of several kinds."""
        column = self.spec.kind.strip("{}")
        if not keys or column == self.spec.kind or column not in self.names:
            return {}
        found = {}
        for part in _batches(keys):
            bound = {f"k{at}": key for at, key in enumerate(part)}
            names = ", ".join(f":{name}" for name in bound)
            asked = (
                f"SELECT {self.key}, {self.quote(column)} FROM {self.source} WHERE {self.key} IN ({names})"
            )
            for key, word in self.run(asked, **bound):
                found[str(key)] = f"{self.spec.kinds.get(str(word), str(word))}/{key}"
        return found

    def others(self, keys: Sequence[Any]) -> dict[str, dict[Any, Any]]:
        """Return what other tables say of some rows: by field and key, a value or a list of values."""
        found: dict[str, dict[Any, list[Any]]] = defaultdict(lambda: defaultdict(list))
        for side in self.sides if keys else ():
            for entry, *told in self.about(side, keys):
                if side.terms:
                    paths, term = self.paths[side.terms.taxonomy], told[0]
                    if term in paths or not side.terms.where:  # else it is a term of another taxonomy
                        found[side.terms.taxonomy][entry].append(paths.get(term, term))
                elif told[0] is not None:
                    found[str(told[0])][entry].append(told[1])
        return {
            field: {key: values[0] if len(values) == 1 else values for key, values in by_key.items()}
            for field, by_key in found.items()
        }

    def about(self, side: _Side, keys: Sequence[Any]) -> Iterator[Any]:
        """Yield what another table says of some rows."""
        entry = self.quote(side.entry)
        columns = ", ".join((entry, *map(self.quote, side.columns)))
        begin, order = f"SELECT {columns} FROM {side.source} WHERE", f"ORDER BY {columns}"
        if self.is_whole:
            between = f"{entry} >= :low AND {entry} <= :high"
            yield from self.run(f"{begin} {between} {order}", low=keys[0], high=keys[-1])
            return
        for some in _batches(keys):
            part = {f"k{at}": key for at, key in enumerate(some)}
            yield from self.run(
                f"{begin} {entry} IN ({', '.join(f':{name}' for name in part)}) {order}", **part
            )

    def terms(self, terms: TermsSpec) -> dict[Any, tuple[str, str]]:
        """Return the names of terms by their keys, those of a tree with all above them, and their slugs."""
        if not terms.names:
            return {}
        wanted = [terms.key, terms.name, terms.slug or terms.name, terms.parent or terms.key]
        known, _ = self.columns(terms.names)
        for each in wanted:
            self.checked(each, known, f"{self.table.prefix}{terms.names}")
        columns = ", ".join(map(self.quote, wanted))
        rows = self.streamed(f"SELECT {columns} FROM {self.narrowed(terms.names, terms.where)}")
        is_html = self.spec.texts == "html"
        told = {
            key: _TermRow(
                without_markup(str(name)) if is_html else str(name),
                str(slug or "") if terms.slug else "",
                above if terms.parent else None,
            )
            for key, name, slug, above in rows
            if name not in (None, "")
        }
        return {key: (_path(told, key), each.slug) for key, each in told.items()}


def _sort(declared: Any) -> str:
    """Return the sort of values that a type of a column takes."""
    from sqlalchemy import types

    name = type(declared).__name__.upper()
    if isinstance(declared, types.ARRAY):
        return "array"
    if isinstance(declared, types.DateTime):
        return "instant" if declared.timezone else "time"
    for sort, kind in _SORTS.items():
        if isinstance(declared, getattr(types, kind)):
            return sort
    return "json" if name in ("JSON", "JSONB") else "text"


def _batches(keys: Sequence[Any]) -> Iterator[Sequence[Any]]:
    """Yield keys, as many at a time as one question names."""
    return (keys[first : first + _IN] for first in range(0, len(keys), _IN))


_JSON_CHECKS = (
    "SELECT CHECK_CLAUSE FROM information_schema.CHECK_CONSTRAINTS"
    " WHERE CONSTRAINT_SCHEMA = COALESCE(:schema, DATABASE()) AND TABLE_NAME = :table"
)
_JSON_CHECK = re.compile(r"\s*json_valid\(`(.+)`\)\s*", re.IGNORECASE)


class _TermRow(NamedTuple):
    """A term of a table: its name, its slug, and the key of the one above it."""

    name: str
    slug: str
    above: Any


def _path(told: dict[Any, _TermRow], key: Any) -> str:
    """Return the name of a term after those above it, separated by slashes; a circle ends where it closes."""
    steps: list[str] = []
    seen: set[Any] = set()
    while key in told and key not in seen and len(steps) < _DEEPEST:
        seen.add(key)
        steps.append(told[key].name)
        key = told[key].above
    return "/".join(reversed(steps))
