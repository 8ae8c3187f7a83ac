"""From a plan to relations: which rows are asked, meet the condition, are left, and in what order."""

from __future__ import annotations

from functools import cached_property, reduce
from operator import and_, or_
from typing import TYPE_CHECKING, Any, NamedTuple, assert_never

import ibis

from elenchus.engine.ranges import key_range as range_in_memory
from elenchus.engine.run import SHOWN_OF_ENTRIES
from elenchus.frozen import Working
from elenchus.operators import operator
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    Counted,
    FieldRef,
    GivenOrder,
    Itself,
    ListedIn,
    Negation,
    Part,
    Plan,
    RandomOrder,
    RelatednessOrder,
    SharesTerms,
    SortKey,
    SourceOrder,
    Stored,
    TermOrder,
    Test,
    Via,
    YesFirst,
)
from elenchus.plan.walking import walk
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.tables.columns import NotSupported, as_number, date_part, key_range
from elenchus.tables.layout import family, part
from elenchus.tables.shown import no_entries
from elenchus.tables.shuffling import shuffled
from elenchus.tables.terms import OverTerms

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from ibis.expr import types as ir

    from elenchus.plan.nodes import Condition, OrderKey, Rows
    from elenchus.tables.columns import Mask, Scope
    from elenchus.tables.data import TableData
    from elenchus.tables.layout import StoredField

__all__ = ["InOrder", "TableStages", "certain", "columns_of", "mask_of", "rows_of", "values_of"]


def mask_of(scope: Scope, entries: ir.Table, condition: Condition) -> Mask:
    """Return which entries meet a condition."""
    match condition:
        case Test():
            found = _positive(scope, entries, condition)
            return ~found if condition.negated else found
        case SharesTerms():
            return entries.id.isin(_sharing(scope, condition).entry)
        case ListedIn():
            return entries.id.isin(rows_of(scope, condition.rows).id)
        case Negation():
            return ~mask_of(scope, entries, condition.part)
        case AllOf():
            return reduce(and_, (mask_of(scope, entries, each) for each in condition.parts))
        case AnyOf():
            return reduce(or_, (mask_of(scope, entries, each) for each in condition.parts))
        case _:
            assert_never(condition)


def _positive(scope: Scope, entries: ir.Table, test: Test) -> Mask:
    """Return which entries a positive comparison holds for."""
    record = operator(test.operator)
    along_tree = record.along_tree and test.field.type.type is Type.ENTRY
    column: Any = scope.column(entries, test.field)
    kind, ranges = test.field.type, list[Any]()
    for value in test.values:
        if isinstance(column, OverTerms):
            ranges.append(range_in_memory(no_entries(scope), column.column, kind, value))
        else:
            ranges.append(key_range(scope, kind, value, along_tree=along_tree))
    found: Mask = column.equal_to_one(ranges) if record.name == "in" else record.rows(column, ranges)
    return found


def certain(scope: Scope, entries: ir.Table, condition: Condition) -> tuple[Mask, Mask]:
    """Return where a condition is surely true and where surely false, were missing values unknown."""
    match condition:
        case Test():
            found = _positive(scope, entries, condition)
            known: Mask = ibis.literal(True)  # noqa: FBT003 - a value
            if not operator(condition.operator).decides_missing:
                known = scope.column(entries, condition.field).present()
            return (~found & known, found) if condition.negated else (found, ~found & known)
        case SharesTerms() | ListedIn():
            found = mask_of(scope, entries, condition)
            return found, ~found
        case Negation():
            true, false = certain(scope, entries, condition.part)
            return false, true
        case AllOf() | AnyOf():
            pairs = [certain(scope, entries, each) for each in condition.parts]
            first, second = (and_, or_) if isinstance(condition, AllOf) else (or_, and_)
            return reduce(first, (pair[0] for pair in pairs)), reduce(second, (pair[1] for pair in pairs))
        case _:
            assert_never(condition)


