"""Content as the rows of tables: batches of Arrow columns, some thousands of entries at a time."""

from __future__ import annotations

import json
from collections import defaultdict
from hashlib import blake2b
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from elenchus.engine.columns.column import Dates, Lists, Numbers, Texts, narrowed
from elenchus.engine.columns.lexicon import initial, padded_numbers
from elenchus.engine.columns.marks import mixed, row_marks, string_marks, text_marks
from elenchus.engine.columns.sensitive import private_column
from elenchus.engine.explaining.state import state_of
from elenchus.engine.view import View
from elenchus.frozen import Working
from elenchus.schema.state import HoldKind
from elenchus.schema.types import CORE_FIELDS, STATUSES, Type
from elenchus.tables.layout import Layout, all_sortable, family, part, schema_digest
from elenchus.values.kept import cached_property
from elenchus.values.private import private_name, private_values
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.tables.layout import StoredField, TableLayout

    _Rows = NDArray[np.intp]

__all__ = ["Frames", "arrow_schema"]

_ARROW = {
    "text": pa.string(),
    "whole": pa.int64(),
    "real": pa.float64(),
    "yesno": pa.bool_(),
    "time": pa.timestamp("us"),
}
_BATCH = 20_000  # entries whose columns are in memory at once
_DAY = 86_400_000_000  # microseconds
_ALWAYS = -(2**63)  # an instant at which nothing was over
_LOW = np.uint64(0xFFFFFFFF)
_HELD = {
    HoldKind.DRAFT: 1,
    HoldKind.WITHDRAWN: 1,
    HoldKind.UNKNOWN_STATUS: 2,
    HoldKind.UNREADABLE_DATE: 3,
    HoldKind.UNDATED: 4,
}


