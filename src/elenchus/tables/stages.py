"""From a plan to relations: which rows are asked, meet the condition, are left, and in what order."""

from __future__ import annotations

from functools import reduce
from operator import and_, or_
from typing import TYPE_CHECKING, Any, NamedTuple, assert_never

import ibis

from elenchus.engine.ranges import key_range as range_in_memory
from elenchus.engine.run import SHOWN_OF_ENTRIES
from elenchus.errors import NotSupported
from elenchus.frozen import Working, replace
from elenchus.operators import operator
from elenchus.plan.nodes import (
    AllOf,
    AnyOf,
    Counted,
    FieldRef,
    FieldTest,
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
    YesFirst,
)
from elenchus.plan.walking import first_step, named_rows, parts, placing_fields
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.tables.backend import Compared
from elenchus.tables.expressions import ALL_ROWS, NO_ROWS, as_number, joined, met, no
from elenchus.tables.layout import STATUS_COLUMNS, family, part
from elenchus.tables.scope import key_range
from elenchus.tables.shown import no_entries
from elenchus.tables.shuffling import shuffled
from elenchus.tables.terms import OverTerms
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from ibis.expr import types as ir

    from elenchus.plan.nodes import Condition, OrderKey, Rows
    from elenchus.tables.data import TableData
    from elenchus.tables.expressions import Mask
    from elenchus.tables.layout import StoredField
    from elenchus.tables.scope import Scope

__all__ = [
    "InOrder", "TableStages", "absent", "can_lack", "columns_of", "each_value_of", "holds", "mask_of",
    "rows_of", "with_value",
]  # fmt: skip


def mask_of(scope: Scope, entries: ir.Table, condition: Condition) -> Mask:
    """Return which entries meet a condition."""
    match condition:
        case Test():
            found = holds(scope, entries, condition)
            return no(found) if condition.negated else found
        case FieldTest():
            found = _beside(scope, entries, condition)
            return no(found) if condition.negated else found
        case SharesTerms():
            return entries.id.isin(_sharing(scope, condition).entry)
        case ListedIn():
            return entries.id.isin(rows_of(scope, condition.rows).id)
        case Negation():
            return no(mask_of(scope, entries, condition.part))
        case AllOf():
            return reduce(and_, (mask_of(scope, entries, each) for each in condition.parts))
        case AnyOf():
            return reduce(or_, (mask_of(scope, entries, each) for each in condition.parts))
        case _:
            assert_never(condition)


def holds(scope: Scope, entries: ir.Table, test: Test) -> Mask:
    """Return which entries a comparison holds for, be it negated or not."""
    first, tables = len(scope.values.values), scope.values.tables
    found = _holds(scope, entries, test)
    own = scope.values.values[first:]
    scope.values.compared.append(Compared(test, entries, first, tables, found, own))
    return found


def _holds(scope: Scope, entries: ir.Table, test: Test) -> Mask:
    """Return which entries a comparison holds for."""
    record = operator(test.operator)
    along_tree = record.along_tree and test.field.type.type is Type.ENTRY
    column: Any = scope.column(entries, test.field)
    kind, ranges = test.field.type, list[Any]()
    for value in test.values:
        if isinstance(column, OverTerms):
            ranges.append(range_in_memory(no_entries(scope), column.element, kind, value))
        else:
            ranges.append(key_range(scope, kind, value, along_tree=along_tree))
    found: Mask = column.equal_to_one(ranges) if record.name == "in" else record.rows(column, ranges)
    return found


def _beside(scope: Scope, entries: ir.Table, test: FieldTest) -> Mask:
    """Return which entries a comparison of two fields holds for, be it negated or not."""
    if test.other.type.many or test.field.type.type is Type.TERM:
        raise NotSupported(f"comparing {test.field.name} with {test.other.name}")
    rows = _with_span(scope, scope.table("entries"), test.other, "k_other")
    if test.field.type.many:
        rows = _with_each(scope, rows, test.field, "k_one")
    else:
        rows = _with_span(scope, rows, test.field, "k_one")
    low, other = rows.k_one, rows.k_other
    if "k_one_end" in rows.columns:
        before, after = rows.k_one_end <= other, low >= rows.k_other_end
    else:
        before, after = low < other, low > other
    holds = {"<": before, ">": after, "<=": ~after, ">=": ~before, "=": ~(before | after)}
    return entries.id.isin(rows.filter(holds[test.operator]).id)


