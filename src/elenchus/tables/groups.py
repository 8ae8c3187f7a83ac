"""Groups over tables: counted there, put in order and named here, where groups are few."""

from __future__ import annotations

from datetime import date
from functools import cached_property
from typing import TYPE_CHECKING, Any

import ibis
import numpy as np

from elenchus.engine.columns.column import Texts
from elenchus.engine.columns.lexicon import Lexicon
from elenchus.engine.groupkeys import MISSING, KeyColumn
from elenchus.engine.groups import Grouping, empties, sort_columns
from elenchus.engine.select import Selection
from elenchus.errors import NotSupported
from elenchus.plan.nodes import FieldRef, Part, Stored
from elenchus.plan.walking import first_step
from elenchus.schema.types import CORE_FIELDS, Type
from elenchus.tables.expressions import EPOCH_DAY, joined, newest_first, sort_value, text_part
from elenchus.tables.layout import family, part
from elenchus.tables.shown import small_view
from elenchus.values.dates import start_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ibis.expr import types as ir
    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column
    from elenchus.plan.nodes import GroupBy
    from elenchus.tables.stages import TableStages

__all__ = ["TableGrouping", "grouped_tables"]

_TITLE = FieldRef("title", CORE_FIELDS["title"].type)


class _TableKey(KeyColumn):
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


class TableGrouping(Grouping):
    """The groups of an answer; its placements are fetched when somebody looks at them."""

    fetched: Any = None

    @cached_property
    def placements(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """See :class:`Grouping`."""
        found: tuple[NDArray[np.int64], NDArray[np.int64]] = self.fetched()
        return found


def grouped_tables(stages: TableStages, total: int) -> tuple[TableGrouping, dict[int, str]]:
    """Return the groups of an answer, and the ids of its rows by their places, once they are fetched."""
    placed, names = _placed(stages)
    counts = placed.group_by(names).aggregate(k_count=placed.count())
    told = stages.scope.rows(counts.select(*names, "k_count"), "how many rows each group has")
    keys = [
        _key(stages, spec, list(dict.fromkeys(row[at] for row in told if row[at] is not None)))
        for at, spec in enumerate(stages.plan.groups)
    ]
    codes = np.array(
        [[key.code_of[value] for key, value in zip(keys, row, strict=False)] for row in told], dtype=np.int64
    ).reshape(-1, len(keys))
    sizes = np.array([row[-1] for row in told], dtype=np.int64)
    by_code = np.lexsort(codes.T[::-1]) if len(codes) else np.zeros(0, dtype=np.intp)
    codes, sizes = codes[by_code], sizes[by_code]
    if len(codes):
        wanted = np.logical_and.reduce([key.wanted(codes[:, at]) for at, key in enumerate(keys)])
        codes, sizes = codes[wanted], sizes[wanted]
    empty, overflow = empties(keys, codes) if stages.plan.with_empty else (codes[:0], 0)
    every = np.concatenate((codes, empty))
    sizes = np.concatenate((sizes, np.zeros(len(empty), dtype=np.int64)))

    def rows_of(at: int) -> NDArray[np.int64]:
        return _rows_of(stages, placed, names[: at + 1], keys, every)

    order = np.lexsort(sort_columns(keys, every, rows_of)[::-1]) if len(every) else np.zeros(0, dtype=np.intp)
    rank = {tuple(each): at for at, each in enumerate(every[order].tolist())}
    ids: dict[int, str] = {}

    def fetched() -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        rows = stages.scope.rows(placed.select(*names, "id", "place"), "the rows of the groups")
        found = []
        for *values, name, place in rows:
            group = rank.get(tuple(key.code_of[value] for key, value in zip(keys, values, strict=True)))
            if group is not None:
                ids[int(place)] = name
                found.append((group, int(place)))
        found.sort()
        pairs = np.array(found, dtype=np.int64).reshape(-1, 2)
        return pairs[:, 0], pairs[:, 1]

    listed: Any = _Listed(total)
    ranks = np.arange(len(every))
    return TableGrouping(keys, every[order], sizes[order], listed, ranks, overflow, fetched=fetched), ids


def _rows_of(
    stages: TableStages,
    placed: ir.Table,
    names: Sequence[str],
    keys: Sequence[_TableKey],
    every: NDArray[np.int64],
) -> NDArray[np.int64]:
    """Return for each group how many distinct rows stand in the groups with the same first keys."""
    wanted = placed
    for key, name in zip(keys, names, strict=False):
        if key.spec.within:  # rows of no subtree that is named are in no group
            inside = [
                value for value, code in key.code_of.items() if value is not None and key.is_within(code)
            ]
            wanted = wanted.filter(stages.scope.values.among(wanted[name], inside))
    counts = wanted.group_by(names).aggregate(k_rows=wanted.id.nunique())
    told = stages.scope.rows(counts.select(*names, "k_rows"), "how many rows have the same first keys")
    chosen = keys[: len(names)]
    known = {
        tuple(key.code_of[value] for key, value in zip(chosen, row, strict=False)): row[-1] for row in told
    }
    return np.array([known.get(tuple(codes[: len(names)]), 0) for codes in every.tolist()], dtype=np.int64)


def _key(stages: TableStages, spec: GroupBy, values: list[Any]) -> _TableKey:
    """Return a key with what its values mean."""
    scope, kind = stages.scope, spec.field.type.type
    ids = values if kind is Type.ENTRY else []
    view = small_view(scope, ids, [_TITLE])
    texts = _written(stages, spec.field, values) if kind.is_text else ()
    return _TableKey(Selection(view), spec, tuple(values), tuple(texts))


def _placed(stages: TableStages) -> tuple[ir.Table, list[str]]:
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
    inner = field.source.of if isinstance(field.source, Part) else field
    if kind is Type.ENTRY and isinstance(field.source, Stored):
        links = scope.listed("links", scope.data.stored[field.name, field.type])
        links = links.filter(links.target.isin(scope.seen.id))
        return links.select(k_entry=links.entry, **{name: links.target}).distinct()
    if inner.type.many:
        listed = scope.listed("entry_values", scope.data.stored[inner.name, inner.type])
        value = sort_value(listed, family(inner.type), field)
        found = listed.select(k_entry=listed.entry, **{name: value})
        return found.filter(found[name].notnull()).distinct()
    entries = scope.table("entries")
    if not isinstance(inner.source, Stored):  # the entry itself
        return entries.select(k_entry=entries.id, **{name: entries.id})
    stored = scope.data.stored[inner.name, inner.type]
    return entries.select(k_entry=entries.id, **{name: sort_value(entries, stored.base, field)})


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
        table = joined(table, entries, "entry", "id", {"date__start": "date__start"})
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
