"""Values of fields as expressions over tables: what operators ask, never true of what is lacking."""

from __future__ import annotations

from datetime import date
from math import inf
from typing import TYPE_CHECKING, Any, NamedTuple

import ibis

from elenchus.errors import NotSupported
from elenchus.frozen import Working
from elenchus.tables.expressions import ALL_ROWS, EPOCH_DAY, NO_ROWS, Mask, met, no, sure
from elenchus.tables.layout import sortable
from elenchus.values.dates import from_instant, start_of
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ibis.expr import types as ir

    from elenchus.plan.nodes import FieldRef
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.tables.scope import Scope

__all__ = [
    "Branch", "Edge", "Followed", "Keys", "Range", "Reference", "References", "Several", "TableColumn",
    "TermsOf", "Through", "Words",
]  # fmt: skip


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


class TableColumn(Working):
    """What operators ask of a column; see Comparable."""

    def present(self) -> Mask:
        """Return which rows have a value."""
        raise NotImplementedError

    def missing(self) -> Mask:
        """Return which rows have none."""
        return no(self.present())

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
        return sure(ibis.and_(*wanted)) if wanted else self.present()

    def day_from(self, instant: int) -> int:
        """Return the first local day, in days since 1970, that does not begin before an instant."""
        zone = self.scope.data.zone
        try:
            day = from_instant(instant, zone).date()
        except OverflowError:  # the end of the last of all days, or before the first one
            return (date.max.toordinal() + 1 if instant > 0 else date.min.toordinal()) - EPOCH_DAY
        return day.toordinal() - EPOCH_DAY + (start_of(day, zone) < instant)


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
        return sure(ibis.and_(*wanted)) if wanted else self.present()

    def equal(self, value: Range) -> Mask:
        """See :class:`TableColumn`."""
        if self.folded is None:  # weights end with the folded text, so that they tell all texts apart
            return sure(self.sorted == self.scope.values.text(sortable(value.text)))
        return sure(self.folded == self.scope.values.text(value.text))

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        if self.folded is None:
            return super().equal_to_one(values)
        return sure(self.scope.values.among(self.folded, [value.text for value in values]))

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
        return sure(test(self.folded, self.scope.values.text(text)))

    def matches(self, pattern: str) -> Mask:
        """See :class:`TableColumn`."""
        if self.scope.data.backend.name != "duckdb":
            raise NotSupported("matches")
        return sure(self.raw.re_search(self.scope.values.text(pattern)))


class Reference(TableColumn):
    """Single references, by the ids of entries; to one that may not be seen there is none."""

    scope: Scope
    ids: ir.StringValue
    is_itself: bool = False

    @cached_property
    def known(self) -> Mask:
        """Which rows refer to an entry that may be seen."""
        if self.is_itself:
            return ALL_ROWS
        if self.scope.unpublished:
            return self.ids.notnull()
        return sure(self.ids.isin(self.scope.seen.id))

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.known

    def equal(self, value: Range) -> Mask:
        """See :class:`TableColumn`."""
        if not value.text:
            return NO_ROWS
        return sure(self.ids == self.scope.values.text(value.text)) & self.known

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        return sure(self.scope.values.among(self.ids, [value.text for value in values])) & self.known

    def between(self, low: Any, high: Any) -> Mask:
        """Return which rows refer to an entry of a tree whose number lies in between."""
        if not isinstance(low, Branch) or high.number <= low.number:
            return NO_ROWS
        tree, text, whole = self.scope.table("parents"), self.scope.values.text, self.scope.values.whole
        inside = tree.filter(
            (tree.tree == text(low.tree))
            & (tree["first"] >= whole(low.number))
            & (tree["first"] < whole(high.number))
        )
        found = self.ids.isin(inside.entry)
        if low.number <= 0:  # the one above all, which stands in no table where nothing is below it
            found |= self.ids == text(low.tree)
        return sure(found) & self.known


class Through(TableColumn):
    """What other rows have, to which those of a table lead: ``element`` is a column of theirs."""

    element: Any

    def among(self, mask: Any) -> Mask:
        """Return which rows lead to one of a mask."""
        raise NotImplementedError

    def present(self) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.present())

    def between(self, low: Any, high: Any) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.between(low, high))

    def equal(self, value: Any) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.equal(value))

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


class Several(Through):
    """Several values in a row, which stand in a table of their own with the id of the entry."""

    owner: ir.StringValue
    table: ir.Table

    def among(self, mask: Mask) -> Mask:
        """See :class:`Through`."""
        return self.owner.isin(met(self.table, mask).entry)

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.equal_to_one(values))


class Followed(Through):
    """What references lead to: ``entries`` that may be seen; ``start`` is the column of the references."""

    start: TableColumn
    entries: ir.Table

    def among(self, mask: Mask) -> Mask:
        """See :class:`Through`."""
        found = met(self.entries, mask).id
        if isinstance(self.start, Several):
            return self.start.among(sure(_ids_of(self.start).isin(found)))
        return sure(_ids_of(self.start).isin(found))

    def equal_to_one(self, values: Sequence[Range]) -> Mask:
        """See :class:`TableColumn`."""
        return self.among(self.element.equal_to_one(values))


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
            return NO_ROWS
        used, text, high = self.used, self.scope.values, int(high)
        if self.is_top:
            tops = [terms[number].address for number in range(low, high) if self.taxonomy.parents[number] < 0]
            return self.owner.isin(used.filter(text.among(used.top, tops)).entry)
        if high > low + 1 and ends[low] == high:
            path = terms[low].address
            wanted = (used.path == text.text(path)) | self.below(used, path)
        elif high > low + 1 and low > 0 and ends[low - 1] == high:
            wanted = self.below(used, terms[low - 1].address)
        else:
            return self.having(range(low, high))
        return self.owner.isin(used.filter(wanted).entry)

    def having(self, numbers: Sequence[int]) -> Mask:
        """Return which entries have one of some terms."""
        if not numbers:
            return NO_ROWS
        used, values = self.used, self.scope.values
        paths = [self.taxonomy.terms[number].address for number in numbers]
        return self.owner.isin(used.filter(values.among(used.path, paths)).entry)

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
        links = scope.listed("links", scope.data.stored[self.field.name, self.field.type])
        chosen = links.filter(links.entry.isin(rows.id))
        return chosen.group_by("target").aggregate(count=chosen.count())

    @cached_property
    def valid(self) -> Mask:
        """Which entries can be referred to by the field."""
        kinds = self.field.type.kinds
        return self.scope.values.among(self.entries.kind, kinds) if kinds else ALL_ROWS

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
            return self.valid & no(self.entries.id.isin(others.target)) if others is not None else self.valid
        return self.valid & self.entries.id.isin(counts.filter(inside).target)
