"""Which tables there are and what their columns hold: one description for writing, reading and the docs."""

from __future__ import annotations

import re
from hashlib import sha256
from itertools import accumulate, pairwise
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, TypeAlias

import numpy as np

from elenchus.frozen import Frozen, Working
from elenchus.schema.types import FieldType, Type
from elenchus.values.collation import sort_key

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.schema.types import Schema

__all__ = [
    "OWN_COLUMNS", "STATUS_COLUMNS", "TABLES", "UNKNOWN_STATUS", "VERSION", "ColumnSpec", "Exported",
    "Layout", "Sort", "StoredField", "TableLayout", "all_sortable", "create_statement", "family", "kept",
    "part", "schema_digest", "sortable", "sql_name", "sql_text", "types_of",
]  # fmt: skip

VERSION = 3

Sort: TypeAlias = Literal["text", "whole", "real", "yesno", "time"]

_LONGEST_NAME = 40  # of the 63 bytes that a name may have in some databases, so that parts fit behind it
_BEFORE_SURROGATES = 0xD7FF
_SURROGATES = 0x801  # how far a code point moves that would become one of them, or lies behind them
_GREATEST = 0x10FFFF
_TAXONOMY, _PATH = "the taxonomy", "the slugs from the root to the term, joined by slashes"


class Exported(NamedTuple):
    """How many entries were written, taken away, and left as they were.

    ``left_out`` are the fields that were not written, ``texts`` the number of bodies.
    """

    written: int
    removed: int
    kept: int
    left_out: tuple[str, ...] = ()
    texts: int = 0


class ColumnSpec(NamedTuple):
    """A column of a table: its name, what sort of values it has, what it says.

    A time is one on the clocks of the site's zone. ``may_lack`` says that rows may have no value.
    """

    name: str
    sort: Sort
    doc: str
    may_lack: bool = True


class TableLayout(NamedTuple):
    """A table: its columns, and those by which its rows are looked up, an index each.

    In an index a column with a minus before it goes from the last to the first; what lacks it comes last.
    """

    name: str
    doc: str
    columns: tuple[ColumnSpec, ...]
    indexes: tuple[tuple[str, ...], ...] = ()


def part(base: str, name: str) -> str:
    """Return the name of the column with a part of a value, whose own column is called ``base``."""
    return f"{base}_{name}" if name else base


def family(kind: FieldType) -> str:
    """Return what values of a type are called in the table of fields with several values."""
    match kind.type:
        case Type.DATE | Type.DATETIME:
            return "time"
        case Type.CHOICE:
            return "word"
        case Type.YESNO:
            return "yesno"
        case Type.INTEGER:
            return "whole"
        case Type.NUMBER:
            return "real"
        case _:
            return "text"


_TEXT_PARTS: tuple[tuple[str, Sort, str], ...] = (
    ("folded", "text", "without regard to case and Unicode form"),
    ("sorted", "text", "the same by its weights of collation: compares A to Z as plain text does"),
    ("natural", "text", "its weights with the numbers inside it at one width; nothing where it has none"),
    ("initial", "text", "the letter under which it stands in an index"),
    ("initial_sorted", "text", "that letter by its weights"),
)
_PARTS: dict[str, tuple[tuple[str, Sort, str], ...]] = {
    "text": _TEXT_PARTS,
    "time": (
        ("start", "whole", "when it begins, in microseconds since 1970 (UTC)"),
        ("end", "whole", "when it is over: the day, hour or minute that was written"),
        ("local", "whole", "when it begins on the clocks of the site's zone"),
        ("day", "whole", "its local day, in days since 1970"),
        ("week", "whole", "the Monday of its week"),
        ("month", "whole", "the first day of its month"),
        ("year", "whole", "the first day of its year"),
        ("month_of_year", "whole", "1 to 12"),
        ("whole", "yesno", "whether it is a whole day, written without a time"),
    ),
    "word": (("place", "whole", "its place among the choices, from 0"),),
    "yesno": (),
    "whole": (),
    "real": (),
}
_SORTS: dict[str, Sort] = {
    "text": "text", "time": "time", "word": "text", "yesno": "yesno", "whole": "whole", "real": "real",
}  # fmt: skip