def _sharing(scope: Scope, likeness: SharesTerms) -> ir.Table:
    """Return the other entries that share terms with one, with how many they share."""
    used, own = scope.table("entry_terms"), scope.table("entry_terms")
    text = scope.values.text
    wanted: Mask = ibis.literal(False)  # noqa: FBT003 - a value
    for field in likeness.fields:
        name = field.type.taxonomy
        mine = own.filter((own.taxonomy == text(name)) & (own.entry == text(likeness.entry.id)))
        wanted |= (used.taxonomy == text(name)) & used.path.isin(mine.path)
    shared = used.filter(wanted & (used.entry != text(likeness.entry.id)))
    return shared.group_by("entry").aggregate(shared=shared.count())


def rows_of(scope: Scope, rows: Rows) -> ir.Table:
    """Return the rows of a listing, by id, each with its place from 0."""
    if rows.plan.subject.is_terms:
        raise NotSupported(f"the terms of {rows.name}")
    inner = (
        scope
        if scope.unpublished == rows.plan.unpublished
        else type(scope)(scope.data, scope.now, rows.plan.unpublished, scope.values, scope.columns)
    )
    return TableStages(inner, rows.plan).listed


class InOrder(NamedTuple):
    """Rows with columns by which they are put in order, the most significant first: name, descending."""

    rows: ir.Table
    keys: tuple[tuple[str, bool], ...]

    @property
    def order(self) -> list[Any]:
        """The keys as an order."""
        return [ibis.desc(name) if descending else ibis.asc(name) for name, descending in self.keys]


class TableStages(Working):
    """What a plan leaves, step by step, as relations; see :class:`elenchus.engine.stages.Stages`."""

    scope: Scope
    plan: Plan
    without: tuple[str, ...] = ()

    @cached_property
    def entries(self) -> ir.Table:
        """The table of entries."""
        return self.scope.table("entries")

    @cached_property
    def asked(self) -> Mask:
        """Which entries are asked: visible ones of the kinds, or of a listing."""
        seen, text = self.scope.visible(self.entries), self.scope.values.text
        if self.plan.source:
            return seen & self.entries.id.isin(rows_of(self.scope, self.plan.source).id)
        if len(self.plan.kinds) == len(self.scope.data.kind_names):
            return seen
        return seen & self.entries.kind.isin([text(kind) for kind in self.plan.kinds])

    @cached_property
    def matched(self) -> Mask:
        """Which of them meet the condition."""
        if self.plan.empty:
            return ibis.literal(False)  # noqa: FBT003 - a value
        if self.plan.condition is None:
            return self.asked
        return self.asked & mask_of(self.scope, self.entries, self.plan.condition)

    @cached_property
    def left_out(self) -> Mask:
        """Which entries are left out because they stand elsewhere."""
        text = self.scope.values.text
        return self.entries.id.isin([text(name) for name in self.without])

    @cached_property
    def kept(self) -> Mask:
        """Which of those that match are not left out."""
        return self.matched & ~self.left_out if self.without else self.matched

    @property
    def is_plain(self) -> bool:
        """Say whether the order alone says which rows there are."""
        return not (self.plan.lead or self.plan.at_most or self.plan.fill)

    @cached_property
    def allowed(self) -> Mask:
        """Which entries may be shown here at all."""
        seen = self.scope.visible(self.entries)
        return seen & ~self.left_out if self.without else seen

    @cached_property
    def ordered(self) -> InOrder:
        """All rows with what puts them in order, before offset and limit."""
        return self.ordered_with(())

    def ordered_with(self, columns: Sequence[str]) -> InOrder:
        """Return the same with some columns of the table of entries."""
        wanted, lead = self.kept, [name.id for name in self.plan.lead]  # type: ignore[union-attr]
        first: list[tuple[str, bool]] = []
        rows = self.entries
        if lead:
            leads = [self.scope.values.text(name) for name in lead]
            wanted |= rows.id.isin(leads) & self.allowed
        # The table has more than a hundred columns, each of which would be carried through all steps.
        rows = rows.filter(wanted).select(
            *dict.fromkeys(("id", *_columns_for(self.scope, self.plan), *columns))
        )
        if lead:
            places = ibis.cases(*((rows.id == name, at) for at, name in enumerate(leads)), else_=len(leads))
            rows, first = rows.mutate(k_lead=places), [("k_lead", False)]
        found = InOrder(rows, tuple(first))
        for number, key in enumerate(self.plan.order):
            found = _with_key(self.scope, found, key, f"k{number}")
        found = InOrder(found.rows, (*found.keys, ("id", False)))
        return self.varied(found) if self.plan.at_most else found

    def varied(self, found: InOrder) -> InOrder:
        """Return rows without those that follow so many with one value."""
        most = self.plan.at_most
        assert most is not None  # noqa: S101 - asked for only then
        rows, value = _with_value(self.scope, found.rows, most.field, "k_most")
        nth = ibis.row_number().over(ibis.window(group_by="k_most", order_by=found.order))
        rows = rows.mutate(k_nth=ibis.ifelse(rows[value].isnull(), 0, nth))
        return InOrder(rows.filter(rows.k_nth < most.count), found.keys)

    @cached_property
    def cut(self) -> ir.Table:
        """The rows after offset and limit, in order, without those that fill up."""
        rows = self.ordered.rows.order_by(self.ordered.order)
        if self.plan.offset or self.plan.limit is not None:
            rows = rows.limit(self.plan.limit, offset=self.plan.offset)
        return rows

    @cached_property
    def listed(self) -> ir.Table:
        """The rows of the answer, by id, each with its place from 0."""
        if self.plan.fill:
            raise NotSupported("fill up inside of another listing")
        place = ibis.row_number().over(ibis.window(order_by=self.ordered.order))
        rows = self.ordered.rows.mutate(place=place)
        first, limit = self.plan.offset, self.plan.limit
        if first or limit is not None:
            wanted = rows.place >= first
            rows = rows.filter(wanted if limit is None else wanted & (rows.place < first + limit))
        return rows.select("id", place=rows.place - first)


