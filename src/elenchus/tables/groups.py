"""Groups over tables: counted there, put in order and named here, where groups are few."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Any

import ibis
import numpy as np

from elenchus.engine.columns.column import Texts
from elenchus.engine.columns.lexicon import Lexicon
from elenchus.engine.columns.parts import FARTHEST, NEARLY
from elenchus.engine.groupkeys import MISSING, KeyColumn
from elenchus.engine.groups import Grouping, empties, sort_columns
from elenchus.engine.select import Selection
from elenchus.errors import NotSupported
from elenchus.frozen import Working, member
from elenchus.measures import measure
from elenchus.plan.nodes import FieldRef, Part, Stepped, Stored
from elenchus.plan.walking import first_step
from elenchus.schema.types import CORE_FIELDS, Type
from elenchus.tables.expressions import EPOCH_DAY, joined, newest_first, sort_value, text_part
from elenchus.tables.layout import family, part
from elenchus.tables.measuring import TableMeasures, TableValues, values_beside
from elenchus.tables.shown import small_view
from elenchus.values.dates import start_of
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from ibis.expr import types as ir
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.plan.nodes import Across, GroupBy
    from elenchus.tables.filling import FoundRows
    from elenchus.tables.stages import TableStages

    _Pairs = tuple[NDArray[np.int64], NDArray[np.int64]]
    _Inside = tuple[tuple[int, tuple[Any, ...]], ...]  # keys by number, each with the values it is asked for

__all__ = ["TableKey", "TablesGrouped", "counts_of", "keys_of", "placed_in"]

_TITLE = FieldRef("title", CORE_FIELDS["title"].type)


class TableKey(KeyColumn):
    """A key of groups whose values stand in tables: what each of them is as a code, and what it is called."""

    values: tuple[Any, ...] = ()  # as the tables have them, each once, nothing for a missing one
    texts_of: tuple[str, ...] = ()  # of texts: each as it is written first

    @cached_property
    def column(self) -> Column:
        """The texts, where the values are some."""
        places = np.arange(len(self.texts_of), dtype=np.int32)
        return Texts(places, Lexicon.of(list(self.texts_of)))

    @cached_property
    def texts(self) -> Texts | None:
        """See :class:`KeyColumn`."""
        return self.column if self.kind.is_text and isinstance(self.column, Texts) else None

    @cached_property
    def code_of(self) -> dict[Any, int]:
        """The code of each value."""
        return {value: self.made(at, value) for at, value in enumerate(self.values)} | {None: MISSING}

    @cached_property
    def inside(self) -> tuple[Any, ...]:
        """The values in the subtrees that are named."""
        return tuple(value for value, code in self.code_of.items() if value and self.is_within(code))

    def made(self, at: int, value: Any) -> int:
        """Return the code of a value."""
        match self.kind:
            case Type.TERM:
                return int(self.terms.places[tuple(value.split("/"))])
            case Type.ENTRY:
                return self.selection.view.data.row_of_id(value)
            case Type.DATE:
                return start_of(date.fromordinal(int(value) + EPOCH_DAY), self.selection.view.data.zone)
            case _:
                return at if self.kind.is_text else int(value)


class _Listed:
    """The rows of an answer by their places in it, as far as they were fetched."""

    def __init__(self, total: int) -> None:
        self.rows = np.arange(total)


class _TableGrouping(Grouping):
    """The groups of an answer; of its placements only those are fetched that somebody looks at."""

    of: TablesGrouped = None  # type: ignore[assignment]  # what made it, which is always given

    @cached_property
    def placements(self) -> _Pairs:
        """See :class:`Grouping`."""
        return self.of.placements()

    def between(self, first: int, last: int, groups: int, per_group: int | None) -> _Pairs:
        """See :class:`Grouping`: only the groups of the page are asked for, and of each what may be on it."""
        sizes = self.shown(groups, per_group)
        ends = np.cumsum(sizes)
        low, high = np.searchsorted(ends, (first, last - 1), "right").tolist()
        before = first - int(ends[low] - sizes[low])  # how many of its first group stand before the page
        if low == high:
            skipped, most = before, before + last - first
        else:
            skipped, most = 0, max(int(sizes[low]), min(int(sizes[low + 1 :].max()), last - int(ends[low])))
        is_whole = not skipped and most >= int(self.counts[low : high + 1].max())
        found = self.of.of_page(low, high, skipped, None if is_whole else most)
        wanted = slice(before - skipped, before - skipped + last - first)
        return found[0][wanted], found[1][wanted]

    @cached_property
    def overlap(self) -> _Pairs:
        """See :class:`Grouping`."""
        return super().overlap if self.failing else self.of.overlap()

    @cached_property
    def several(self) -> int:
        """See :class:`Grouping`."""
        return len(np.unique(self.overlap[1])) if self.failing else self.of.several()


class TablesGrouped(Working):
    """The groups of what a plan finds; ``ids`` are those of its rows by their places, as far as fetched."""

    found: FoundRows
    ids: dict[int, str] = member(default_factory=dict)

    @property
    def keys(self) -> Sequence[TableKey]:
        """The keys."""
        return self.found.keys

    @cached_property
    def inside(self) -> _Inside:
        """The values of the subtrees that are named, by the numbers of their keys."""
        return tuple((at, key.inside) for at, key in enumerate(self.keys) if key.spec.within)

    @cached_property
    def grouping(self) -> _TableGrouping:
        """The groups in their order."""
        keys, told = self.keys, self.found.group_counts
        codes = np.array(
            [[key.code_of[value] for key, value in zip(keys, row, strict=False)] for row in told],
            dtype=np.int64,
        ).reshape(-1, len(keys))
        sizes = np.array([row[-1] for row in told], dtype=np.int64)
        by_code = np.lexsort(codes.T[::-1]) if len(codes) else np.zeros(0, dtype=np.intp)
        codes, sizes = codes[by_code], sizes[by_code]
        if len(codes):
            wanted = np.logical_and.reduce([key.wanted(codes[:, at]) for at, key in enumerate(keys)])
            codes, sizes = codes[wanted], sizes[wanted]
        empty, overflow = empties(keys, codes) if self.found.plan.with_empty else (codes[:0], 0)
        every = np.concatenate((codes, empty))
        sizes = np.concatenate((sizes, np.zeros(len(empty), dtype=np.int64)))
        measured = TableMeasures(
            self.found.plan, Selection(small_view(self.found.stages.scope, (), ())), keys, every, sizes,
            lambda: (every, every), told=self.measured, codes_of=self.codes_of,
        )  # fmt: skip
        columns = sort_columns(keys, every, lambda at: self.rows_of(every, at), measured)
        order = np.lexsort(columns[::-1]) if len(every) else np.zeros(0, dtype=np.intp)
        order = order[measured.passing[order]]
        listed: Any = _Listed(self.found.total)
        failing, measures = len(every) - len(order), measured.shown(order)
        return _TableGrouping(
            keys,
            every[order],
            sizes[order],
            listed,
            np.arange(len(order)),
            overflow,
            failing,
            measures,
            of=self,
        )

    def rows_of(self, every: NDArray[np.int64], at: int) -> NDArray[np.int64]:
        """Return for each group how many distinct rows stand in the groups with the same keys up to one."""
        told = self.found.told("how many rows have the same first keys", _of_first_keys, self.inside, at)
        known = {self.codes_of(row): row[-1] for row in told}
        return np.array([known.get(tuple(codes[: at + 1]), 0) for codes in every.tolist()], dtype=np.int64)

    def measured(self, of: Across, upto: int) -> list[tuple[Any, ...]]:
        """Return a measure for each combination of values of the keys up to one."""
        name = f"{of.measure} of {of.field.name}" if of.field else of.measure
        return self.found.told(f"the {name} in groups", _of_groups, self.inside, of, upto)

    def codes_of(self, row: Sequence[Any]) -> tuple[int, ...]:
        """Return the codes of the values with which a row begins: of all keys, or of the first ones."""
        return tuple(key.code_of[value] for key, value in zip(self.keys, row[:-1], strict=False))

    @cached_property
    def rank(self) -> dict[tuple[int, ...], int]:
        """The number of each group by its codes."""
        return {tuple(each): at for at, each in enumerate(self.grouping.codes.tolist())}

    def pairs(self, rows: Sequence[tuple[Any, ...]]) -> _Pairs:
        """Return placements, group by group, of rows of values, id and place."""
        found = []
        for *values, name, place in rows:
            self.ids[int(place)] = name
            number = self.rank.get(self.codes_of((*values, name)))
            if number is not None:  # of a group that the condition on groups leaves in
                found.append((number, int(place)))
        found.sort()
        pairs = np.array(found, dtype=np.int64).reshape(-1, 2)
        return pairs[:, 0], pairs[:, 1]

    def placements(
        self, named: tuple[Any, ...] | None = None, first: int = 0, last: int | None = None
    ) -> _Pairs:
        """Return placements, perhaps those of some values of the first key, and of each group only some."""
        told = self.found.told("the rows of the groups", _placements, self.inside, named, first, last)
        return self.pairs(told)

    def of_page(self, low: int, high: int, first: int, last: int | None) -> _Pairs:
        """Return placements of the groups from one to another, of each those from a place to another.

        There may be more behind them, where several pages are asked for together.
        """
        named, last = self.found.asked_of_groups(self.named(low, high), last)
        groups, places = self.placements(named, first, last)
        wanted = (groups >= low) & (groups <= high)  # groups with the same first key may be others
        return groups[wanted], places[wanted]

    def named(self, low: int, high: int) -> tuple[Any, ...] | None:
        """Return what the first key has in the groups from one to another; None where that is no choice."""
        codes = self.grouping.codes
        if low == 0 and high == len(codes) - 1:
            return None
        if self.keys[0].kind is Type.YESNO:  # which has two, and is compared with no places of values
            return None
        value_of = {code: value for value, code in self.keys[0].code_of.items()}
        return tuple(value_of.get(code) for code in dict.fromkeys(codes[low : high + 1, 0].tolist()))

    def several(self) -> int:
        """Return the number of rows that stand in more than one group."""
        if not self.may_be_several:
            return 0
        [(count,)] = self.found.told("how many stand in several groups", _several, self.inside)
        return int(count)

    def overlap(self) -> _Pairs:
        """Return the placements of the rows that stand in more than one group."""
        if not self.grouping.several:
            return self.pairs(())
        return self.pairs(self.found.told("what stands in several groups", _of_several, self.inside))

    @property
    def may_be_several(self) -> bool:
        """Say whether a row can stand in more than one group."""
        return any(_may_be_several(key.spec.field) for key in self.keys)

    def places_of(self, name: str) -> _Pairs:
        """Return the groups of an entry, and its place in each, from 0."""
        rows = self.found.told("its places in the groups", _places_of, self.inside, name)
        known = ((self.rank.get(self.codes_of(row)), int(row[-1])) for row in rows)
        ranked = [(number, place) for number, place in known if number is not None]
        pairs = np.array(sorted(ranked), dtype=np.int64).reshape(-1, 2)
        return pairs[:, 0], pairs[:, 1]


def _may_be_several(field: FieldRef) -> bool:
    """Say whether an entry may have several values of a field."""
    step = first_step(field)
    if step:
        return any(map(_may_be_several, step))
    inner = field.source.of if isinstance(field.source, Part | Stepped) else field
    return inner.type.many or inner.type.type is Type.TERM


# Relations


def counts_of(found: FoundRows) -> ir.Table:
    """Return how many placements have each combination of values."""
    placed, names = found.placed
    return placed.group_by(names).aggregate(k_count=placed.count()).select(*names, "k_count")


def _inside(found: FoundRows, inside: _Inside) -> tuple[ir.Table, list[str]]:
    """Return the placements that belong to the subtrees which are named, and the names of their values."""
    placed, names = found.placed
    for at, values in inside:
        placed = placed.filter(found.stages.scope.values.among(placed[names[at]], values))
    return placed, names


def _of_first_keys(found: FoundRows, inside: _Inside, at: int) -> ir.Table:
    """Return how many distinct rows have the same values of the keys up to one."""
    placed, names = _inside(found, inside)
    first = names[: at + 1]
    return placed.group_by(first).aggregate(k_rows=placed.id.nunique()).select(*first, "k_rows")


def _of_groups(found: FoundRows, inside: _Inside, of: Across, upto: int) -> ir.Table:
    """Return a measure for the rows with the same values of the keys up to one, each row once."""
    placed, names = _inside(found, inside)
    first = names[: upto + 1]
    rows = placed.select(*first, "id").distinct()
    beside = values_beside(found.stages.scope, of).view()
    joined = rows.inner_join(beside, rows.id == beside.k_owner)
    value = measure(of.measure).of(TableValues(joined.k_value))
    return joined.group_by(first).aggregate(k_measure=value).select(*first, "k_measure")


def _in_turn(placed: ir.Table, names: Sequence[str]) -> ir.Table:
    """Return placements with the place of each in its group."""
    nth = ibis.row_number().over(ibis.window(group_by=list(names), order_by=placed.place))
    return placed.mutate(k_nth=nth)


def _placements(
    found: FoundRows, inside: _Inside, named: tuple[Any, ...] | None, first: int, last: int | None
) -> ir.Table:
    """Return placements, perhaps those of some values of the first key, and of each group only some."""
    placed, names = _inside(found, inside)
    if named is not None:
        placed = placed.filter(_one_of(found.stages, placed[names[0]], named))
    if first or last is not None:
        placed = _in_turn(placed, names)
        placed = placed.filter(placed.k_nth >= first) if first else placed
        placed = placed if last is None else placed.filter(placed.k_nth < last)
    return placed.select(*names, "id", "place")


def _one_of(stages: TableStages, column: ir.Value, values: Sequence[Any]) -> ir.BooleanValue:
    """Return which rows of a column have one of some values; None stands for a missing one."""
    bound = stages.scope.values
    known = [
        bound.text(each) if isinstance(each, str) else bound.whole(each)
        for each in values
        if each is not None
    ]
    return column.isin(known) | column.isnull() if None in values else column.isin(known)


def _of_several(found: FoundRows, inside: _Inside) -> ir.Table:
    """Return the placements of the rows that have several."""
    placed, names = _inside(found, inside)
    placed = placed.mutate(k_several=placed.count().over(ibis.window(group_by="id")))
    return placed.filter(placed.k_several > 1).select(*names, "id", "place")


def _several(found: FoundRows, inside: _Inside) -> ir.Table:
    """Return how many rows have several placements."""
    placed, _ = _inside(found, inside)
    each = placed.group_by("id").aggregate(k_several=placed.count())
    several = each.filter(each.k_several > 1)
    return several.aggregate(k_count=several.count())


def _places_of(found: FoundRows, inside: _Inside, name: str) -> ir.Table:
    """Return the values of an entry, and its place in each of these groups."""
    placed, names = _inside(found, inside)
    placed = _in_turn(placed, names)
    return placed.filter(placed.id == found.stages.scope.values.text(name)).select(*names, "k_nth")


def keys_of(stages: TableStages, told: Iterable[tuple[Any, ...]]) -> list[TableKey]:
    """Return the keys of a plan with what their values mean that some rows begin with."""
    rows = list(told)
    return [
        _key(stages, spec, list(dict.fromkeys(row[at] for row in rows if row[at] is not None)))
        for at, spec in enumerate(stages.plan.groups)
    ]


def _key(stages: TableStages, spec: GroupBy, values: list[Any]) -> TableKey:
    """Return a key with what its values mean."""
    scope, kind = stages.scope, spec.field.type.type
    ids = values if kind is Type.ENTRY else []
    view = small_view(scope, ids, [_TITLE])
    texts = _written(stages, spec.field, values) if kind.is_text else ()
    return TableKey(Selection(view), spec, tuple(values), tuple(texts))


def placed_in(stages: TableStages) -> tuple[ir.Table, list[str]]:
    """Return the placements of the rows of an answer: id, place and a value for each key, each once."""
    rows = stages.listed
    names = []
    for number, spec in enumerate(stages.plan.groups):
        name = f"g{number}"
        rows = _with_key(stages, rows, spec.field, name)
        names.append(name)
    return rows.select("id", "place", *names), names


def _with_key(stages: TableStages, rows: ir.Table, field: FieldRef, name: str) -> ir.Table:
    """Return rows with the values of a field beside them, each once; nothing where there is none."""
    found = _pairs(stages, field, name)
    return rows.left_join(found, rows.id == found.k_entry).drop("k_entry")


def _pairs(stages: TableStages, field: FieldRef, name: str) -> ir.Table:
    """Return the values of a field by the ids of entries, each once; those that lack it may be left out."""
    scope = stages.scope
    kind = field.type.type
    step = first_step(field)
    if step:
        return _followed(stages, *step, name)
    if kind is Type.TERM:
        used = scope.table("entry_terms")
        used = used.filter(used.taxonomy == scope.values.text(field.type.taxonomy))
        path = used.top if isinstance(field.source, Part) else used.path
        return used.select(k_entry=used.entry, **{name: path}).distinct()
    inner = field.source.of if isinstance(field.source, Part | Stepped) else field
    if kind is Type.ENTRY and isinstance(field.source, Stored):
        links = scope.listed("links", scope.data.stored[field.name, field.type])
        links = links.filter(links.target.isin(scope.seen.id))
        return links.select(k_entry=links.entry, **{name: links.target}).distinct()
    if inner.type.many:
        listed = scope.listed("entry_values", scope.data.stored[inner.name, inner.type])
        value = _in_steps(sort_value(listed, family(inner.type), field), field)
        found = listed.select(k_entry=listed.entry, **{name: value})
        return found.filter(found[name].notnull()).distinct()
    entries = scope.table("entries")
    if not isinstance(inner.source, Stored):  # the entry itself
        return entries.select(k_entry=entries.id, **{name: entries.id})
    stored = scope.data.stored[inner.name, inner.type]
    value = _in_steps(scope.sort_value(entries, stored.base, field), field)
    return entries.select(k_entry=entries.id, **{name: value})


def _in_steps(value: Any, field: FieldRef) -> Any:
    """Return in which step numbers lie, where a field is that; see :func:`stepped`."""
    if not isinstance(field.source, Stepped):
        return value
    of, step = field.source.of, field.source.step
    if of.type.type is Type.NUMBER or step.denominator > 1:
        steps = (value.cast("float64") / float(step) + NEARLY).clip(-FARTHEST, FARTHEST)
        return steps.floor().cast("int64")
    width = int(step)
    return ((value - (value % width + width) % width) / width).cast("int64")


def _followed(stages: TableStages, first: FieldRef, then: FieldRef, name: str) -> ir.Table:
    """Return what references lead to, by the ids of entries."""
    if first.type.type is Type.TERM:
        raise NotSupported(f"groups by {first.name}.{then.name}")
    links, values = _pairs(stages, first, "k_link"), _pairs(stages, then, name)
    values = values.select(k_target=values.k_entry, **{name: values[name]})
    found = links.inner_join(values, links.k_link == values.k_target)
    found = found.select("k_entry", name)
    return found.filter(found[name].notnull()).distinct()


def _written(stages: TableStages, field: FieldRef, values: Sequence[Any]) -> list[str]:
    """Return for each of some weights the text that has them, as it is written first among all entries."""
    if not values:
        return []
    scope = stages.scope
    inner = field
    while step := first_step(inner):
        inner = step[1]
    is_initial = isinstance(inner.source, Part)
    stored_in = inner.source.of if isinstance(inner.source, Part) else inner
    stored = scope.data.stored[stored_in.name, stored_in.type]
    entries = scope.table("entries")
    if stored.type.many:
        table, base = scope.listed("entry_values", stored), family(stored.type)
        table = joined(table, entries, "entry", "id", {"date_start": "date_start"})
        order = [*newest_first(table, "entry"), table.at]
    else:
        table, base, order = entries, stored.base, newest_first(entries)
    weights = text_part(table, base, "initial_sorted" if is_initial else "sorted")
    text = table[part(base, "initial")] if is_initial else table[base]
    wanted = table.filter(scope.values.among(weights, values))
    nth = ibis.row_number().over(ibis.window(group_by=weights, order_by=order))
    found = wanted.mutate(k_text=text, k_weights=weights, k_nth=nth)
    told = dict(
        scope.rows(found.filter(found.k_nth == 0).select("k_weights", "k_text"), "how groups are written")
    )
    return [told[each] for each in values]