class StoredField(Frozen):
    """A field with its type, and the name of its column; those of its parts begin with it."""

    field: str
    type: FieldType
    base: str

    @property
    def parts(self) -> tuple[tuple[str, Sort, str], ...]:
        """The parts that are kept of its values: of a long text none by which it would be put in order."""
        if self.type.type is Type.ENTRY:
            return ()
        return _PARTS[family(self.type)][: 1 if self.field == "body" else None]

    @property
    def shown(self) -> tuple[str, ...]:
        """The parts of which its values are read back, the value itself being the first."""
        wanted = {"time": ("start", "end", "local", "whole"), "word": ("place",)}
        return ("", *(() if self.type.type is Type.ENTRY else wanted.get(family(self.type), ())))

    @property
    def is_terms(self) -> bool:
        """Say whether its values stand in the table of the terms of entries."""
        return self.type.type is Type.TERM

    @property
    def column_names(self) -> list[str]:
        """The names of its columns."""
        return [each.name for each in self.columns()]

    def columns(self) -> Iterator[ColumnSpec]:
        """Yield its columns in the table of entries; none where a row may have several values."""
        if not (self.type.many or self.is_terms):
            yield from _columns(self.base, family(self.type), self.field, self.parts)


def _columns(base: str, kind: str, of: str, parts: Iterable[tuple[str, Sort, str]]) -> Iterator[ColumnSpec]:
    """Yield the columns of one value."""
    yield ColumnSpec(base, _SORTS[kind], of)
    for name, sort, doc in parts:
        yield ColumnSpec(part(base, name), sort, f"{of}: {doc}")


def _all(name: str, sort: Sort, doc: str) -> ColumnSpec:
    """Return a column that has a value in each row."""
    return ColumnSpec(name, sort, doc, may_lack=False)


UNKNOWN_STATUS = 2  # in kept_back
STATUS_COLUMNS = ("status", "status_place", "kept_back", "date_start")  # that decide what a status is now
OWN_COLUMNS = (
    _all("opens", "whole", "from when on it is public, in microseconds since 1970 (UTC)"),
    _all("closes", "whole", "until when"),
    _all(
        "kept_back",
        "whole",
        "what keeps it back: 0 nothing, 1 its status, 2 an unknown status, 3 an unreadable date, 4 no date",
    ),
    _all("end_unread", "yesno", "whether its end cannot be read"),
    ColumnSpec("held_by", "text", "the key, such as draft, by which the content keeps it back"),
    ColumnSpec("held_beside", "text", "the status beside that key, where it is not published"),
    _all("shuffle_high", "whole", "32 bits of the id's digest, for orders by chance"),
    _all("shuffle_low", "whole", "32 bits more"),
    _all("mark", "whole", "64 bits that change when the entry does"),
)
_ENTRY = _all("entry", "text", "the id of the entry")
_FIELD = _all("field", "text", "the field, by the name of its column")
_AT = _all("at", "whole", "the place of the value among those of the entry, from 0")
_FIRST = _all("first", "whole", "its number, depth first")
_LAST = _all("last", "whole", "the number after those of all below it")

