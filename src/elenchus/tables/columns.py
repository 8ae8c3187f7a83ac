"""The values of fields as expressions over tables: what operators ask, never true of what is lacking.

A mask is an expression that is true or false of each row of a table, and never neither.
"""

from __future__ import annotations

from datetime import date
from functools import cached_property
from math import ceil, floor, inf, nextafter
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias, assert_never

import ibis
from ibis.expr.operations import SelfReference

from elenchus.errors import Problem, SiteError
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
    Via,
)
from elenchus.schema.types import Type
from elenchus.tables.backend import Bound
from elenchus.tables.layout import family, part, sortable
from elenchus.values.dates import from_instant, start_of

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ibis.expr import types as ir

    from elenchus.plan.nodes import PartName, Value
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.tables.data import TableData

Mask: TypeAlias = "ir.BooleanValue"

__all__ = [
    "Branch",
    "Edge",
    "Followed",
    "Keys",
    "Mask",
    "NotSupported",
    "Range",
    "Reference",
    "References",
    "Scope",
    "Several",
    "TableColumn",
    "TermsOf",
    "Words",
    "as_number",
    "date_part",
    "key_range",
]

_TOP = 2**63 - 1
_DAY = 86_400_000_000  # microseconds
_HOUR = 3_600_000_000
_UNITS = ("year", "month", "week", "day")
_EPOCH_DAY = 719_163  # the ordinal of 1970-01-01


class NotSupported(SiteError):
    """Tables cannot be asked for something, which ``what`` names."""

    def __init__(self, what: str) -> None:
        hint = "Ask the content itself, without --on."
        super().__init__([Problem("not-supported", f"tables cannot be asked for {what}", hint)])
        self.what = what

    def __reduce__(self) -> tuple[type[NotSupported], tuple[str]]:
        """Travel to another process with what it names."""
        return type(self), (self.what,)


class Edge(NamedTuple):
    """A bound among texts: the weights of one, from it on or behind it."""

    weights: str
    is_behind: bool


class Branch(NamedTuple):
    """A bound among the entries of a tree, which the one above all names."""

    tree: str
    number: int