def _is_interval(field: FieldRef) -> bool:
    """Say whether values last from somewhere to somewhere: dates do, their parts are compared as they are."""
    return field.type.type.is_date and not isinstance(field.source, Part)


def _with_span(scope: Scope, rows: ir.Table, field: FieldRef, name: str) -> ir.Table:
    """Return rows with a field as it compares with another, of dates also when they are over."""
    rows = with_value(scope, rows, field, name, of="start")
    return with_value(scope, rows, field, f"{name}_end", of="end") if _is_interval(field) else rows


def _with_each(scope: Scope, rows: ir.Table, field: FieldRef, name: str) -> ir.Table:
    """Return a row for each value of a field with several, beside it what there is of its row."""
    listed = each_value_of(scope, field, name)
    return rows.inner_join(listed, rows.id == listed.k_owner)


def each_value_of(scope: Scope, field: FieldRef, name: str) -> ir.Table:
    """Return the values of a field with several, each with the id of its row; of dates also their ends."""
    if not isinstance(field.source, Stored):
        raise NotSupported(f"each {field.name}")
    stored, kind = scope.data.stored[field.name, field.type], family(field.type)
    if field.type.type is Type.ENTRY:
        links = scope.listed("links", stored)
        seen = links.filter(links.target.isin(scope.seen.id))
        return seen.select(k_owner=seen.entry, **{name: seen.target})
    listed = scope.listed("entry_values", stored)
    columns = {name: scope.sort_value(listed, kind, field)}
    if _is_interval(field):
        columns[f"{name}_end"] = listed[part(kind, "end")]
    return listed.select(k_owner=listed.entry, **columns)


def _certain(scope: Scope, entries: ir.Table, condition: Condition) -> tuple[Mask, Mask]:
    """Return where a condition is surely true and where surely false, were missing values unknown."""
    match condition:
        case Test():
            found = holds(scope, entries, condition)
            known: Mask = ALL_ROWS
            if not operator(condition.operator).decides_missing:
                known = scope.column(entries, condition.field).present()
            return (no(found) & known, found) if condition.negated else (found, no(found) & known)
        case FieldTest():
            found = _beside(scope, entries, condition)
            sides = (condition.field, condition.other)
            known = reduce(and_, (scope.column(entries, each).present() for each in sides))
            return (no(found) & known, found) if condition.negated else (found, no(found) & known)
        case SharesTerms() | ListedIn():
            found = mask_of(scope, entries, condition)
            return found, no(found)
        case Negation():
            true, false = _certain(scope, entries, condition.part)
            return false, true
        case AllOf() | AnyOf():
            pairs = [_certain(scope, entries, each) for each in condition.parts]
            first, second = (and_, or_) if isinstance(condition, AllOf) else (or_, and_)
            return reduce(first, (pair[0] for pair in pairs)), reduce(second, (pair[1] for pair in pairs))
        case _:
            assert_never(condition)


def absent(scope: Scope, entries: ir.Table, condition: Condition) -> Mask | None:
    """Return where a condition that is met is met only for want of a value; None where that cannot be."""
    if not can_lack(condition):
        return None
    if isinstance(condition, Test):
        return no(scope.column(entries, condition.field).present())
    surely, _ = _certain(scope, entries, condition)
    return no(surely)


def can_lack(condition: Condition, *, negated: bool = False) -> bool:
    """Say whether a condition, or its negation, can be met for want of a value."""
    match condition:
        case Test():
            return condition.negated != negated and not operator(condition.operator).decides_missing
        case FieldTest():
            return condition.negated != negated
        case Negation():
            return can_lack(condition.part, negated=not negated)
        case AllOf() | AnyOf():
            return any(can_lack(each, negated=negated) for each in condition.parts)
        case _:
            return False


def _sharing(scope: Scope, likeness: SharesTerms) -> ir.Table:
    """Return the other entries that share terms with one, with how many they share."""
    used, own = scope.table("entry_terms"), scope.table("entry_terms")
    text = scope.values.text
    wanted: Mask = NO_ROWS
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


