"""What one question may see: the rows that are visible at its time, and the columns of any field."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, assert_never

import numpy as np

from elenchus.engine.coded import Coded
from elenchus.engine.columns.column import (
    Column,
    Lists,
    Mask,
    Numbers,
    Terms,
    Texts,
    narrowed,
    single_of,
)
from elenchus.engine.columns.parts import part_of, stepped
from elenchus.engine.columns.recordnames import digests
from elenchus.engine.columns.termtable import TermTable
from elenchus.engine.rowset import RowSet
from elenchus.frozen import Working, member
from elenchus.plan.nodes import Across, Counted, FieldRef, Itself, Part, Stepped, Stored, Via
from elenchus.schema.subject import ENTRIES, Subject
from elenchus.schema.types import STATUSES, Type
from elenchus.values.kept import Kept, cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.plan.nodes import OrderKey
    from elenchus.schema.types import FieldType

__all__ = ["View"]


_MOST_ORDERS = 16  # of all rows: four bytes a row each


class View(Working):
    """A dataset at an instant; ``unpublished`` opens it to all rows, ``besides`` to one more row.

    What it works out is kept: one view serves all questions of its instant. Columns in which nothing can be
    hidden are kept with the content instead, so that other instants share them.
    """

    data: Dataset
    now: int
    unpublished: bool = False
    besides: int | None = None

    columns: dict[tuple[Subject, FieldRef], Column] = member(default_factory=dict)
    tables: dict[str, TermTable] = member(default_factory=dict)
    common: dict[Subject, dict[str, FieldRef]] = member(default_factory=dict)
    sets: dict[tuple[Subject, tuple[str, ...]], RowSet] = member(default_factory=dict)
    orders: Kept[list[NDArray[np.int32] | None]] = member(default_factory=lambda: Kept(_MOST_ORDERS))
    spoken: dict[tuple[Subject, FieldRef], dict[int, tuple[Any, str]]] = member(default_factory=dict)
    codes: dict[tuple[Subject, FieldRef], Coded] = member(default_factory=dict)
    decoders: dict[tuple[Subject, FieldRef], Callable[[int], Any]] = member(default_factory=dict)

    @cached_property
    def visible(self) -> Mask:
        """Which entries may be seen."""
        entries = self.data.entries
        if self.unpublished:
            return np.ones(len(entries), np.bool_)
        found: Mask = (entries.opens <= self.now) & (self.now < entries.closes)
        if self.besides is not None:
            found[self.besides] = True
        return found

    def asked(self, subject: Subject, kinds: Sequence[str]) -> RowSet:
        """Return the rows of some kinds, or all terms, that may be seen."""
        key = (subject, tuple(kinds))
        if key not in self.sets:
            mask = self.seen(subject)
            if subject.is_entries and len(kinds) < len(self.data.kind_names):
                mask = mask & self.data.of_kinds(kinds)
            self.sets[key] = RowSet(len(mask), mask=mask)
        return self.sets[key]

    def order(
        self, subject: Subject, key: OrderKey, sort: Callable[[NDArray[np.intp]], NDArray[np.intp]]
    ) -> NDArray[np.int32] | None:
        """Return all rows in the order of a key; None the first time, as one use does not pay for it."""
        found = self.orders.get((subject, key), list)
        if not found:
            found.append(None)
            return None
        if found[0] is None:
            found[0] = sort(np.arange(len(self.ids(subject)))).astype(np.int32)
        return found[0]

    def coded(self, field: FieldRef, subject: Subject) -> Coded:
        """Return the numbered values of a column of single ones."""
        if (subject, field) not in self.codes:
            column = self.column(field, subject)
            single = single_of(column)
            codes = single.codes if isinstance(single, Texts) else single.keys
            self.codes[subject, field] = Coded.of(codes.astype(np.int64, copy=False), single.valid)
        return self.codes[subject, field]

    def ids(self, subject: Subject) -> Sequence[str]:
        """Return the id of each row; of a term its own, else its slug, or its path where terms share it."""
        return self.data.taxonomies[subject.taxonomy].ids if subject.is_terms else self.data.entries.ids

    def ids_of(self, subject: Subject, rows: NDArray[np.intp]) -> list[str]:
        """Return the ids of some rows."""
        if subject.is_entries:
            return self.data.entries.ids.at(rows)
        ids = self.data.taxonomies[subject.taxonomy].ids
        return [ids[row] for row in rows.tolist()]

    def hidden_terms(self, taxonomy: str) -> frozenset[int]:
        """Return the terms that nobody is shown, because only unpublished entries use them."""
        return frozenset() if self.unpublished else self.data.hidden_terms(taxonomy, self.now)

    def seen(self, subject: Subject) -> Mask:
        """Return which rows may be seen."""
        if subject.is_entries:
            return self.visible
        found = np.ones(len(self.data.taxonomies[subject.taxonomy].terms), np.bool_)
        found[list(self.hidden_terms(subject.taxonomy))] = False
        return found

    def id_ranks(self, subject: Subject) -> NDArray[np.int32]:
        """Return the place of each row's id among all."""
        if subject.is_entries:
            return self.data.entries.id_rank
        ids = self.data.taxonomies[subject.taxonomy].ids
        return np.argsort(np.argsort(np.array(ids or [""]), kind="stable")).astype(np.int32)

    def shown(self, subject: Subject, names: Sequence[str]) -> list[FieldRef]:
        """Return some fields that all rows have."""
        if subject not in self.common:
            known = self.data.term_fields(subject.taxonomy) if subject.is_terms else self.data.schema.fields
            self.common[subject] = {name: FieldRef(name, field.type) for name, field in known.items()}
        return [self.common[subject][name] for name in names]

    @property
    def titles(self) -> Texts:
        """The titles of entries, by which references sort and are called."""
        return self.data.texts("title")

    def digests(self, subject: Subject) -> NDArray[np.uint64]:
        """Return 64 bits for each row that depend on its id only."""
        if subject.is_terms:
            return digests(self.ids(subject))
        return self.data.record_names.digests[self.data.entries.names.records]

    def table(self, taxonomy: str) -> TermTable:
        """Return the terms of a taxonomy as rows, counted over the visible entries."""
        if taxonomy not in self.tables:
            rules = self.data.schema.taxonomies[taxonomy]
            used, dates = self.data.terms(taxonomy), self.data.dates("date")
            self.tables[taxonomy] = TermTable(
                self.data.taxonomies[taxonomy], rules, used, dates, self.visible
            )
        return self.tables[taxonomy]

    def column(self, field: FieldRef, subject: Subject = ENTRIES) -> Column:
        """Return the column of a field over some rows, worked out once."""
        columns = self.columns if subject.is_terms or _can_hide(field) else self.data.columns
        if (subject, field) not in columns:
            columns[subject, field] = self.made(field, subject)
        return columns[subject, field]

    def made(self, field: FieldRef, subject: Subject) -> Column:
        """Return the column of a field, worked out from what is stored."""
        match field.source:
            case Stored() if field.name == "status" and subject.is_entries:
                return self.statuses
            case Stored():
                return self.stored(field.name, field.type, subject)
            case Itself():
                size = len(self.ids(subject))
                return Numbers(np.arange(size), np.ones(size, np.bool_))
            case Via(first, then):
                return _follow(self.column(first, subject), self.column(then, Subject(first.type.taxonomy)))
            case Part(of, part):
                return part_of(self.column(of, subject), part, self.data, of.type.taxonomy)
            case Counted(kind, counted):
                return self.counted(kind, counted, subject)
            case Stepped(of, step):
                return stepped(self.column(of, subject), step)
            case Across():
                raise TypeError(field)  # which no single row has
            case _:
                assert_never(field.source)

    def stored(self, name: str, kind: FieldType, subject: Subject) -> Column:
        """Return a stored column; references to entries that are not visible are missing."""
        if subject.is_terms:
            return self.table(subject.taxonomy).column(name)
        found = self.data.entries.columns[name, kind]
        return self.without_hidden(found) if kind.type is Type.ENTRY else found

    @property
    def statuses(self) -> Numbers:
        """The status that each entry has now: none written is published, a date ahead makes it scheduled.

        One that nobody knows stays missing.
        """
        data, stored, dates = self.data, self.data.statuses, self.data.dates("date")
        published, scheduled = STATUSES.index("published"), STATUSES.index("scheduled")
        keys = np.where(stored.valid, stored.keys, published)
        ahead = dates.valid & (dates.keys > self.now)
        keys = np.where((keys == published) & ahead, scheduled, keys)
        keys = np.where((keys == scheduled) & dates.valid & ~ahead, published, keys)
        valid = np.ones(len(keys), np.bool_)
        valid[[row for row, field in data.misfits_by_row if field == "status"]] = False
        return Numbers(keys, valid)

    def without_hidden(self, column: Column) -> Column:
        """Return a column of references without those to entries that are not visible."""
        if isinstance(column, Lists):
            return Lists(column.starts, narrowed(self.without_hidden(column.elements), Numbers))
        single = narrowed(column, Numbers)
        return Numbers(single.keys, single.valid & self.visible[single.keys])

    def counted(self, kind: str, field: FieldRef, subject: Subject) -> Column:
        """Return how many visible entries of a kind refer to each row by a field."""
        rows = self.visible & (self.data.entries.kinds == self.data.kind_names.index(kind))
        column = self.column(field)
        lists = column.lists if isinstance(column, Terms) else column
        size = len(self.ids(subject))
        if isinstance(lists, Lists):
            numbers = narrowed(lists.elements, Numbers)
            chosen = numbers.keys[rows[lists.owners] & numbers.valid]
        else:
            numbers = narrowed(lists, Numbers)
            chosen = numbers.keys[rows & numbers.valid]
        valid = np.ones(size, np.bool_)
        if field.type.kinds:
            valid = self.data.of_kinds(field.type.kinds)
        return Numbers(np.bincount(chosen, minlength=size), valid)


def _can_hide(field: FieldRef) -> bool:
    """Say whether what a field holds depends on what may be seen, as references and what follows them do."""
    match field.source:
        case Stored():
            return field.type.type is Type.ENTRY or field.name == "status"
        case Part(of) | Stepped(of):
            return _can_hide(of)
        case Itself() | Across():
            return False
        case Via() | Counted():
            return True


def _follow(first: Column, then: Column) -> Column:
    """Return the column of what references lead to; several references give a list of values."""
    if isinstance(first, Terms):
        first = first.lists
    if isinstance(first, Lists):
        numbers = narrowed(first.elements, Numbers)
        taken = then.take(numbers.keys, numbers.valid)
        if isinstance(taken, Lists):
            return Lists(taken.starts[first.starts], taken.elements)
        return Lists(first.starts, single_of(taken))
    numbers = narrowed(first, Numbers)
    return then.take(numbers.keys, numbers.valid)