_ALWAYS = (
    "id", "kind", "slug", "opens", "closes", "kept_back", "end_unread", "held_by", "held_beside",
    "shuffle_high", "shuffle_low",
)  # fmt: skip


_CORE = ("title", "date", "status", "expires", "source")


def columns_of(data: TableData, plan: Plan) -> frozenset[str]:
    """Return the columns of the table of entries that a plan may need."""
    core = [FieldRef(name, data.schema.fields[name].type) for name in (*_CORE, *SHOWN_OF_ENTRIES)]
    found = set(_ALWAYS)
    for field in (*core, *_fields_in(plan)):
        found |= {column.name for stored in _stored_in(data, field) for column in stored.columns()}
    return frozenset(found)


def _fields_in(plan: Plan) -> Iterator[FieldRef]:
    """Yield all fields that a plan and the plans in it mention."""
    yield from (*plan.fields, *plan.show, *(spec.field for spec in plan.groups))
    yield from (key.field for key in plan.order if isinstance(key, SortKey | YesFirst))
    yield from (plan.at_most.field,) if plan.at_most else ()
    inner = [each.rows for each in plan.order if isinstance(each, SourceOrder)]
    inner += [rows for rows in (plan.source, plan.fill and plan.fill.rows) if rows]
    for part_of in walk(plan.condition):
        if isinstance(part_of, Test):
            yield part_of.field
        elif isinstance(part_of, ListedIn):
            inner.append(part_of.rows)
    for rows in inner:
        yield from _fields_in(rows.plan)


def _stored_in(data: TableData, field: FieldRef) -> Iterator[StoredField]:
    """Yield the stored fields of entries that a field is made of."""
    match field.source:
        case Stored():
            stored = data.stored.get((field.name, field.type))
            yield from (stored,) if stored else ()
        case Via(first, then):
            yield from _stored_in(data, first)
            yield from _stored_in(data, then)
        case Part(of, _):
            yield from _stored_in(data, of)
        case Counted(_, counted):
            yield from _stored_in(data, counted)