class _Sorted(NamedTuple):
    """A column by which rows are put in order; those that lack it come last, or first."""

    column: str
    descending: bool = False
    missing_first: bool = False


class InOrder(NamedTuple):
    """Rows with the columns by which they are put in order, the most significant first."""

    rows: ir.Table
    keys: tuple[_Sorted, ...]

    @property
    def order(self) -> list[Any]:
        """The keys as an order."""
        return [
            (ibis.desc if descending else ibis.asc)(name, nulls_first=missing_first)
            for name, descending, missing_first in self.keys
        ]


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
        seen = self.scope.visible(self.entries)
        if self.plan.source:
            return seen & self.entries.id.isin(rows_of(self.scope, self.plan.source).id)
        if len(self.plan.kinds) == len(self.scope.data.kind_names):
            return seen
        return seen & self.scope.values.among(self.entries.kind, self.plan.kinds)

    @cached_property
    def matched(self) -> Mask:
        """Which of them meet the condition."""
        if self.plan.empty:
            return NO_ROWS
        if self.plan.condition is None:
            return self.asked
        return self.asked & mask_of(self.scope, self.entries, self.plan.condition)

    @cached_property
    def left_out(self) -> Mask:
        """Which entries are left out because they stand elsewhere."""
        values = self.scope.values
        values.leaving_out.append(len(values.values))
        return values.among(self.entries.id, self.without)

    @cached_property
    def kept(self) -> Mask:
        """Which of those that match are not left out."""
        return self.matched & ~self.left_out if self.without else self.matched

    def ids(self, mask: Mask) -> list[str]:
        """Return the ids of the entries of a mask, in no order."""
        rows = met(self.entries, mask).select("id")
        return [name for (name,) in self.scope.rows(rows, "those that meet it")]

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
        found = self.in_order(columns)
        if not self.plan.at_most:
            return found
        rows = self.numbered(found)
        stays = rows.k_nth < self.plan.at_most.count
        if self.plan.lead:  # leading rows count, and are never passed over
            stays |= rows.k_lead < len(self.plan.lead)
        return InOrder(rows.filter(stays), found.keys)

    def in_order(self, columns: Sequence[str] = ()) -> InOrder:
        """Return the same with all rows of one value, however many may be listed."""
        wanted, lead = self.kept, [name.id for name in self.plan.lead]  # type: ignore[union-attr]
        first: list[_Sorted] = []
        rows = self.entries
        if lead:
            leads = [self.scope.values.text(name) for name in lead]
            wanted |= rows.id.isin(leads) & self.allowed
        # The table has more than a hundred columns, each of which would be carried through all steps.
        rows = met(rows, wanted).select(
            *dict.fromkeys(("id", *_columns_for(self.scope, self.plan), *columns))
        )
        if lead:
            places = ibis.cases(*((rows.id == name, at) for at, name in enumerate(leads)), else_=len(leads))
            rows, first = rows.mutate(k_lead=places), [_Sorted("k_lead")]
        found = InOrder(rows, tuple(first))
        for number, key in enumerate(self.plan.order):
            found = _with_key(self.scope, found, key, f"k{number}")
        return InOrder(found.rows, (*found.keys, _Sorted("id")))

    def numbered(self, found: InOrder) -> ir.Table:
        """Return rows, each with how many stand before it that have its value of the field to be varied."""
        most = self.plan.at_most
        assert most is not None  # noqa: S101 - asked for only then
        rows = with_value(self.scope, found.rows, most.field, "k_most")
        nth = ibis.row_number().over(ibis.window(group_by="k_most", order_by=found.order))
        return rows.mutate(k_nth=ibis.ifelse(rows.k_most.isnull(), 0, nth))

    @cached_property
    def listed(self) -> ir.Table:
        """The rows of the answer, by id, each with its place from 0."""
        if self.plan.fill is None:
            return self.listed_own
        # Whether a column may be null is told otherwise of the two.
        return self.listed_own.cast(_PLACED).union(self.fillers.cast(_PLACED))

    @cached_property
    def listed_own(self) -> ir.Table:
        """The same without the rows that fill up."""
        place = ibis.row_number().over(ibis.window(order_by=self.ordered.order))
        rows = self.ordered.rows.mutate(place=place)
        first, limit = self.plan.offset, self.plan.limit
        if first or limit is not None:
            wanted = rows.place >= first
            rows = rows.filter(wanted if limit is None else wanted & (rows.place < first + limit))
        return rows.select("id", place=rows.place - first)

    @cached_property
    def fillers(self) -> ir.Table:
        """The rows that fill the answer up, as many as are wanting, each placed behind the own ones."""
        fill, own = self.plan.fill, self.listed_own.view()
        assert fill is not None  # noqa: S101 - asked for only then
        listed, allowed = rows_of(self.scope, fill.rows), met(self.entries, self.allowed)
        more = listed.filter(listed.id.isin(allowed.id) & no(listed.id.isin(own.id)))
        more = more.cross_join(own.aggregate(k_own=own.count()))
        nth = ibis.row_number().over(ibis.window(order_by=more.place))
        more = more.select("id", place=more.k_own + nth)
        return more.filter(more.place < fill.at_least)