class Frames(Working):
    """A dataset as rows of tables.

    Unless they are ``complete``, bodies of entries that are held back, and fields that look private, stay
    out: who may read a database is not always who may read the content.
    """

    data: Dataset
    complete: bool = False

    @cached_property
    def layout(self) -> Layout:
        """The tables and their columns."""
        schema = self.data.schema
        undeclared = {
            name: {field.name: field.type.many for field in kind.fields.values() if not field.declared}
            for name, kind in schema.kinds.items()
        }
        digest = schema_digest(schema, self.data.zone)
        columns, left_out = self.data.entries.columns, self.left_out
        return Layout.of(columns, undeclared, digest, complete=self.complete, left_out=left_out)

    @cached_property
    def left_out(self) -> tuple[str, ...]:
        """The fields that get no column: those of a program's own, and what looks private.

        Those of terms have their taxonomy before them, and a dot. A taxonomy itself is never among them.
        """
        if self.complete:
            return ()
        every = np.arange(len(self.data.entries))
        found = {
            name: None
            for (name, kind), column in self.data.entries.columns.items()
            if name not in CORE_FIELDS and kind.type is not Type.TERM
            if name.startswith("_") or private_column(name, column, every)
        }
        return (*found, *self._private_of_terms())

    def _private_of_terms(self) -> Iterator[str]:
        """Yield what files of terms say of these that stays out."""
        for taxonomy, terms in self.data.taxonomies.items():
            values: dict[str, list[str]] = defaultdict(list)
            for term in terms.terms:
                for name, value in term.columns.items():
                    values[name].append(str(value))
            for name, texts in values.items():
                if name.startswith("_") or private_name(name, texts) or private_values(texts):
                    yield f"{taxonomy}.{name}"

    @cached_property
    def marks(self) -> NDArray[np.int64]:
        """64 bits for each entry that change when a row of it does in any table."""
        data = self.data
        names = data.entries.names
        ids = string_marks(names.id_texts.texts)[names.records]
        found = row_marks(View(data, 0, unpublished=True), ids, self.term_marks)
        for state in (data.entries.opens, data.entries.closes, *self.held):
            found = mixed(found ^ state.astype(np.uint64))
        inside = np.flatnonzero(self.in_trees)
        tree = data.entries.ancestry
        above = self.tops[inside]
        numbers = (tree.numbers[inside] - tree.numbers[above], tree.ends[inside] - tree.numbers[above])
        for values in (ids[above], *(each.astype(np.uint64) for each in numbers)):
            found[inside] = mixed(found[inside] ^ values)
        for each in data.misfits:
            told = text_marks(
                [f"{each.field} {each.text} {each.problem.place}".encode("utf-8", "surrogatepass")]
            )
            found[each.row : each.row + 1] = mixed(found[each.row : each.row + 1] ^ told)
        return found.view(np.int64)

    @cached_property
    def digest(self) -> str:
        """What tells whether tables hold this content."""
        terms = json.dumps(self._terms(), ensure_ascii=False).encode()
        return blake2b(np.sort(self.marks).tobytes() + terms, digest_size=16).hexdigest()

    def term_marks(self, taxonomy: str) -> NDArray[np.uint64]:
        """Return the marks of the terms of a taxonomy: those of their paths."""
        return text_marks(term.address.encode() for term in self.data.taxonomies[taxonomy].terms)

    @cached_property
    def held(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """What keeps each entry back whatever the time, and whether its end cannot be read."""
        data, size = self.data, len(self.data.entries)
        told, ends = np.zeros(size, dtype=np.int64), np.zeros(size, dtype=np.int64)
        status, date = narrowed(data.core("status"), Numbers), narrowed(data.core("date"), Dates)
        scheduled = status.valid & (status.keys == STATUSES.index("scheduled")) & ~date.valid
        odd = status.valid & (status.keys > 0) & (status.keys != STATUSES.index("scheduled")) | scheduled
        rows = {*np.flatnonzero(odd).tolist(), *data.flags, *(each.row for each in data.misfits)}
        for row in rows:
            kinds = [hold.kind for hold in state_of(data, _ALWAYS, row).holds]
            told[row] = next((_HELD[kind] for kind in kinds if kind in _HELD), 0)
            ends[row] = HoldKind.UNREADABLE_END in kinds
        return told, ends

    @property
    def texts_left_out(self) -> int:
        """How many entries are held back, so that their bodies stay out."""
        held = self.data.texts("body").valid & (self.held[0] > 0)
        return 0 if self.complete else int(np.count_nonzero(held))

    def batches(self, table: TableLayout, rows: _Rows) -> Iterator[pa.RecordBatch]:
        """Yield what a table has of some entries, ascending; terms belong to none, and come anyway."""
        schema = arrow_schema(table)
        make = getattr(self, f"_{table.name}")
        if table.name == "terms":
            yield pa.RecordBatch.from_pydict(make(), schema=schema)
            return
        for first in range(0, len(rows), _BATCH):
            found = make(rows[first : first + _BATCH])
            columns = [
                pa.array(found[name], type=kind)
                for name, kind in zip(schema.names, schema.types, strict=True)
            ]
            yield pa.RecordBatch.from_arrays(columns, schema=schema)

    # What each table has of some entries: values by the names of columns

    def _entries(self, rows: _Rows) -> dict[str, Any]:
        """Return the rows of the table of entries."""
        entries, found = self.data.entries, dict[str, Any]()
        for stored in self.layout.stored:
            if not (stored.type.many or stored.is_terms):
                column = entries.columns[stored.field, stored.type]
                found |= self._cells(stored.base, stored, column, rows)
        held, unread = self.held
        if not self.complete and held[rows].any():
            base = next(each.base for each in self.layout.stored if each.field == "body")
            for name in (base, part(base, "folded")):
                texts = zip(held[rows].tolist(), found[name], strict=True)
                found[name] = [None if is_held else text for is_held, text in texts]
        shuffled = self.data.record_names.digests[entries.names.records[rows]]
        return found | {
            "opens": entries.opens[rows],
            "closes": entries.closes[rows],
            "kept_back": held[rows],
            "end_unread": unread[rows].astype(np.bool_),
            "held_by": [told[0] if (told := self.data.flags.get(row)) else None for row in rows.tolist()],
            "held_beside": [
                (told[1] or None) if (told := self.data.flags.get(row)) else None for row in rows.tolist()
            ],
            "shuffle_high": (shuffled >> np.uint64(32)).astype(np.int64),
            "shuffle_low": (shuffled & _LOW).astype(np.int64),
            "mark": self.marks[rows],
        }

    def _entry_terms(self, rows: _Rows) -> dict[str, Any]:
        """Return the terms of entries."""
        found: dict[str, list[Any]] = {"entry": [], "taxonomy": [], "path": [], "top": []}
        ids = self.data.entries.ids.at(rows)
        for name, taxonomy in self.data.taxonomies.items():
            used, paths = self.data.terms(name), [term.address for term in taxonomy.terms]
            for at, row in enumerate(rows.tolist()):
                for number in used.item(row):
                    found["entry"].append(ids[at])
                    found["taxonomy"].append(name)
                    found["path"].append(paths[number])
                    found["top"].append(paths[number].partition("/")[0])
        return found

    def _several(
        self, rows: _Rows, *, links: bool
    ) -> Iterator[tuple[StoredField, NDArray[Any], NDArray[Any], _Rows, Column]]:
        """Yield fields with the row of each value, its place there, its place in the column, and that."""
        for stored in self.layout.stored:
            is_link = stored.type.type is Type.ENTRY
            if stored.is_terms or is_link != links or not (is_link or stored.type.many):
                continue
            column = self.data.entries.columns[stored.field, stored.type]
            if isinstance(column, Lists):
                lengths = np.diff(column.starts)[rows]
                owners = np.repeat(np.arange(len(rows)), lengths)
                ends = np.cumsum(lengths)
                at = np.arange(len(owners)) - np.repeat(ends - lengths, lengths)
                places = column.starts[:-1][rows][owners] + at
                single: Column = column.elements
            else:
                owners, at, places, single = np.arange(len(rows)), np.zeros(len(rows), np.int64), rows, column
            known = single.valid[places]
            yield stored, owners[known], at[known], places[known], single

    def _entry_values(self, rows: _Rows) -> dict[str, Any]:
        """Return the values of fields that may have several."""
        names = [column.name for column in self.layout.table("entry_values").columns]
        found: dict[str, list[Any]] = {name: [] for name in names}
        ids = np.array([*self.data.entries.ids.at(rows), None], dtype=object)[:-1]
        for stored, owners, at, places, single in self._several(rows, links=False):
            values = self._cells(family(stored.type), stored, single, places)
            values |= {"entry": ids[owners], "field": [stored.base] * len(owners), "at": at}
            for name in names:
                found[name] += list(values[name]) if name in values else [None] * len(owners)
        return found

    def _links(self, rows: _Rows) -> dict[str, Any]:
        """Return what entries refer to."""
        found: dict[str, list[Any]] = {"entry": [], "field": [], "at": [], "target": []}
        every = self.data.entries.ids
        ids = np.array([*every.at(rows), None], dtype=object)[:-1]
        for stored, owners, at, places, single in self._several(rows, links=True):
            found["entry"] += ids[owners].tolist()
            found["field"] += [stored.base] * len(owners)
            found["at"] += at.tolist()
            found["target"] += every.at(narrowed(single, Numbers).keys[places])
        return found

    def _parents(self, rows: _Rows) -> dict[str, Any]:
        """Return the entries that stand below or above others."""
        tree = self.data.entries.ancestry
        inside = rows[self.in_trees[rows]]
        above = self.tops[inside]
        start = tree.numbers[above]
        ids = self.data.entries.ids
        return {
            "entry": ids.at(inside),
            "tree": ids.at(above),
            "first": tree.numbers[inside] - start,
            "last": tree.ends[inside] - start,
        }

    @cached_property
    def tops(self) -> _Rows:
        """The entry above all others in the tree of each."""
        tree, size = self.data.entries.ancestry, len(self.data.entries)
        # In the order of their numbers, a tree begins where all that is below the one before it has ended.
        order = np.argsort(tree.numbers, kind="stable")
        ends = np.maximum.accumulate(tree.ends[order])
        begins = np.concatenate(([True], tree.numbers[order][1:] >= ends[:-1]))[:size]
        found = np.empty(size, dtype=np.intp)
        found[order] = order[begins][np.cumsum(begins) - 1] if size else order
        return found

    @cached_property
    def in_trees(self) -> NDArray[np.bool_]:
        """Which entries stand below others or above them."""
        entries = self.data.entries
        found = entries.ancestry.ends > entries.ancestry.numbers + 1
        for (name, kind), column in entries.columns.items():
            if name == "parent" and kind.type is Type.ENTRY and isinstance(column, Numbers):
                found |= column.valid
        return found

    def _terms(self) -> dict[str, Any]:
        """Return the terms."""
        found: dict[str, list[Any]] = {column.name: [] for column in self.layout.table("terms").columns}
        for name, taxonomy in self.data.taxonomies.items():
            for number, term in enumerate(taxonomy.terms):
                columns = {
                    key: value for key, value in term.columns.items() if f"{name}.{key}" not in self.left_out
                }
                more = {"aliases": list(term.aliases), "columns": columns}
                row = {
                    "taxonomy": name,
                    "path": term.address,
                    "slug": term.slug,
                    "name": term.name,
                    "id": term.id,
                    "first": number,
                    "last": int(taxonomy.ends[number]),
                    "depth": len(term.path) - 1,
                    "more": json.dumps(more, ensure_ascii=False),
                }
                for key, value in row.items():
                    found[key].append(value)
        return found

    def _misfits(self, rows: _Rows) -> dict[str, Any]:
        """Return stored values that do not fit, in their order."""
        found: dict[str, list[Any]] = {"entry": [], "field": [], "text": [], "place": []}
        wanted = set(rows.tolist())
        for each in self.data.misfits:
            if each.row in wanted and each.field not in self.left_out:
                found["entry"].append(self.data.entries.ids[each.row])
                found["field"].append(each.field)
                found["text"].append(_clean(each.text))
                found["place"].append(str(each.problem.place))
        return found

    # Values

    def _cells(self, base: str, stored: StoredField, column: Column, rows: _Rows) -> dict[str, Any]:
        """Return the columns of single values."""
        names = [base, *(part(base, name) for name, _, _ in stored.parts)]
        if isinstance(column, Texts):
            return dict(zip(names, self._texts(column, rows, len(names)), strict=True))
        single = narrowed(column, Numbers)
        keys, valid = single.keys[rows], single.valid[rows]
        match stored.type.type:
            case Type.DATE | Type.DATETIME:
                parts = _of_dates(narrowed(single, Dates), rows)
                return {name: _masked(values, valid) for name, values in zip(names, parts, strict=True)}
            case Type.CHOICE:
                words = np.array([*stored.type.choices, None], dtype=object)
                return {names[0]: words[np.where(valid, keys, -1)], names[1]: _masked(keys, valid)}
            case Type.ENTRY:
                ids = self.data.entries.ids
                return {
                    base: [
                        ids[key] if known else None
                        for key, known in zip(keys.tolist(), valid.tolist(), strict=True)
                    ]
                }
            case Type.YESNO:
                return {base: _masked(keys.astype(np.bool_), valid)}
            case _:
                return {base: _masked(keys, valid)}

    def _texts(self, column: Texts, rows: _Rows, parts: int) -> list[list[str | None]]:
        """Return texts with so many of their forms."""
        places = column.places[rows]
        used, at = np.unique(places[places >= 0], return_inverse=True)
        folded = column.lexicon.folded.at(used)
        forms: list[Sequence[str | None]] = [
            list(map(_clean, column.lexicon.texts.at(used))),
            list(map(_clean, folded)),
        ]
        if parts > 2:  # noqa: PLR2004 - the text and its folded form
            letters = list(map(initial, folded))
            known = list(dict.fromkeys(letters))
            weights = dict(zip(known, all_sortable(list(map(fold, known))), strict=True))
            forms += [all_sortable(folded), _natural(folded), letters, [weights[each] for each in letters]]
        return [_spread(form, places, at) for form in forms]


def arrow_schema(table: TableLayout) -> pa.Schema:
    """Return the types of the columns of a table."""
    return pa.schema(
        [pa.field(each.name, _ARROW[each.sort], nullable=each.may_lack) for each in table.columns]
    )


def _natural(folded: Sequence[str]) -> list[str | None]:
    """Return the sort keys of texts with their numbers at one width; nothing where there are none."""
    padded = [(at, each) for at, text in enumerate(folded) if (each := padded_numbers(text)) != text]
    found: list[str | None] = [None] * len(folded)
    for (at, _), key in zip(padded, all_sortable([each for _, each in padded]), strict=True):
        found[at] = key
    return found


def _clean(text: str) -> str:
    """Return a text without what no database keeps: halves of surrogate pairs, and the character 0."""
    if text.isascii() and "\0" not in text:
        return text
    return text.replace("\0", "\ufffd").encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def _spread(form: Sequence[str | None], places: NDArray[np.int32], at: NDArray[np.intp]) -> list[str | None]:
    """Return for each row the form of its text, None where it has none."""
    found = np.full(len(places), None, dtype=object)
    found[places >= 0] = np.array([*form, None], dtype=object)[:-1][at]
    return found.tolist()


def _masked(values: NDArray[Any], valid: NDArray[np.bool_]) -> pa.Array:
    """Return values as an Arrow column, with nothing where there is none."""
    return pa.array(values, mask=~valid)


def _of_dates(column: Dates, rows: _Rows) -> Iterator[NDArray[Any]]:
    """Yield dates, and their parts in the order of the layout."""
    local = column.local[rows]
    days = local // _DAY
    dated = days.astype("datetime64[D]")
    months = dated.astype("datetime64[M]")
    yield local.astype("datetime64[us]")
    yield column.keys[rows]
    yield column.ends[rows]
    yield local
    yield days
    yield days - (days + 3) % 7  # 1970 began on a Thursday
    yield months.astype("datetime64[D]").astype(np.int64)
    yield dated.astype("datetime64[Y]").astype("datetime64[D]").astype(np.int64)
    yield months.astype(np.int64) % 12 + 1
    yield column.whole[rows]