class Range(NamedTuple):
    """A value as the keys low <= key < high; its subtree ends before ``last``. See KeyRange."""

    low: Any
    high: Any
    last: Any = 0
    text: str = ""


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

    @cached_property
    def entries_table(self) -> ir.Table:
        """The table of entries with the columns that are needed."""
        backend = self.data.backend
        return backend.narrow("entries", self.columns) if self.columns else backend.table("entries")

    def visible(self, entries: ir.Table) -> Mask:
        """Return which entries may be seen."""
        if self.unpublished:
            return ibis.literal(True)  # noqa: FBT003 - a value
        now = self.values.whole(self.now)
        return (entries.opens <= now) & (now < entries.closes)

    @cached_property
    def seen(self) -> ir.Table:
        """The entries that may be seen."""
        entries = self.table("entries")
        return entries if self.unpublished else entries.filter(self.visible(entries))

    def column(self, entries: ir.Table, field: FieldRef) -> TableColumn:
        """Return the column of a field of entries."""
        match field.source:
            case Stored():
                return self.stored(entries, field)
            case Itself():
                return Reference(self, entries.id, is_itself=True)
            case Via(first, then):
                return self.followed(entries, first, then)
            case Part(of, name):
                return self.part_of(entries, of, name)
            case Counted(kind, counted):
                return References(self, entries, kind, counted)
            case _:
                assert_never(field.source)

    def stored(self, entries: ir.Table, field: FieldRef) -> TableColumn:
        """Return a stored column; references to entries that may not be seen are lacking."""
        if field.type.type is Type.TERM:
            return TermsOf(self, entries.id, self.data.taxonomies[field.type.taxonomy])
        stored = self.data.stored[field.name, field.type]
        if field.type.type is Type.ENTRY:
            if not field.type.many:
                return Reference(self, entries[stored.base])
            links = self.table("links")
            links = links.filter(links.field == stored.base)
            return Several(entries.id, links, Reference(self, links.target))
        if not field.type.many:
            return self.single(entries, stored.base, field)
        listed = self.table("entry_values")
        listed = listed.filter(listed.field == stored.base)
        return Several(entries.id, listed, self.single(listed, family(field.type), field))

    def single(self, table: ir.Table, base: str, field: FieldRef) -> TableColumn:
        """Return the column of single values in a table."""
        value = table[base]
        match field.type.type:
            case Type.DATE | Type.DATETIME:
                return Keys(self, table[part(base, "start")])
            case Type.CHOICE:
                return Keys(self, table[part(base, "place")])
            case Type.YESNO:
                return Keys(self, as_number(value))
            case Type.INTEGER:
                return Keys(self, value)
            case Type.NUMBER:
                return Keys(self, value, is_real=True)
            case _:
                is_long = field.name == "body"
                return Words(
                    self, value, table[part(base, "folded")], None if is_long else table[part(base, "sorted")]
                )

    def followed(self, entries: ir.Table, first: FieldRef, then: FieldRef) -> TableColumn:
        """Return the column of what references lead to."""
        if isinstance(first.source, Via):  # a longer path: one step after the other
            nearer, further = first.source.first, first.source.then
            return self.followed(entries, nearer, FieldRef(then.name, then.type, Via(further, then)))
        if first.type.type is Type.TERM:
            return self.of_terms(self.column(entries, first), first, then)
        start = self.column(entries, first)
        is_itself = isinstance(first.source, Itself)
        targets = self.table("entries")
        if not (self.unpublished or is_itself):
            targets = targets.filter(self.visible(targets))
        return Followed(start, targets, self.column(targets, then))

    def of_terms(self, start: TableColumn, first: FieldRef, then: FieldRef) -> TableColumn:
        """Return the column of what is said of terms."""
        from elenchus.schema.subject import terms_of
        from elenchus.tables.terms import OverTerms, term_view

        if not isinstance(start, TermsOf):
            raise NotSupported(f"{first.name}.{then.name}")
        return OverTerms(start, term_view(self).column(then, terms_of(first.type.taxonomy)))

    def part_of(self, entries: ir.Table, of: FieldRef, name: PartName) -> TableColumn:
        """Return the column of a part of values."""
        if isinstance(of.source, Via):
            first, then = of.source.first, of.source.then
            return self.followed(entries, first, FieldRef(f"{then.name}.{name}", of.type, Part(then, name)))
        if of.type.type is Type.TERM:
            return TermsOf(self, entries.id, self.data.taxonomies[of.type.taxonomy], is_top=True)
        stored = self.data.stored[of.name, of.type]
        if of.type.many:
            listed = self.table("entry_values")
            listed = listed.filter(listed.field == stored.base)
            return Several(entries.id, listed, self.single_part(listed, family(of.type), name))
        return self.single_part(entries, stored.base, name)

    def single_part(self, table: ir.Table, base: str, name: PartName) -> TableColumn:
        """Return a part of single values of a table."""
        if name == "initial":
            weights = table[part(base, "initial_sorted")]
            return Words(self, table[part(base, "initial")], None, weights)
        return Keys(self, date_part(table, base, name), in_days=name in _UNITS)


