"""What the tables of a file of SQLite seem to be: entries, terms with what joins them, more fields."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from elenchus.frozen import replace
from elenchus.sources import ExtrasSpec, SourceSpec, TableSpec, TermsSpec, connected, refusals
from elenchus.starting.plurals import singular
from elenchus.values.slugs import slugify

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from pathlib import Path

    from sqlalchemy import Connection

__all__ = ["TableFound", "table_specs"]

_NAMES = ("name", "key", "field")
_VALUES = ("value", "content", "data")
_LABELS = ("name", "title", "label", "term")
_UPDATED = ("updated", "updated_at", "modified", "modified_at", "changed", "changed_at")
_NARROW = 4  # columns of a table that may join others
_LETTERS = ("CHAR", "TEXT", "CLOB", "")


class _FoundTable(NamedTuple):
    """A table: its columns with their types, its key, the tables that columns refer to.

    ``size`` is how many rows it has, ``first`` the query for all of them.
    """

    name: str
    columns: Mapping[str, str]
    key: str
    refers: Mapping[str, str]
    size: int = 0
    first: str = ""


class TableFound(NamedTuple):
    """A source for a table of entries, with the tables that columns refer to.

    ``size`` is how many rows it has, ``few`` the source of the first of them.
    """

    spec: SourceSpec
    refers: Mapping[str, str]
    size: int
    few: SourceSpec


def table_specs(root: Path, spec: SourceSpec, most: int) -> Iterator[TableFound]:
    """Yield the tables of entries in a database, and what reads up to ``most`` rows of each.

    One without a key is yielded, too: nothing tells its rows apart. Raises OSError.
    """
    tables = _tables(root, spec)
    prefix = _prefix(list(tables))
    short = {name: name[len(prefix) :] for name in tables}
    joins = {name: table for name, table in tables.items() if _is_join(table)}
    extras = {name: table for name, table in tables.items() if name not in joins and _value_columns(table)}
    named = {target for table in joins.values() for target in list(_targets(table, tables))[1:]}
    for name, table in tables.items():
        if name in joins or name in extras or name in named:
            continue
        terms = []
        for other in joins.values():
            targets = _targets(other, tables)
            if name in targets and len(targets) == 2:  # noqa: PLR2004 - what it joins
                [(term, names)] = [pair for pair in targets.items() if pair[0] != name]
                word = slugify(_stem(targets[term]))
                columns = tables[term].key or "id", _label(tables[term]), _parent(tables[term])
                terms.append(TermsSpec(word, short[other.name], targets[name], names, short[term], *columns))
        more = None
        for other in extras.values():
            entry = next((column for column, target in _referring(other, tables) if target == name), "")
            if entry:
                key, value = _value_columns(other) or ("", "")
                more = ExtrasSpec(short[other.name], entry, key, value)
        updated = next((column for column in table.columns if column.lower() in _UPDATED), "")
        shape = replace(
            spec.table or TableSpec(),
            table=short[name],
            prefix=prefix,
            key=table.key,
            updated=updated,
            terms=tuple(terms),
            extras=more,
        )
        refers = {
            column: short[target] for column, target in _referring(table, tables) if target not in named
        }
        whole = replace(spec, name=slugify(short[name]), table=shape)
        size, query = table.size, table.first
        few = replace(whole, table=replace(shape, table="", query=f"{query} LIMIT {most}"))
        yield TableFound(whole, refers, size, few if size > most else whole)


def _tables(root: Path, spec: SourceSpec) -> dict[str, _FoundTable]:
    """Return the tables of a database. Raises OSError."""
    from sqlalchemy import inspect, text

    found = {}
    with connected(replace(spec, table=spec.table or TableSpec()), root) as connection, refusals(spec):
        known = inspect(connection)
        for name in known.get_table_names():
            columns = {str(each["name"]): str(each["type"]).upper() for each in known.get_columns(name)}
            keys = known.get_pk_constraint(name).get("constrained_columns") or []
            refers = {
                each["constrained_columns"][0]: str(each["referred_table"])
                for each in known.get_foreign_keys(name)
                if len(each["constrained_columns"]) == 1
            }
            quoted = connection.dialect.identifier_preparer.quote(name)
            size = connection.execute(text(f"SELECT COUNT(*) FROM {quoted}")).scalar() or 0
            key = keys[0] if len(keys) == 1 else ""
            found[name] = _FoundTable(name, columns, key, refers, size, f"SELECT * FROM {quoted}")
        for table in found.values():
            if len(table.columns) <= _NARROW and not table.refers:
                found[table.name] = table._replace(refers=_by_values(connection, table, found))
    return found


def _by_values(
    connection: Connection, table: _FoundTable, tables: Mapping[str, _FoundTable]
) -> dict[str, str]:
    """Return the columns of a narrow table all of whose values are keys of another, with that one.

    Where several have such keys, it is the one that is called like the column, or else the largest.
    """
    from sqlalchemy import text

    quote = connection.dialect.identifier_preparer.quote
    found: dict[str, str] = {}
    for column in table.columns:
        fitting: list[tuple[bool, int, str]] = []
        for other in tables.values():
            if other.name == table.name or not other.key or column == table.key:
                continue
            if ("INT" in table.columns[column]) != ("INT" in other.columns[other.key]):
                continue
            keys = f"SELECT {quote(other.key)} FROM {quote(other.name)}"
            begin = f"SELECT COUNT(*) FROM {quote(table.name)} WHERE {quote(column)}"
            has_values = connection.execute(text(f"{begin} IS NOT NULL")).scalar()
            if has_values and not connection.execute(text(f"{begin} NOT IN ({keys})")).scalar():
                size = connection.execute(text(f"SELECT COUNT(*) FROM {quote(other.name)}")).scalar()
                fitting.append((_stem(column) in other.name.lower(), size or 0, other.name))
        if fitting:
            found[column] = max(fitting)[2]
    return found


def _prefix(names: Sequence[str]) -> str:
    """Return what the names of all tables begin with, up to a line."""
    first = names[0].partition("_")[0] if names else ""
    shared = f"{first}_"
    return shared if len(names) > 1 and all(name.startswith(shared) for name in names) else ""


def _referring(table: _FoundTable, tables: Mapping[str, _FoundTable]) -> Iterator[tuple[str, str]]:
    """Yield the columns that hold keys of other tables, as declared, or as their names say."""
    prefix = _prefix(list(tables))
    for column in table.columns:
        if column in table.refers:
            yield column, table.refers[column]
            continue
        stem = _stem(column)
        if stem != column.lower():
            alike = (name for name in tables if singular(name[len(prefix) :].lower()) == singular(stem))
            if name := next(alike, ""):
                yield column, name


def _stem(column: str) -> str:
    """Return the name of a column without the end that says that it holds keys."""
    return column.lower().removesuffix("id").rstrip("_") or column.lower()


def _targets(table: _FoundTable, tables: Mapping[str, _FoundTable]) -> dict[str, str]:
    """Return the tables that a table refers to, with its columns."""
    return {target: column for column, target in _referring(table, tables)}


def _is_join(table: _FoundTable) -> bool:
    """Say whether a table does nothing but join two others."""
    own = [column for column in table.columns if column != table.key]
    is_told = all(column.lower().endswith("id") or column in table.refers for column in own)
    return len(own) == 2 and is_told  # noqa: PLR2004 - what it joins


def _value_columns(table: _FoundTable) -> tuple[str, str] | None:
    """Return the columns of the name and the value of a table of more fields; None for any other."""
    lower = {column.lower().rpartition("_")[2]: column for column in table.columns}
    name = next((lower[word] for word in _NAMES if word in lower), "")
    value = next((lower[word] for word in _VALUES if word in lower), "")
    own = [column for column in table.columns if column != table.key]
    return (name, value) if name and value and len(own) == 3 else None  # noqa: PLR2004 - and the entry


def _label(table: _FoundTable) -> str:
    """Return the column with the name of a term."""
    lower = {column.lower(): column for column in table.columns}
    texts = [column for column, kind in table.columns.items() if any(each in kind for each in _LETTERS[:2])]
    return next((lower[word] for word in _LABELS if word in lower), texts[0] if texts else "name")


def _parent(table: _FoundTable) -> str:
    """Return the column with the key of the term above; nothing where terms have none."""
    lower = {column.lower(): column for column in table.columns}
    return next((lower[word] for word in ("parent", "parent_id") if word in lower), "")
