"""What the tables of a database seem to be: entries, terms with what joins them, more fields of entries."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from elenchus.frozen import replace
from elenchus.sources import ExtrasSpec, SourceSpec, TableSpec, TermsSpec, connected, refusals
from elenchus.starting.leaving import is_content_table
from elenchus.starting.plurals import singular
from elenchus.starting.schemas import UPPER_KEYS, FoundTable, found_tables, prefix_of
from elenchus.starting.unsure import Unsure
from elenchus.starting.vocabulary import words
from elenchus.values.slugs import slugify

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from pathlib import Path

    from sqlalchemy import Connection

__all__ = ["TableFound", "table_specs"]

_NAMES = ("name", "key", "field")
_VALUES = ("value", "content", "data")
_LABELS = ("name", "title", "label", "term")
_SLUGS = ("slug", "alias", "code", "key")
_MOST_OF_TERMS = 6  # columns of a table of terms
_MOST_SORTS = 12  # taxonomies that a column can divide terms into


class TableFound(NamedTuple):
    """A source for a table of entries, with the tables that columns refer to.

    ``size`` is how many rows it has, ``few`` the source of the first of them.
    """

    spec: SourceSpec
    refers: Mapping[str, str]
    size: int
    few: SourceSpec
    unsure: Sequence[Unsure] = ()


def table_specs(root: Path, spec: SourceSpec, most: int, left: dict[str, int]) -> list[TableFound]:
    """Return the tables of entries in a database, and what reads up to ``most`` rows of each.

    What is no content, or cannot be read, is noted in ``left``. Raises OSError.
    """
    with connected(replace(spec, table=spec.table or TableSpec()), root) as connection, refusals(spec):
        tables = found_tables(connection, left)
        prefix = prefix_of(list(tables))
        for name in list(tables):
            if not is_content_table(name[len(prefix) :]):
                left[f"the table {name}"] = 1
                del tables[name]
        roles = _Roles(connection, tables, prefix, left)
        return [roles.entries_of(spec, table, most) for table in roles.of_entries()]


class _Roles:
    """The tables of a database, and what each is to the others."""

    def __init__(
        self, connection: Connection, tables: Mapping[str, FoundTable], prefix: str, left: dict[str, int]
    ) -> None:
        self.connection = connection
        self.tables = tables
        self.prefix = prefix
        self.left = left
        self.joins = {name: table for name, table in tables.items() if self.is_join(table)}
        self.extras = {
            name: columns
            for name, table in tables.items()
            if name not in self.joins and (columns := _value_columns(table)) and table.refers
        }
        rest = [name for name in tables if name not in self.joins and name not in self.extras]
        pairs = [self.sides(table) for table in self.joins.values()]
        self.terms = {terms for _, terms in pairs if terms}
        self.terms |= {  # a name for each of some rows, to which entries refer by themselves
            target
            for name in rest
            for target in tables[name].refers.values()
            if target != name and target in rest and self.are_terms(tables[target])
        }

    def short(self, name: str) -> str:
        """Return the name of a table without what all begin with."""
        return name[len(self.prefix) :]

    def is_join(self, table: FoundTable) -> bool:
        """Say whether a table does nothing but join two others."""
        own = [column for column in table.columns if column != table.key]
        more = [
            column
            for column in own
            if column not in table.refers and column.lower() not in words("keys.joining")
        ]
        return len(table.refers) == 2 and not more and not table.is_view  # noqa: PLR2004 - what it joins

    def sides(self, join: FoundTable) -> tuple[str, str]:
        """Return the table of entries and that of terms that a table joins; no terms if both are one."""
        first, second = join.refers.values()
        if first == second:
            self.left[f"the table {join.name} (joins rows of {first})"] = 1
            return first, ""
        found = sorted(
            (first, second), key=lambda name: (len(self.tables[name].columns), self.tables[name].size)
        )
        terms, entries = found
        return entries, terms

    def are_terms(self, table: FoundTable) -> bool:
        """Say whether a table has little more than names of something."""
        called = {singular(word) for word in self.short(table.name).lower().split("_")}
        if called & words("keys.persons") or not table.key or table.is_view:
            return False
        is_plain = len(table.columns) <= _MOST_OF_TERMS and "time" not in table.columns.values()
        refers = any(column.lower() not in UPPER_KEYS for column in table.refers)
        return is_plain and not refers and any(column.lower() in _LABELS for column in table.columns)

    def of_entries(self) -> Iterator[FoundTable]:
        """Yield the tables and views whose rows are entries."""
        for name, table in self.tables.items():
            if name in self.joins or name in self.extras or name in self.terms:
                continue
            source = self.shown_by(table) if table.is_view else ""
            if source:
                self.left[f"the view {name} (shows rows of {source})"] = 1
            elif table.size:
                yield table
            else:
                self.left[f"the table {name} (without rows)"] = 1

    def shown_by(self, view: FoundTable) -> str:
        """Return the table whose rows a view shows, by their keys and most of their columns; or nothing."""
        for table in self.tables.values():
            shared = view.columns.keys() & table.columns.keys()
            if not table.is_view and view.key in shared and len(shared) * 2 > len(view.columns):
                return table.name
        return ""

    def entries_of(self, spec: SourceSpec, table: FoundTable, most: int) -> TableFound:
        """Return the source of a table of entries."""
        unsure: list[Unsure] = []
        terms = list(self.terms_of(table, unsure))
        extras = None
        for name, (key, value) in self.extras.items():
            refers = self.tables[name].refers
            entry = next((column for column, target in refers.items() if target == table.name), "")
            if entry:
                extras = ExtrasSpec(self.short(name), entry, key, value)
        updated = next((column for column in table.columns if column.lower() in words("keys.updated")), "")
        query = table.query if table.is_made else ""
        shape = replace(
            spec.table or TableSpec(),
            table="" if query else self.short(table.name),
            query=query,
            prefix=self.prefix,
            key=table.key,
            updated=updated,
            terms=tuple(terms),
            extras=extras,
        )
        name = slugify(self.short(table.name))
        kind = singular(self.short(table.name))
        whole = replace(spec, name=name, table=shape, kind=kind, omit=(table.key,) if query else ())
        if extras:
            whole = replace(whole, omit=(*whole.omit, "_*"))
        few = replace(whole, table=replace(shape, table="", query=f"{table.query} LIMIT {most}"))
        gone = {each.term for each in terms if each.table == shape.table}
        refers = {
            column: self.short(target)
            for column, target in table.refers.items()
            if target not in self.terms and column not in gone
        }
        return TableFound(whole, refers, table.size, few if table.size > most else whole, unsure)

    def terms_of(self, table: FoundTable, unsure: list[Unsure]) -> Iterator[TermsSpec]:
        """Yield where the terms of the rows of a table are."""
        for join in self.joins.values():
            entries, terms = self.sides(join)
            if terms and entries == table.name:
                columns = {target: column for column, target in join.refers.items()}
                yield from self.taxonomies(join.name, columns[entries], columns[terms], terms, unsure)
        for column, target in table.refers.items():
            if target in self.terms and table.key and not table.is_view:
                yield from self.taxonomies(table.name, table.key, column, target, unsure)

    def taxonomies(
        self, join: str, entry: str, term: str, names: str, unsure: list[Unsure]
    ) -> Iterator[TermsSpec]:
        """Yield the taxonomies that a table of terms makes: one, or one for each word that divides them."""
        table = self.tables[names]
        label, slug = _label(table), _named(table, _SLUGS)
        parent = _named(table, UPPER_KEYS)
        spec = TermsSpec(
            "", self.short(join), entry, term, self.short(names), table.key or "id", label, parent, slug
        )
        column, found = self.divided(table, {table.key, label, slug, parent})
        if not column:
            stem = term.lower().removesuffix("id").rstrip("_")
            yield replace(spec, taxonomy=slugify(stem) or slugify(self.short(names)))
            return
        listed = ", ".join(found)
        what = f"{column} of {names} divides terms into taxonomies ({listed})"
        unsure.append(Unsure(what, "the terms tables without where", "For one taxonomy, write"))
        for word in found:
            yield replace(spec, taxonomy=slugify(singular(word)), where={column: word})

    def divided(self, table: FoundTable, taken: set[str]) -> tuple[str, list[str]]:
        """Return the column that divides terms into taxonomies, and its values; nothing if there is none."""
        for column, sort in table.columns.items():
            if sort != "text" or column in taken or column in table.refers:
                continue
            found = table.values_of(self.connection, column, _MOST_SORTS + 1)
            counts = list(found.values())
            if 1 < len(found) <= _MOST_SORTS and sum(counts) == table.size and max(counts) > 1:
                names = [slugify(singular(word)) for word in found]
                if all(names) and len(set(names)) == len(names) and max(map(len, found)) <= 40:  # noqa: PLR2004
                    return column, list(found)
        return "", []


def _value_columns(table: FoundTable) -> tuple[str, str] | None:
    """Return the columns of the name and the value of a table of more fields; None for any other."""
    lower = {column.lower().rpartition("_")[2]: column for column in table.columns}
    name = next((lower[word] for word in _NAMES if word in lower), "")
    value = next((lower[word] for word in _VALUES if word in lower), "")
    own = [column for column in table.columns if column != table.key]
    return (name, value) if name and value and len(own) == 3 else None  # noqa: PLR2004 - and the entry


def _label(table: FoundTable) -> str:
    """Return the column with the name of a term."""
    texts = [column for column, sort in table.columns.items() if sort == "text"]
    return _named(table, _LABELS) or (texts[0] if texts else "name")


def _named(table: FoundTable, names: Sequence[str]) -> str:
    """Return the first column that has one of some names; nothing if none has."""
    lower = {column.lower(): column for column in table.columns if column != table.key}
    return next((lower[word] for word in names if word in lower), "")
