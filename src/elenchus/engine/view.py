"""What one question may see: the rows that are visible at its time, and the columns of any field."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, assert_never

import numpy as np

from elenchus.engine.parts import part_of
from elenchus.engine.termtable import TermTable
from elenchus.plan.nodes import Counted, FieldRef, Itself, Part, Stored, Via
from elenchus.table.columns import Column, Lists, Mask, Numbers, Terms, Texts
from elenchus.table.dataset import digests
from elenchus.table.schema import CORE_FIELDS, Type

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.table.dataset import Dataset
    from elenchus.table.schema import FieldType

__all__ = ["View"]


@dataclass(frozen=True)
class View:
    """A dataset at an instant; ``unpublished`` opens it to all rows, ``besides`` to one more row.

    Rows are entries where ``taxonomy`` is empty, and else the terms of a taxonomy.
    """

    data: Dataset
    now: int
    unpublished: bool = False
    besides: int | None = None

    columns: dict[tuple[str, FieldRef], Column] = dataclasses.field(default_factory=dict)
    tables: dict[str, TermTable] = dataclasses.field(default_factory=dict)

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

    def ids(self, taxonomy: str) -> Sequence[str]:
        """Return the id of each row; of a term its own, else its slug, or its path where terms share it."""
        return self.data.taxonomies[taxonomy].ids if taxonomy else self.data.entries.ids

    def hidden_terms(self, taxonomy: str) -> frozenset[int]:
        """Return the terms that nobody is shown, because only unpublished entries use them."""
        return frozenset() if self.unpublished else self.data.hidden_terms(taxonomy, self.now)

    def visible_terms(self, taxonomy: str) -> Mask:
        """Return which terms may be seen."""
        found = np.ones(len(self.data.taxonomies[taxonomy].terms), np.bool_)
        found[list(self.hidden_terms(taxonomy))] = False
        return found

    def id_ranks(self, taxonomy: str) -> NDArray[np.int32]:
        """Return the place of each row's id among all."""
        if not taxonomy:
            return self.data.entries.id_rank
        ids = self.data.taxonomies[taxonomy].ids
        return np.argsort(np.argsort(np.array(ids or [""]), kind="stable")).astype(np.int32)

    def fields(self, taxonomy: str) -> dict[str, FieldType]:
        """Return the types of the fields that all rows have."""
        if taxonomy:
            return {name: field.type for name, field in self.data.term_fields(taxonomy).items()}
        return {name: field.type for name, field in self.data.schema.fields.items()}

    @property
    def titles(self) -> Texts:
        """The titles of entries, by which references sort and are called."""
        found = self.data.entries.columns["title", CORE_FIELDS["title"].type]
        assert isinstance(found, Texts)  # noqa: S101 - every entry's title is a text
        return found

    def digests(self, taxonomy: str) -> NDArray[np.uint64]:
        """Return 64 bits for each row that depend on its id only."""
        if not taxonomy:
            return self.data.entries.digests
        return digests(self.data.taxonomies[taxonomy].ids)

    def table(self, taxonomy: str) -> TermTable:
        """Return the terms of a taxonomy as rows, counted over the visible entries."""
        if taxonomy not in self.tables:
            column = self.data.entries.columns[taxonomy, self.data.schema.taxonomies[taxonomy].field_type]
            assert isinstance(column, Terms)  # noqa: S101 - a taxonomy's column is one of terms
            dates = self.data.entries.columns["date", CORE_FIELDS["date"].type]
            rules = self.data.schema.taxonomies[taxonomy]
            self.tables[taxonomy] = TermTable(
                self.data.taxonomies[taxonomy], rules, column, dates, self.visible
            )
        return self.tables[taxonomy]

    def column(self, field: FieldRef, taxonomy: str = "") -> Column:
        """Return the column of a field over entries, or over the terms of a taxonomy."""
        if (taxonomy, field) not in self.columns:
            self.columns[taxonomy, field] = self.made(field, taxonomy)
        return self.columns[taxonomy, field]

    def made(self, field: FieldRef, taxonomy: str) -> Column:
        """Return the column of a field, worked out from what is stored."""
        match field.source:
            case Stored():
                return self.stored(field.name, field.type, taxonomy)
            case Itself():
                size = len(self.ids(taxonomy))
                return Numbers(np.arange(size), np.ones(size, np.bool_))
            case Via(first, then):
                return follow(self.column(first, taxonomy), self.column(then, first.type.taxonomy))
            case Part(of, part):
                return part_of(self.column(of, taxonomy), part, self.data, of.type.taxonomy)
            case Counted(kind, counted):
                return self.counted(kind, counted, taxonomy)
            case _:
                assert_never(field.source)

    def stored(self, name: str, kind: FieldType, taxonomy: str) -> Column:
        """Return a stored column; references to entries that are not visible are missing."""
        if taxonomy:
            return self.table(taxonomy).column(name)
        found = self.data.entries.columns[name, kind]
        return self.seen(found) if kind.type is Type.ENTRY else found

    def seen(self, column: Column) -> Column:
        """Return a column of references without those to entries that are not visible."""
        if isinstance(column, Lists):
            elements = self.seen(column.elements)
            assert isinstance(elements, Numbers)  # noqa: S101 - references are numbers
            return Lists(column.starts, elements)
        assert isinstance(column, Numbers)  # noqa: S101 - references are numbers
        return Numbers(column.keys, column.valid & self.visible[column.keys])

    def counted(self, kind: int, field: FieldRef, taxonomy: str) -> Column:
        """Return how many visible entries of a kind refer to each row by a field."""
        rows = self.visible & (self.data.entries.kinds == kind)
        column = self.column(field)
        lists = column.lists if isinstance(column, Terms) else column
        size = len(self.ids(taxonomy))
        if isinstance(lists, Lists):
            assert isinstance(lists.elements, Numbers)  # noqa: S101 - references are numbers
            chosen = lists.elements.keys[rows[lists.owners] & lists.elements.valid]
        else:
            assert isinstance(lists, Numbers)  # noqa: S101 - references are numbers
            chosen = lists.keys[rows & lists.valid]
        valid = np.ones(size, np.bool_)
        if field.type.kind:
            valid = self.data.entries.kinds == self.data.kind_names.index(field.type.kind)
        return Numbers(np.bincount(chosen, minlength=size), valid)


def follow(first: Column, then: Column) -> Column:
    """Return the column of what references lead to; several references give a list of values."""
    if isinstance(first, Terms):
        first = first.lists
    if isinstance(first, Lists):
        assert isinstance(first.elements, Numbers)  # noqa: S101 - references are numbers
        taken = then.take(first.elements.keys, first.elements.valid)
        if isinstance(taken, Lists):
            return Lists(taken.starts[first.starts], taken.elements)
        assert isinstance(taken, Numbers | Texts)  # noqa: S101 - what is no list holds single values
        return Lists(first.starts, taken)
    assert isinstance(first, Numbers)  # noqa: S101 - references are numbers
    return then.take(first.keys, first.valid)