def date_part(table: ir.Table, base: str, name: PartName) -> ir.IntegerValue:
    """Return a part of dates: a number, or the first day of a unit, in days since 1970."""
    found: ir.IntegerValue
    match name:
        case "hour":
            within = table[part(base, "local")] - table[part(base, "day")] * _DAY
            found = ibis.ifelse(
                table[part(base, "whole")], ibis.null("int64"), (within // _HOUR).cast("int64")
            )
        case "weekday":
            found = table[part(base, "day")] - table[part(base, "week")] + 1
        case _:
            found = table[part(base, name)]
    return found


def as_number(truth: ir.BooleanValue) -> ir.IntegerValue:
    """Return 1 for yes, 0 for no, nothing for nothing."""
    found: ir.IntegerValue = ibis.cases((truth, 1), (~truth, 0))
    return found


def _sure(mask: Mask) -> Mask:
    """Return a mask that is false where a value is lacking."""
    return mask.coalesce(False)


class TableColumn(Working):
    """What operators ask of a column; see Comparable."""

    def present(self) -> Mask:
        """Return which rows have a value."""
        raise NotImplementedError

    def missing(self) -> Mask:
        """Return which rows have none."""
        return ~self.present()

    def between(self, low: Any, high: Any) -> Mask:
        """Return which rows have a key, or one of several, with low <= key < high."""
        raise NotImplementedError

    def equal(self, value: Range) -> Mask:
        """Return which rows have a value."""
        return self.between(value.low, value.high)

    def equal_to_one(self, values: Sequence[Any]) -> Mask:
        """Return which rows have one of some values, joined two by two: a chain of many would be too deep."""
        masks = [self.equal(value) for value in values]
        while len(masks) > 1:
            masks = [
                masks[at] | masks[at + 1] if at + 1 < len(masks) else masks[at]
                for at in range(0, len(masks), 2)
            ]
        return masks[0]

    def contains(self, text: str) -> Mask:
        """Return which rows have a text with a part in it."""
        raise NotImplementedError

    def starts_with(self, text: str) -> Mask:
        """Return which rows have a text that begins with a part."""
        raise NotImplementedError

    def ends_with(self, text: str) -> Mask:
        """Return which rows have a text that ends with a part."""
        raise NotImplementedError

    def matches(self, pattern: str) -> Mask:
        """Return which rows have a text in which a pattern is found."""
        raise NotImplementedError


class Keys(TableColumn):
    """Single values that are numbers as they stand. Days since 1970 are compared with instants."""

    scope: Scope
    keys: ir.NumericValue
    is_real: bool = False
    in_days: bool = False

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.keys.notnull()

    def between(self, low: Any, high: Any) -> Mask:
        """See :class:`TableColumn`."""
        if self.in_days:
            low, high = (
                bound if bound in (inf, -inf) else self.day_from(int(bound)) for bound in (low, high)
            )
        value = self.scope.values.real if self.is_real else self.scope.values.whole
        wanted = [self.keys >= value(low)] if low != -inf else []
        wanted += [self.keys < value(high)] if high != inf else []
        return _sure(ibis.and_(*wanted)) if wanted else self.present()

    def day_from(self, instant: int) -> int:
        """Return the first local day, in days since 1970, that does not begin before an instant."""
        zone = self.scope.data.zone
        try:
            day = from_instant(instant, zone).date()
        except OverflowError:  # the end of the last of all days, or before the first one
            return (date.max.toordinal() + 1 if instant > 0 else date.min.toordinal()) - _EPOCH_DAY
        return day.toordinal() - _EPOCH_DAY + (start_of(day, zone) < instant)


class Words(TableColumn):
    """Single texts: as they are written, folded, and by their weights; initials have no folded form."""

    scope: Scope
    raw: ir.StringValue
    folded: ir.StringValue | None
    weights: ir.StringValue | None

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.raw.notnull()

    @property
    def sorted(self) -> ir.StringValue:
        """Their weights."""
        if self.weights is None:
            raise NotSupported("the order of texts as long as body")
        return self.weights

    def between(self, low: Any, high: Any) -> Mask:
        """See :class:`TableColumn`."""
        text, wanted = self.scope.values.text, []
        if isinstance(low, Edge):
            bound = text(low.weights)
            wanted.append(self.sorted > bound if low.is_behind else self.sorted >= bound)
        if isinstance(high, Edge):
            bound = text(high.weights)
            wanted.append(self.sorted <= bound if high.is_behind else self.sorted < bound)
        return _sure(ibis.and_(*wanted)) if wanted else self.present()

    def equal(self, value: Range) -> Mask:
        """See :class:`TableColumn`."""
        if self.folded is None:  # weights end with the folded text, so that they tell all texts apart
            return _sure(self.sorted == self.scope.values.text(sortable(value.text)))
        return _sure(self.folded == self.scope.values.text(value.text))

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        if self.folded is None:
            return super().equal_to_one(values)
        return _sure(self.folded.isin([self.scope.values.text(value.text) for value in values]))

    def contains(self, text: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.has_part(text, lambda folded, wanted: folded.find(wanted) >= 0)

    def starts_with(self, text: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.has_part(text, lambda folded, wanted: folded.left(len(text)) == wanted)

    def ends_with(self, text: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.has_part(text, lambda folded, wanted: folded.right(len(text)) == wanted)

    def has_part(self, text: str, test: Callable[[ir.StringValue, ir.StringValue], Mask]) -> Mask:
        """Return which rows have a text with a part somewhere; all that have one, if that is empty."""
        if not text:
            return self.present()
        if self.folded is None:
            return self.equal(Range(0, 0, text=text))
        return _sure(test(self.folded, self.scope.values.text(text)))

    def matches(self, pattern: str) -> Mask:
        """See :class:`TableColumn`."""
        if self.scope.data.backend.name != "duckdb":
            raise NotSupported("matches")
        return _sure(self.raw.re_search(self.scope.values.text(pattern)))


class Reference(TableColumn):
    """Single references, by the ids of entries; to one that may not be seen there is none."""

    scope: Scope
    ids: ir.StringValue
    is_itself: bool = False

    @cached_property
    def known(self) -> Mask:
        """Which rows refer to an entry that may be seen."""
        if self.is_itself:
            return ibis.literal(True)  # noqa: FBT003 - a value
        if self.scope.unpublished:
            return self.ids.notnull()
        return _sure(self.ids.isin(self.scope.seen.id))

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.known

    def equal(self, value: Range) -> Mask:
        """See :class:`TableColumn`."""
        if not value.text:
            return ibis.literal(False)  # noqa: FBT003 - a value
        return _sure(self.ids == self.scope.values.text(value.text)) & self.known

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        return _sure(self.ids.isin([self.scope.values.text(value.text) for value in values])) & self.known

    def between(self, low: Any, high: Any) -> Mask:
        """Return which rows refer to an entry of a tree whose number lies in between."""
        if not isinstance(low, Branch) or high.number <= low.number:
            return ibis.literal(False)  # noqa: FBT003 - a value
        tree, text, whole = self.scope.table("parents"), self.scope.values.text, self.scope.values.whole
        inside = tree.filter(
            (tree.tree == text(low.tree))
            & (tree["first"] >= whole(low.number))
            & (tree["first"] < whole(high.number))
        )
        found = self.ids.isin(inside.entry)
        if low.number <= 0:  # the one above all, which stands in no table where nothing is below it
            found |= self.ids == text(low.tree)
        return _sure(found) & self.known


class Several(TableColumn):
    """Several values in a row, which stand in a table of their own with the id of the entry."""

    owner: ir.StringValue
    table: ir.Table
    element: TableColumn

    def among(self, mask: Mask) -> Mask:
        """Return which rows own an element of a mask."""
        return self.owner.isin(self.table.filter(mask).entry)

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.present())

    def between(self, low: Any, high: Any) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.between(low, high))

    def equal(self, value: Range) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.equal(value))

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.equal_to_one(values))

    def contains(self, text: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.contains(text))

    def starts_with(self, text: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.starts_with(text))

    def ends_with(self, text: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.ends_with(text))

    def matches(self, pattern: str) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.matches(pattern))


