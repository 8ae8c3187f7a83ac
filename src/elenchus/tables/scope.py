"""Tables at an instant, as a question may see them: its columns, and what its values mean there."""

from __future__ import annotations

from math import ceil, floor, inf, nextafter
from typing import TYPE_CHECKING, Any, assert_never

import ibis
from ibis.expr.operations import SelfReference

from elenchus.errors import NotSupported
from elenchus.frozen import Working, member
from elenchus.plan.nodes import (
    Counted,
    EntryValue,
    FieldRef,
    Itself,
    NumberValue,
    Part,
    PatternValue,
    PositionValue,
    Stored,
    TermValue,
    TextValue,
    TimeValue,
)
from elenchus.plan.walking import first_step
from elenchus.schema.types import STATUSES, Type
from elenchus.tables.backend import Bound
from elenchus.tables.columns import (
    Branch,
    Edge,
    Followed,
    Keys,
    Range,
    Reference,
    References,
    Several,
    TermsOf,
    Words,
)
from elenchus.tables.expressions import ALL_ROWS, UNITS, date_part, sort_value, sure, text_part
from elenchus.tables.layout import STATUS_COLUMNS, UNKNOWN_STATUS, family, part, sortable
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from ibis.expr import types as ir

    from elenchus.plan.nodes import PartName, Value
    from elenchus.tables.columns import TableColumn
    from elenchus.tables.data import TableData
    from elenchus.tables.expressions import Mask
    from elenchus.tables.layout import StoredField

__all__ = ["Scope", "key_range"]

_TOP = 2**63 - 1
_NOWHERE = Range(0, 0)


class Scope(Working):
    """Tables at an instant, as a question may see them, with the values of its statement."""

    data: TableData
    now: int
    unpublished: bool = False
    values: Bound = member(default_factory=Bound)
    columns: frozenset[str] = frozenset()  # of the table of entries, as far as the question needs them

    def table(self, name: str) -> ir.Table:
        """Return a table, as one that no other is mistaken for."""
        found = self.entries_table if name == "entries" else self.data.backend.table(name)
        reference: ir.Table = SelfReference(found, identifier=self.values.next_table()).to_expr()
        return reference

    def rows(self, table: ir.Table, says: str) -> list[tuple[Any, ...]]:
        """Return the rows of a relation; ``says`` tells what it asks for."""
        return self.data.rows(table, self.values, says)

    def listed(self, name: str, stored: StoredField) -> ir.Table:
        """Return the rows of a table of several values that belong to a field."""
        table = self.table(name)
        return table.filter(table.field == stored.base)

    @cached_property
    def entries_table(self) -> ir.Table:
        """The table of entries with the columns that are needed."""
        backend = self.data.backend
        return backend.narrow("entries", self.columns) if self.columns else backend.table("entries")

    def visible(self, entries: ir.Table) -> Mask:
        """Return which entries may be seen."""
        if self.unpublished:
            return ALL_ROWS
        now = self.values.whole(self.now)
        return (entries.opens <= now) & (now < entries.closes)

    @cached_property
    def seen(self) -> ir.Table:
        """The entries that may be seen."""
        entries = self.table("entries")
        return entries if self.unpublished else entries.filter(self.visible(entries))

    def column(self, entries: ir.Table, field: FieldRef) -> TableColumn:
        """Return the column of a field of entries."""
        step = first_step(field)
        if step:
            return self.followed(entries, *step)
        match field.source:
            case Stored():
                return self.stored(entries, field)
            case Itself():
                return Reference(self, entries.id, is_itself=True)
            case Part(of, name):
                return self.part_of(entries, of, name)
            case Counted(kind, counted):
                return References(self, entries, kind, counted)
            case _:
                raise AssertionError(field)  # a path, which leads further

    def stored(self, entries: ir.Table, field: FieldRef) -> TableColumn:
        """Return a stored column; references to entries that may not be seen are lacking."""
        if field.type.type is Type.TERM:
            return TermsOf(self, entries.id, self.data.taxonomies[field.type.taxonomy])
        stored = self.data.stored[field.name, field.type]
        if field.type.type is Type.ENTRY:
            if not field.type.many:
                return Reference(self, entries[stored.base])
            links = self.listed("links", stored)
            return Several(Reference(self, links.target), entries.id, links)
        if not field.type.many:
            return self.single(entries, stored.base, field)
        listed = self.listed("entry_values", stored)
        return Several(self.single(listed, family(field.type), field), entries.id, listed)

    def single(self, table: ir.Table, base: str, field: FieldRef) -> TableColumn:
        """Return the column of single values in a table."""
        if field.type.type.is_text:
            sorted_by = None if field.name == "body" else table[part(base, "sorted")]
            return Words(self, table[base], table[part(base, "folded")], sorted_by)
        return Keys(self, self.sort_value(table, base, field), is_real=field.type.type is Type.NUMBER)

    def sort_value(self, table: ir.Table, base: str, field: FieldRef, *, of_texts: str = "sorted") -> Any:
        """Return what single values sort by; of the status, what it is now. See :func:`sort_value`."""
        value = sort_value(table, base, field, of_texts=of_texts)
        if field.name != "status" or not isinstance(field.source, Stored) or base != STATUS_COLUMNS[0]:
            return value
        published, scheduled = STATUSES.index("published"), STATUSES.index("scheduled")
        date = table[STATUS_COLUMNS[-1]]
        ahead = sure(date > self.values.whole(self.now))
        written = value.coalesce(published)
        return ibis.cases(
            (table["kept_back"] == UNKNOWN_STATUS, ibis.null("int64")),
            ((written == published) & ahead, scheduled),
            ((written == scheduled) & date.notnull() & ~ahead, published),
            else_=written,
        )

    def followed(self, entries: ir.Table, first: FieldRef, then: FieldRef) -> TableColumn:
        """Return the column of what references lead to."""
        if first.type.type is Type.TERM:
            return self.of_terms(self.column(entries, first), first, then)
        start = self.column(entries, first)
        is_itself = isinstance(first.source, Itself)
        targets = self.table("entries")
        if not (self.unpublished or is_itself):
            targets = targets.filter(self.visible(targets))
        return Followed(self.column(targets, then), start, targets)

    def of_terms(self, start: TableColumn, first: FieldRef, then: FieldRef) -> TableColumn:
        """Return the column of what is said of terms."""
        from elenchus.schema.subject import terms_of
        from elenchus.tables.terms import OverTerms, term_view

        if not isinstance(start, TermsOf):
            raise NotSupported(f"{first.name}.{then.name}")
        return OverTerms(term_view(self).column(then, terms_of(first.type.taxonomy)), start)

    def part_of(self, entries: ir.Table, of: FieldRef, name: PartName) -> TableColumn:
        """Return the column of a part of values."""
        if of.type.type is Type.TERM:
            return TermsOf(self, entries.id, self.data.taxonomies[of.type.taxonomy], is_top=True)
        stored = self.data.stored[of.name, of.type]
        if of.type.many:
            listed = self.listed("entry_values", stored)
            return Several(self.single_part(listed, family(of.type), name), entries.id, listed)
        return self.single_part(entries, stored.base, name)

    def single_part(self, table: ir.Table, base: str, name: PartName) -> TableColumn:
        """Return a part of single values of a table."""
        if name == "initial":
            weights = text_part(table, base, "initial_sorted")
            return Words(self, table[part(base, "initial")], None, weights)
        return Keys(self, date_part(table, base, name), in_days=name in UNITS)


