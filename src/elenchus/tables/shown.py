"""Some entries of tables as a small dataset in memory: what an answer shows is read back as ever."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.ancestry import Ancestry
from elenchus.engine.columns.column import Column, Dates, Lists, Numbers, Terms, Texts
from elenchus.engine.columns.dataset import Dataset, Entries, Flags, Guessed, Misfit
from elenchus.engine.columns.lexicon import Lexicon
from elenchus.engine.columns.naming import EntryNames
from elenchus.engine.columns.recordnames import RecordNames
from elenchus.engine.view import View
from elenchus.errors import Problem
from elenchus.plan.nodes import Counted, FieldRef, Part, Stored, Via
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.tables.columns import References
from elenchus.tables.layout import family, part

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Sequence

    from elenchus.tables.layout import StoredField
    from elenchus.tables.scope import Scope

__all__ = ["TableView", "no_entries", "small_view"]

_MOST_AT_ONCE = 5_000  # ids that are named in one statement


class TableView(View):
    """A view of some entries of tables, which tell what only all of them can."""

    scope: Any = None

    def hidden_terms(self, taxonomy: str) -> frozenset[int]:
        """See :class:`View`."""
        return frozenset() if self.unpublished else self.scope.data.hidden_terms(taxonomy, self.now)


def small_view(
    scope: Scope,
    ids: Sequence[str],
    fields: Iterable[FieldRef],
    *,
    fetch: Callable[[Sequence[str]], list[tuple[Any, ...]]] | None = None,
) -> View:
    """Return a view of some entries, in their order, and of those that they refer to by some fields.

    ``fetch`` gives the rows, with the columns that it is asked for, where they are not known by their ids.
    """
    wanted = list(fields)
    fetched = _Fetched(
        scope, list(dict.fromkeys(each for field in wanted for each in scope.data.stored_in(field)))
    )
    if fetch:
        fetched.take(fetch(fetched.columns))
    fetched.fetch(ids)
    for _ in range(max((_steps(field) for field in wanted), default=0)):
        fetched.fetch(fetched.targets())
    view = TableView(fetched.dataset(), scope.now, scope.unpublished, scope=scope)
    for field in wanted:
        _count(scope, view, fetched, field)
    return view


def no_entries(scope: Scope) -> Dataset:
    """Return a dataset of the terms of a site alone."""
    return _Fetched(scope, ()).dataset()


def _steps(field: FieldRef) -> int:
    """Return how many references are followed to know a field; one itself is a step, to its id."""
    match field.source:
        case Via(first, then):
            return _steps(first) + _steps(then) + (first.type.type is not Type.TERM)
        case Part(of):
            return _steps(of)
        case Stored():
            return int(field.type.type is Type.ENTRY)
        case _:
            return 0


def _count(scope: Scope, view: View, fetched: _Fetched, field: FieldRef) -> None:
    """Let a view know how many entries refer to each of its own, which only all of them could tell."""
    match field.source:
        case Via(first, then):
            _count(scope, view, fetched, first)
            _count(scope, view, fetched, then)
        case Counted(kind, counted):
            entries = scope.table("entries")
            rows = References(scope, entries, kind, counted).counts
            ids = fetched.ids
            counts = (
                dict(scope.rows(rows.filter(scope.values.among(rows.target, ids)), "how many refer to them"))
                if ids
                else {}
            )
            found = np.array([counts.get(name, 0) for name in ids], dtype=np.int64)
            wanted = counted.type.kinds
            valid = np.array([not wanted or kind_of in wanted for kind_of in fetched.kinds], dtype=np.bool_)
            view.columns[ENTRIES, field] = Numbers(found, valid)
        case _:
            return


class _Fetched:
    """Entries as they are fetched, some at a time, with the columns of some fields."""

    def __init__(self, scope: Scope, stored: Sequence[StoredField]) -> None:
        self.scope = scope
        self.stored = stored
        self.single = [each for each in stored if each.type.type is not Type.TERM and not each.type.many]
        self.rows: dict[str, tuple[Any, ...]] = {}
        self.columns = ["id", "kind", "slug", "opens", "closes", "held_by", "held_beside"]
        for each in self.single:
            self.columns += [name for name in _columns_of(each, each.base) if name not in self.columns]
        self.terms: dict[str, list[tuple[str, str]]] = {}
        self.values: dict[tuple[str, str], list[tuple[Any, ...]]] = {}

    @property
    def ids(self) -> list[str]:
        """The ids of all entries."""
        return list(self.rows)

    @property
    def kinds(self) -> list[str]:
        """The kinds of all entries."""
        return [row[1] for row in self.rows.values()]

    def fetch(self, ids: Iterable[str]) -> None:
        """Fetch some entries that are not there yet."""
        wanted = [name for name in dict.fromkeys(ids) if name not in self.rows]
        for first in range(0, len(wanted), _MOST_AT_ONCE):
            self.fetch_some(wanted[first : first + _MOST_AT_ONCE])

    def fetch_some(self, ids: Sequence[str]) -> None:
        """Fetch so many entries as may be named in one statement."""
        scope = self.scope
        entries = scope.table("entries")
        rows = entries.filter(scope.values.among(entries.id, ids)).select(*self.columns)
        found = scope.rows(rows, "entries by their ids")
        by_id = {row[0]: row for row in found}
        self.take([by_id[name] for name in ids if name in by_id])

    def take(self, rows: Sequence[tuple[Any, ...]]) -> None:
        """Take rows of entries, and fetch what they have several of."""
        self.rows |= {row[0]: row for row in rows}
        if rows:
            self.fetch_several([row[0] for row in rows])

    def fetch_several(self, ids: Sequence[str]) -> None:
        """Fetch the terms of entries, and the values of fields with several."""
        for each in self.stored:
            if each.type.many and not each.is_terms:
                self.fetch_values(ids, "links" if each.type.type is Type.ENTRY else "entry_values", each)
        if any(each.is_terms for each in self.stored):
            scope = self.scope
            used = scope.table("entry_terms")
            used = used.filter(scope.values.among(used.entry, ids)).select("entry", "taxonomy", "path")
            for name, taxonomy, path in scope.rows(used, "their terms"):
                self.terms.setdefault(name, []).append((taxonomy, path))

    def fetch_values(self, ids: Sequence[str], table: str, stored: StoredField) -> None:
        """Fetch the several values of a field."""
        scope = self.scope
        listed = scope.listed(table, stored)
        own = ["target"] if table == "links" else _columns_of(stored, family(stored.type))
        rows = listed.filter(scope.values.among(listed.entry, ids))
        for row in scope.rows(rows.order_by(["entry", "at"]).select("entry", *own), f"their {stored.field}"):
            self.values.setdefault((stored.base, row[0]), []).append(row[1:])

    def targets(self) -> list[str]:
        """Return what the entries refer to by the fields."""
        found: list[str] = []
        for each in self.stored:
            if each.type.type is not Type.ENTRY:
                continue
            if each.type.many:
                found += [
                    row[0] for (base, _), rows in self.values.items() if base == each.base for row in rows
                ]
            else:
                at = self.columns.index(each.base)
                found += [row[at] for row in self.rows.values() if row[at] is not None]
        return found

    def misfits(self) -> list[Misfit]:
        """Return the stored values of the entries that do not fit."""
        scope, fields = self.scope, {each.field for each in self.stored}
        if not (fields & scope.data.misfit_fields and self.rows):
            return []
        table = scope.table("misfits")
        wrong = table.filter(scope.values.among(table.entry, self.ids)).select("entry", "field", "text")
        told = scope.rows(wrong, "what does not fit")
        nowhere = Problem("unfit-value", "")
        return [Misfit(self.places[entry], field, text, nowhere) for entry, field, text in told]

    # As a dataset

    def dataset(self) -> Dataset:
        """Return the entries as a dataset: with the columns that were fetched, and all terms."""
        data, size = self.scope.data, len(self.rows)
        rows = list(self.rows.values())
        kind_names = data.kind_names
        kinds = np.array([kind_names.index(row[1]) for row in rows], dtype=np.int16)
        names = EntryNames(
            Lexicon.of([row[0] for row in rows]),
            Lexicon.of([row[2] or "" for row in rows]),
            np.arange(size, dtype=np.int32),
            kinds,
            kind_names,
        )
        self.places = {row[0]: at for at, row in enumerate(rows)}
        entries = Entries(
            names=names,
            opens=np.array([row[3] for row in rows], dtype=np.int64),
            closes=np.array([row[4] for row in rows], dtype=np.int64),
            columns={(each.field, each.type): self.column(each) for each in self.stored},
            ancestry=Ancestry(np.arange(size), np.arange(size) + 1),
            in_order=False,
        )
        return Dataset(
            schema=data.schema,
            entries=entries,
            taxonomies=data.taxonomies,
            zone=data.zone,
            problems=(),
            misfits=self.misfits(),
            record_names=RecordNames(kinds, Lexicon.of([]), Lexicon.of([]), {}, np.zeros(size, np.uint64)),
            flags=Flags.of({at: (row[5], row[6] or "") for at, row in enumerate(rows) if row[5]}, size),
            guessed=Guessed(np.zeros(size, np.uint8), np.zeros(size, np.uint8)),
        )

    def column(self, stored: StoredField) -> Column:
        """Return the column of a field."""
        if stored.is_terms:
            return self.terms_of(stored.type.taxonomy)
        if not stored.type.many:
            names = _columns_of(stored, stored.base)
            places = [self.columns.index(name) for name in names]
            return self.single_of(stored, [tuple(row[at] for at in places) for row in self.rows.values()])
        lists = [self.values.get((stored.base, name), []) for name in self.rows]
        starts = np.concatenate(([0], np.cumsum([len(each) for each in lists]))).astype(np.int64)
        single = self.single_of(stored, [row for each in lists for row in each])
        return Lists(starts, single)

    def single_of(self, stored: StoredField, rows: Sequence[tuple[Any, ...]]) -> Numbers | Texts:
        """Return the column of single values, each with its parts as the layout has them."""
        valid = np.array([row[0] is not None for row in rows], dtype=np.bool_)

        def numbers(at: int, dtype: Any = np.int64) -> Any:
            return np.array([0 if row[at] is None else row[at] for row in rows], dtype=dtype)

        match stored.type.type:
            case Type.DATE | Type.DATETIME:
                start, end, local = (numbers(at) for at in (1, 2, 3))
                return Dates(start, valid, local, end, numbers(4, np.bool_))
            case Type.CHOICE:
                return Numbers(numbers(1), valid)
            case Type.ENTRY:
                known = np.array([row[0] in self.places for row in rows], dtype=np.bool_)
                targets = [self.places.get(row[0], 0) for row in rows]
                return Numbers(np.array(targets, dtype=np.int64), known)
            case Type.NUMBER:
                return Numbers(numbers(0, np.float64), valid)
            case Type.INTEGER | Type.YESNO:
                return Numbers(numbers(0), valid)
            case _:
                return Texts.of([row[0] for row in rows])

    def terms_of(self, taxonomy: str) -> Terms:
        """Return the terms of a taxonomy."""
        terms = self.scope.data.taxonomies[taxonomy]
        lists = [
            sorted(
                terms.places[tuple(path.split("/"))]
                for name, path in self.terms.get(entry, ())
                if name == taxonomy
            )
            for entry in self.rows
        ]
        starts = np.concatenate(([0], np.cumsum([len(each) for each in lists]))).astype(np.int64)
        flat = np.array([number for each in lists for number in each], dtype=np.int32)
        return Terms.paired(starts, flat, len(terms.terms))


def _columns_of(stored: StoredField, base: str) -> list[str]:
    """Return the names of the columns of which a value is read back."""
    return [part(base, name) for name in stored.shown]