class Followed(Several):
    """What references lead to; ``table`` are entries that may be seen, ``element`` a column of theirs."""

    owner: Any

    def among(self, mask: Mask) -> Mask:
        """Return which rows refer to an entry of a mask."""
        found = self.table.filter(mask).id
        if isinstance(self.owner, Several):
            return self.owner.among(_sure(_ids_of(self.owner).isin(found)))
        return _sure(_ids_of(self.owner).isin(found))


def _ids_of(column: TableColumn) -> ir.StringValue:
    """Return the ids that a column of references has, single ones or those of its elements."""
    single = column.element if isinstance(column, Several) else column
    return single.ids if isinstance(single, Reference) else ibis.null("string")


class TermsOf(TableColumn):
    """The terms of entries, or the roots above them, by their numbers depth first."""

    scope: Scope
    owner: ir.StringValue
    taxonomy: Taxonomy
    is_top: bool = False

    @property
    def used(self) -> ir.Table:
        """The rows of the table of terms of entries."""
        table = self.scope.table("entry_terms")
        return table.filter(table.taxonomy == self.scope.values.text(self.taxonomy.name))

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.owner.isin(self.used.entry)

    def between(self, low: Any, high: Any) -> Mask:
        """See :class:`TableColumn`."""
        terms, ends = self.taxonomy.terms, self.taxonomy.ends
        low, high = max(int(low), 0) if low != -inf else 0, min(high, len(terms))
        if high <= low:
            return ibis.literal(False)  # noqa: FBT003 - a value
        used, text = self.used, self.scope.values.text
        high = int(high)
        if self.is_top:
            tops = [terms[number].address for number in range(low, high) if self.taxonomy.parents[number] < 0]
            wanted: Mask = used.top.isin([text(path) for path in tops]) if tops else ibis.literal(False)  # noqa: FBT003
        elif high > low + 1 and ends[low] == high:
            path = terms[low].address
            wanted = (used.path == text(path)) | self.below(used, path)
        elif high > low + 1 and low > 0 and ends[low - 1] == high:
            wanted = self.below(used, terms[low - 1].address)
        else:
            wanted = used.path.isin([text(terms[number].address) for number in range(low, high)])
        return self.owner.isin(used.filter(wanted).entry)

    def having(self, numbers: Sequence[int]) -> Mask:
        """Return which entries have one of some terms."""
        used, text = self.used, self.scope.values.text
        if not numbers:
            return ibis.literal(False)  # noqa: FBT003 - a value
        paths = [text(self.taxonomy.terms[number].address) for number in numbers]
        return self.owner.isin(used.filter(used.path.isin(paths)).entry)

    def below(self, used: ir.Table, path: str) -> Mask:
        """Return which terms lie below a path: a range of texts, which an index finds."""
        text = self.scope.values.text
        return (used.path >= text(f"{path}/")) & (used.path < text(f"{path}0"))  # the sign after the slash