_OF_PARTS = {
    "initial": ("initial_sorted",),
    "hour": ("local", "day", "whole"),
    "weekday": ("day", "week"),
}


def _columns_for(scope: Scope, plan: Plan) -> Iterator[str]:
    """Yield the columns of entries by which the rows of a plan are put in order."""
    fields = [key.field for key in plan.order if isinstance(key, SortKey | YesFirst)]
    fields += [plan.at_most.field] if plan.at_most else []
    for field in fields:
        yield from _columns_of_value(scope, field)
    if any(isinstance(key, RandomOrder) for key in plan.order):
        yield from ("shuffle_high", "shuffle_low")


def _columns_of_value(scope: Scope, field: FieldRef) -> Iterator[str]:
    """Yield the columns of entries that a field sorts by."""
    match field.source:
        case Via(first, _):
            yield from _columns_of_value(scope, first)
        case Part(of, name) if isinstance(of.source, Stored) and of.type.type is not Type.TERM:
            base = scope.data.stored[of.name, of.type].base
            yield from (part(base, each) for each in _OF_PARTS.get(name, (name,)))
        case Part(of, _):
            yield from _columns_of_value(scope, of)
        case Stored() if field.type.type is not Type.TERM:
            stored = scope.data.stored[field.name, field.type]
            kind = family(field.type) if field.type.type is not Type.ENTRY else ""
            of_kind = {"text": ("sorted", "natural"), "time": ("start",), "word": ("place",)}.get(kind, ("",))
            yield from (part(stored.base, each) for each in of_kind)
        case Counted():
            yield "kind"


def _with_key(scope: Scope, found: InOrder, key: OrderKey, name: str) -> InOrder:
    """Return rows with one more key of their order."""
    rows, keys = found
    match key:
        case SortKey():
            return _sorted_by(scope, found, key, name)
        case YesFirst():
            mask = scope.column(rows, key.field).between(1, 2)
            return InOrder(rows.mutate(**{name: as_number(mask)}), (*keys, (name, True)))
        case GivenOrder():
            text = scope.values.text
            listed = [text(each.id) for each in key.rows]  # type: ignore[union-attr]
            places = ibis.cases(*((rows.id == each, at) for at, each in enumerate(listed)), else_=len(listed))
            return InOrder(rows.mutate(**{name: places}), (*keys, (name, False)))
        case RelatednessOrder():
            shared = _sharing(scope, key.related)
            rows = _joined(rows, shared, "id", "entry", {name: "shared"})
            return InOrder(rows.mutate(**{name: rows[name].coalesce(0)}), (*keys, (name, True)))
        case RandomOrder():
            rows = shuffled(rows, key.salt, (f"{name}_high", f"{name}_low"))
            return InOrder(rows, (*keys, (f"{name}_high", False), (f"{name}_low", False)))
        case SourceOrder():
            listed_rows = rows_of(scope, key.rows)
            rows = _joined(rows, listed_rows, "id", "id", {name: "place"})
            rows = rows.mutate(**{name: rows[name].coalesce(2**62)})
            return InOrder(rows, (*keys, (name, False)))
        case TermOrder():
            raise NotSupported("terms as rows")
        case _:
            assert_never(key)


def _sorted_by(scope: Scope, found: InOrder, key: SortKey, name: str) -> InOrder:
    """Return rows with a field as the next key of their order; those that lack it come last, or first."""
    rows, keys = found
    names = [name]
    if key.natural:
        rows, _ = _with_value(scope, rows, key.field, name, of_texts="natural")
        names.append(f"{name}_then")
        rows, _ = _with_value(scope, rows, key.field, names[1])
        rows = rows.mutate(**{name: rows[name].coalesce(rows[names[1]])})
    else:
        rows, _ = _with_value(scope, rows, key.field, name)
    lacking = f"{name}_none"
    rows = rows.mutate(**{lacking: as_number(rows[name].isnull())})
    order = [(lacking, key.missing_first), *((each, key.descending) for each in names)]
    return InOrder(rows, (*keys, *order))