TABLES = (
    TableLayout(
        "entry_terms",
        "The terms of entries: a row for each.",
        (
            _ENTRY,
            _all("taxonomy", "text", _TAXONOMY),
            _all("path", "text", _PATH),
            _all("top", "text", "the slug of the root above it"),
        ),
        (("taxonomy", "path", "entry"), ("entry",)),
    ),
    TableLayout(
        "entry_values",
        "The values of fields that may have several: a row for each.",
        (
            _ENTRY,
            _FIELD,
            _AT,
            *(
                column
                for name in _PARTS
                for column in _columns(name, name, f"the value, if it is a {name}", _PARTS[name])
            ),
        ),
        (("field", "text_sorted"), ("entry", "field")),
    ),
    TableLayout(
        "links",
        "What entries refer to by their fields: a row for each reference, to public entries and others.",
        (_ENTRY, _FIELD, _AT, _all("target", "text", "the id of the entry that it refers to")),
        (("field", "target"), ("entry", "field")),
    ),
    TableLayout(
        "parents",
        "Entries that stand below others or above them, those below one numbered depth first.",
        (_ENTRY, _all("tree", "text", "the id of the entry above all"), _FIRST, _LAST),
        (("entry",), ("tree", "first")),
    ),
    TableLayout(
        "terms",
        "The terms of taxonomies, each with its place in the order depth first.",
        (
            _all("taxonomy", "text", _TAXONOMY),
            _all("path", "text", _PATH),
            _all("slug", "text", "its slug"),
            _all("name", "text", "its name"),
            _all("id", "text", "its id, nothing where it has none of its own"),
            _FIRST,
            _LAST,
            _all("depth", "whole", "how many terms stand above it"),
            _all("more", "text", "its aliases, and what its file says besides, as JSON"),
        ),
        (("taxonomy", "first"),),
    ),
    TableLayout(
        "misfits",
        "Stored values that do not fit the types of their fields.",
        (
            _ENTRY,
            _all("field", "text", "the field"),
            _all("text", "text", "what is stored"),
            _all("place", "text", "where"),
        ),
        (("field", "entry"),),
    ),
)


class Layout(Working):
    """The fields of a site as columns; ``undeclared`` are those that only the content has, of each kind.

    ``left_out`` are fields, also of terms, that have none. Unless tables are ``complete``, they lack the
    bodies of entries that are held back as well.
    """

    stored: tuple[StoredField, ...]
    undeclared: Mapping[str, Mapping[str, bool]]
    digest: str
    complete: bool = True
    left_out: tuple[str, ...] = ()

    @classmethod
    def of(
        cls,
        keys: Iterable[tuple[str, FieldType]],
        undeclared: Mapping[str, Mapping[str, bool]],
        digest: str,
        *,
        complete: bool = True,
        left_out: tuple[str, ...] = (),
    ) -> Layout:
        """Return the layout of some fields; each has a name that no other has, whatever its case."""
        taken = {spec.name for spec in OWN_COLUMNS}
        found = []
        for name, kind in keys:
            if name in left_out:
                continue
            stem = re.sub(r"\W", "_", name.lower())[:_LONGEST_NAME]
            names = (stem if number == 1 else f"{stem}_{number}" for number in range(1, len(taken) + 2))
            every = (StoredField(name, kind, each) for each in names)
            stored = next(each for each in every if taken.isdisjoint((each.base, *each.column_names)))
            taken |= {stored.base, *stored.column_names}
            found.append(stored)
        return cls(tuple(found), undeclared, digest, complete, left_out)

    @property
    def entries(self) -> TableLayout:
        """The table of entries."""
        own = [column for stored in self.stored for column in stored.columns()]
        columns = [each._replace(may_lack=False) if each.name in ("id", "kind") else each for each in own]
        by_date = next((each.base for each in self.stored if each.field == "date"), "")
        # Beside ids stands what says whether an entry can be seen: rows are counted without being read.
        indexes: list[tuple[str, ...]] = [("id", "opens", "closes", "kind"), ("kind",)]
        indexes += [("id_folded",), ("slug_folded",)]
        indexes += [(f"-{part(by_date, 'start')}", "id")] if by_date else []  # the newest first
        return TableLayout(
            "entries", "The entries: a row for each.", (*columns, *OWN_COLUMNS), tuple(indexes)
        )

    @property
    def tables(self) -> tuple[TableLayout, ...]:
        """All tables."""
        return (self.entries, *TABLES)

    def table(self, name: str) -> TableLayout:
        """Return a table by its name."""
        return next(each for each in self.tables if each.name == name)

    def as_data(self) -> dict[str, Any]:
        """Return it as JSON has it."""
        return {
            "version": VERSION,
            "digest": self.digest,
            "complete": self.complete,
            "left_out": list(self.left_out),
            "undeclared": {kind: dict(names) for kind, names in self.undeclared.items()},
            "fields": [
                {"field": each.field, "column": each.base, **_type_as_data(each.type)} for each in self.stored
            ],
        }

    @classmethod
    def of_data(cls, data: Mapping[str, Any]) -> Layout:
        """Return what JSON says. Raises KeyError, TypeError, ValueError."""
        stored = [StoredField(each["field"], _type_of(each), each["column"]) for each in data["fields"]]
        return cls(
            tuple(stored), data["undeclared"], data["digest"], data["complete"], tuple(data["left_out"])
        )