class References(TableColumn):
    """How many visible entries of a kind refer to each entry by a field."""

    scope: Scope
    entries: ir.Table
    kind: str
    field: FieldRef

    @cached_property
    def counts(self) -> ir.Table:
        """The entries that are referred to, with how often."""
        scope, rows = self.scope, self.scope.table("entries")
        rows = rows.filter(scope.visible(rows) & (rows.kind == scope.values.text(self.kind)))
        links = scope.table("links")
        stored = scope.data.stored[self.field.name, self.field.type]
        chosen = links.filter((links.field == stored.base) & links.entry.isin(rows.id))
        return chosen.group_by("target").aggregate(count=chosen.count())

    @cached_property
    def valid(self) -> Mask:
        """Which entries can be referred to by the field."""
        kind = self.field.type.kind
        return self.entries.kind == self.scope.values.text(kind) if kind else ibis.literal(True)  # noqa: FBT003

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.valid

    def between(self, low: Any, high: Any) -> Mask:
        """See :class:`TableColumn`."""
        counts, whole = self.counts, self.scope.values.whole
        inside: list[Mask] = [counts["count"] >= whole(low)] if low != -inf else []
        inside += [counts["count"] < whole(high)] if high != inf else []
        if low <= 0 < high:  # those that nothing refers to are among them
            others = counts.filter(~ibis.and_(*inside)) if inside else None
            return self.valid & ~self.entries.id.isin(others.target) if others is not None else self.valid
        return self.valid & self.entries.id.isin(counts.filter(inside).target)


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