_PLACED = {"id": "string", "place": "int64"}
_ALWAYS = (
    "id", "kind", "slug", "opens", "closes", "kept_back", "end_unread", "held_by", "held_beside",
    "shuffle_high", "shuffle_low",
)  # fmt: skip


_CORE = ("title", "date", "status", "expires", "source")


def columns_of(data: TableData, plan: Plan, besides: Sequence[Condition] = ()) -> frozenset[str]:
    """Return the columns of the table of entries that a plan, and conditions besides it, may need."""
    core = [FieldRef(name, data.schema.fields[name].type) for name in (*_CORE, *SHOWN_OF_ENTRIES)]
    found = set(_ALWAYS)
    for field in (*core, *_fields_in(plan, besides)):
        stored = list(data.stored_in(field))
        if plan.unpublished:
            data.refuse_unpublished_bodies(stored)
        found |= {column.name for each in stored for column in each.columns()}
    return frozenset(found)


def _fields_in(plan: Plan, besides: Sequence[Condition] = ()) -> Iterator[FieldRef]:
    """Yield all fields that a plan, the plans in it and conditions besides it mention."""
    asked = replace(plan, condition=AllOf((*parts(plan.condition), *besides))) if besides else plan
    yield from (*plan.fields, *plan.show, *placing_fields(asked))
    for rows in named_rows(asked):
        yield from _fields_in(rows.plan)


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
    step = first_step(field)
    if step:
        yield from _columns_of_value(scope, step[0])
        return
    match field.source:
        case Part(of, name) if of.type.type is not Type.TERM:
            stored = scope.data.stored[of.name, of.type]
            yield from _kept(stored, _OF_PARTS.get(name, (name,)))
        case Stored() if field.type.type is not Type.TERM:
            stored = scope.data.stored[field.name, field.type]
            kind = family(field.type) if field.type.type is not Type.ENTRY else ""
            of_kind = {"text": ("sorted", "natural"), "time": ("start",), "word": ("place",)}.get(kind, ("",))
            yield from _kept(stored, of_kind)
            if field.name == "status":
                yield from STATUS_COLUMNS
        case Counted():
            yield "kind"


def _kept(stored: StoredField, wanted: Iterable[str]) -> Iterator[str]:
    """Yield the columns of parts, but for those that are not kept of a long text."""
    kept = {"", *(name for name, *_ in stored.parts)}
    yield from (part(stored.base, each) for each in wanted if each in kept)