def _type_as_data(kind: FieldType) -> dict[str, Any]:
    """Return a type as JSON has it."""
    return {
        "type": kind.type.value, "many": kind.many, "choices": list(kind.choices), "kinds": list(kind.kinds),
        "unit": kind.unit, "taxonomy": kind.taxonomy, "tree": kind.tree,
    }  # fmt: skip


def _type_of(data: Mapping[str, Any]) -> FieldType:
    """Return a type as JSON has it. Raises KeyError, ValueError."""
    return FieldType(
        Type(data["type"]), data["many"], tuple(data["choices"]), tuple(data["kinds"]), data["unit"],
        data["taxonomy"], data["tree"],
    )  # fmt: skip


_TYPES: dict[str, dict[Sort, str]] = {
    "duckdb": {
        "text": "VARCHAR",
        "whole": "BIGINT",
        "real": "DOUBLE",
        "yesno": "BOOLEAN",
        "time": "TIMESTAMP",
    },
    "postgresql": {
        "text": 'text COLLATE "C"',  # by code points, whatever the server's language
        "whole": "bigint",
        "real": "double precision",
        "yesno": "boolean",
        "time": "timestamp",
    },
}


def create_statement(table: TableLayout, engine: str, schema: str) -> str:
    """Return the statement that makes a table in a database."""
    types = _TYPES[engine]
    columns = ", ".join(
        f'"{each.name}" {types[each.sort]}{"" if each.may_lack else " NOT NULL"}' for each in table.columns
    )
    return f"CREATE TABLE {schema}.{table.name} ({columns})"


def sql_name(name: str) -> str:
    """Return a name as databases take it, whatever it holds."""
    return '"' + name.replace('"', '""') + '"'


def sql_text(text: str) -> str:
    """Return a text as databases take it, where a statement can have no values."""
    return "'" + text.replace("'", "''") + "'"


def types_of(table: TableLayout, engine: str) -> dict[str, str]:
    """Return the types of the columns of a table as a database says them, in lower case."""
    return {each.name: _TYPES[engine][each.sort].partition(" COLLATE")[0].lower() for each in table.columns}


def schema_digest(schema: Schema, zone: ZoneInfo) -> str:
    """Return what tells whether tables were made for the definitions that a site has."""
    kinds = [(name, kind.fields) for name, kind in schema.kinds.items()]
    told = repr(
        (
            VERSION,
            OWN_COLUMNS,
            TABLES,
            _PARTS,
            kinds,
            schema.taxonomies,
            schema.fields,
            schema.prefer,
            zone.key,
        )
    )
    return sha256(told.encode()).hexdigest()[:32]


def sortable(folded: str) -> str:
    """Return the sort key of a folded text as :func:`kept` has it."""
    return kept(sort_key(folded))


def all_sortable(folded: Sequence[str]) -> list[str]:
    """Return the sort keys of several folded texts, which takes less time than one after the other."""
    keys = list(map(sort_key, folded))
    ends = list(accumulate(map(len, keys), initial=0))
    every = kept("".join(keys))
    return [every[start:end] for start, end in pairwise(ends)]


def kept(key: str) -> str:
    """Return a sort key so that any database can keep it, and compares it as plain text.

    Keys are texts of weights, level after level; a database may refuse the character 0 and halves of
    surrogate pairs, so that each code point is moved behind them, in the order that they have.
    """
    codes = np.frombuffer(key.encode("utf-32-le", "surrogatepass"), dtype="<u4")
    behind = np.minimum(codes + _SURROGATES, _GREATEST)
    moved = np.where(codes < _BEFORE_SURROGATES, codes + 1, behind).astype("<u4")
    return moved.tobytes().decode("utf-32-le")