def _joined(rows: ir.Table, other: ir.Table, key: str, other_key: str, wanted: dict[str, str]) -> ir.Table:
    """Return rows with some columns of another table beside them, nothing where that has no row."""
    beside = other.select(k_join=other[other_key], **{new: other[old] for new, old in wanted.items()})
    return rows.left_join(beside, rows[key] == beside.k_join).drop("k_join")


def _with_value(
    scope: Scope, rows: ir.Table, field: FieldRef, name: str, *, of_texts: str = "sorted"
) -> tuple[ir.Table, str]:
    """Return rows with what a field sorts by as a column of a name; null where it is lacking."""
    value = values_of(scope, rows, field, of_texts=of_texts)
    if value is not None:
        return rows.mutate(**{name: value}), name
    match field.source:
        case Stored() | Itself():  # a reference: by the title of what it leads to
            link = (
                "id" if isinstance(field.source, Itself) else scope.data.stored[field.name, field.type].base
            )
            targets = scope.seen if isinstance(field.source, Stored) else scope.table("entries")
            return _joined(rows, targets, link, "id", {name: part("title", of_texts)}), name
        case Via(first, then):
            while isinstance(first.source, Via):
                nearer, further = first.source.first, first.source.then
                first, then = nearer, FieldRef(then.name, then.type, Via(further, then))
            targets, _ = _with_value(
                scope, _narrow(scope, scope.seen, then), then, f"{name}_of", of_texts=of_texts
            )
            link = (
                "id" if isinstance(first.source, Itself) else scope.data.stored[first.name, first.type].base
            )
            return _joined(rows, targets, link, "id", {name: f"{name}_of"}), name
        case Part(of, which) if isinstance(of.source, Via):
            first, then = of.source.first, of.source.then
            inner = FieldRef(f"{then.name}.{which}", field.type, Part(then, which))
            return _with_value(
                scope, rows, FieldRef(field.name, field.type, Via(first, inner)), name, of_texts=of_texts
            )
        case Counted():
            column = scope.column(rows, field)
            rows = _joined(rows, column.counts, "id", "target", {name: "count"})  # type: ignore[attr-defined]
            count = rows[name].coalesce(0)
            kind = field.source.field.type.kind
            valid = rows.kind == scope.values.text(kind) if kind else None
            count = count if valid is None else ibis.ifelse(valid, count, ibis.null("int64"))
            return rows.mutate(**{name: count}), name
        case _:
            raise NotSupported(f"the order by {field.name}")


def _narrow(scope: Scope, entries: ir.Table, field: FieldRef) -> ir.Table:
    """Return entries with the columns that a field is made of."""
    order = (SortKey(field),)
    names = _columns_for(scope, Plan(ENTRIES, (), unpublished=False, condition=None, order=order))
    return entries.select(*dict.fromkeys(("id", *names)))


def values_of(scope: Scope, table: ir.Table, field: FieldRef, *, of_texts: str = "sorted") -> Any:
    """Return what a single field of a table's own columns sorts by; None where it needs other tables."""
    match field.source:
        case Stored() if field.type.type not in (Type.ENTRY, Type.TERM):
            base = scope.data.stored[field.name, field.type].base
            match field.type.type:
                case Type.DATE | Type.DATETIME:
                    return table[part(base, "start")]
                case Type.CHOICE:
                    return table[part(base, "place")]
                case Type.YESNO:
                    return as_number(table[base])
                case Type.INTEGER:
                    return table[base]
                case Type.NUMBER:
                    return table[base] + 0.0  # 0 and −0 are one number
                case _:
                    if field.name == "body":
                        raise NotSupported("the order of texts as long as body")
                    return table[part(base, of_texts)]
        case Part(of, which) if isinstance(of.source, Stored) and not of.type.many:
            base = scope.data.stored[of.name, of.type].base
            if which == "initial":
                return table[part(base, "initial_sorted")]
            return date_part(table, base, which)
        case _:
            return None