def _with_key(scope: Scope, found: InOrder, key: OrderKey, name: str) -> InOrder:
    """Return rows with one more key of their order."""
    rows, keys = found
    match key:
        case SortKey():
            return _sorted_by(scope, found, key, name)
        case YesFirst():
            mask = scope.column(rows, key.field).between(1, 2)
            return InOrder(rows.mutate(**{name: as_number(mask)}), (*keys, _Sorted(name, descending=True)))
        case GivenOrder():
            text = scope.values.text
            listed = [text(each.id) for each in key.rows]  # type: ignore[union-attr]
            places = ibis.cases(*((rows.id == each, at) for at, each in enumerate(listed)), else_=len(listed))
            return InOrder(rows.mutate(**{name: places}), (*keys, _Sorted(name)))
        case RelatednessOrder():
            shared = _sharing(scope, key.related)
            rows = joined(rows, shared, "id", "entry", {name: "shared"})
            return InOrder(
                rows.mutate(**{name: rows[name].coalesce(0)}), (*keys, _Sorted(name, descending=True))
            )
        case RandomOrder():
            rows = shuffled(rows, key.salt, (f"{name}_high", f"{name}_low"))
            return InOrder(rows, (*keys, _Sorted(f"{name}_high"), _Sorted(f"{name}_low")))
        case SourceOrder():
            listed_rows = rows_of(scope, key.rows)
            rows = joined(rows, listed_rows, "id", "id", {name: "place"})
            rows = rows.mutate(**{name: rows[name].coalesce(2**62)})
            return InOrder(rows, (*keys, _Sorted(name)))
        case TermOrder():
            raise NotSupported("terms as rows")
        case _:
            assert_never(key)


def _sorted_by(scope: Scope, found: InOrder, key: SortKey, name: str) -> InOrder:
    """Return rows with a field as the next key of their order; those that lack it come last, or first."""
    rows, keys = found
    names = [name]
    if key.natural:
        rows = with_value(scope, rows, key.field, name, of_texts="natural")
        names.append(f"{name}_then")
        rows = with_value(scope, rows, key.field, names[1])
        rows = rows.mutate(**{name: rows[name].coalesce(rows[names[1]])})
    else:
        rows = with_value(scope, rows, key.field, name)
    return InOrder(rows, (*keys, *(_Sorted(each, key.descending, key.missing_first) for each in names)))


def with_value(
    scope: Scope, rows: ir.Table, field: FieldRef, name: str, *, of_texts: str = "sorted", of: str = "order"
) -> ir.Table:
    """Return rows with what a field sorts by as a column of a name; null where it is lacking.

    For comparing, ``of`` the ``start`` of values, references are the ids that they lead to; of dates there is
    their ``end`` as well, and whether they are a ``whole`` day.
    """
    step = first_step(field)
    if step:
        first, then = step
        targets = _narrow(scope, scope.seen, then) if of == "order" else scope.seen
        targets = with_value(scope, targets, then, f"{name}_of", of_texts=of_texts, of=of)
        return joined(rows, targets, _link(scope, first), "id", {name: f"{name}_of"})
    if field.type.type is Type.TERM or field.type.many:
        raise NotSupported(f"the order by {field.name}")
    match field.source:
        case Counted(_, counted):
            column = scope.column(rows, field)
            rows = joined(rows, column.counts, "id", "target", {name: "count"})  # type: ignore[attr-defined]
            count, kinds = rows[name].coalesce(0), counted.type.kinds
            if kinds:
                count = ibis.ifelse(scope.values.among(rows.kind, kinds), count, ibis.null("int64"))
            return rows.mutate(**{name: count})
        case Stored() | Itself() if field.type.type is Type.ENTRY:  # by the title of what it leads to
            targets = scope.seen if isinstance(field.source, Stored) else scope.table("entries")
            if of != "order":
                return joined(rows, targets, _link(scope, field), "id", {name: "id"})
            return joined(rows, targets, _link(scope, field), "id", {name: part("title", of_texts)})
    stored = field.source.of if isinstance(field.source, Part) else field
    base = scope.data.stored[stored.name, stored.type].base
    if of in ("end", "whole"):
        return rows.mutate(**{name: rows[part(base, of)]})
    value = scope.sort_value(rows, base, field, of_texts=of_texts)
    if field.type.type is Type.NUMBER:
        value += 0.0  # 0 and −0 are one number
    return rows.mutate(**{name: value})


def _link(scope: Scope, field: FieldRef) -> str:
    """Return the column of entries with the ids to which a reference leads."""
    return "id" if isinstance(field.source, Itself) else scope.data.stored[field.name, field.type].base


def _narrow(scope: Scope, entries: ir.Table, field: FieldRef) -> ir.Table:
    """Return entries with the columns that a field is made of."""
    order = (SortKey(field),)
    names = _columns_for(scope, Plan(ENTRIES, (), unpublished=False, condition=None, order=order))
    return entries.select(*dict.fromkeys(("id", *names)))