def key_range(scope: Scope, kind: Any, value: Value, *, along_tree: bool = False) -> Range:
    """Return the range of keys that a value covers; see :func:`elenchus.engine.ranges.key_range`."""
    match value:
        case NumberValue():
            if kind.type is Type.NUMBER:
                number = float(value.number)
                return Range(number, nextafter(number, inf))
            low, high = ceil(value.number), floor(value.number) + 1
            return Range(max(-_TOP, min(low, _TOP)), max(-_TOP, min(high, _TOP)))
        case TextValue():
            weights = sortable(value.folded)
            return Range(Edge(weights, is_behind=False), Edge(weights, is_behind=True), text=value.folded)
        case PatternValue():
            return Range(0, 0, text=value.pattern)
        case TimeValue():
            return Range(value.interval.start, value.interval.end)
        case PositionValue():
            return Range(value.position, value.position + 1)
        case TermValue():
            terms = scope.data.taxonomies[kind.taxonomy]
            number = terms.places.get(value.path, -1)
            return _NOWHERE if number < 0 else Range(number, number + 1, terms.ends[number])
        case EntryValue():
            return _in_tree(scope, value.id) if along_tree else Range(0, 0, text=value.id)
        case _:
            assert_never(value)


def _in_tree(scope: Scope, name: str) -> Range:
    """Return the numbers of an entry and of those below it; one outside of all trees has one of its own."""
    tree, values = scope.table("parents"), Bound()
    found = scope.data.rows(
        tree.filter(tree.entry == values.text(name)).select("tree", "first", "last"), values
    )
    top, first, last = found[0] if found else (name, 0, 1)
    return Range(Branch(top, first), Branch(top, first + 1), Branch(top, last))
