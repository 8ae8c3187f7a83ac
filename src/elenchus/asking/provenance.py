"""Where values come from: what each source gives, in which habits, and how much of it fits."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.distinct import each_value
from elenchus.engine.columns.recordtable import GUESSES, TEXT
from elenchus.engine.describing.describe import Block
from elenchus.errors import NoSuchName, Problem
from elenchus.frozen import Frozen
from elenchus.schema.conform import can_be_parted
from elenchus.values.datepatterns import date_reader
from elenchus.values.dates import literal_interval
from elenchus.values.texts import fold, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterator

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.columns.recordtable import Cells, RecordTable
    from elenchus.schema.types import Field
    from elenchus.site.site import Site
    from elenchus.sources import SourceSpec, TableSpec

__all__ = ["Habit", "describe_source", "field_sources", "habits_of"]

_LONGEST = 40  # characters of an example


class Habit(Frozen):
    """Something that a source does in its own way: how many values or entries do, and the first of them."""

    what: str
    count: int
    example: str = ""


class _FromSource:
    """What one source gave: its entries by their rows, and what was written for each key."""

    def __init__(self, site: Site, spec: SourceSpec) -> None:
        self.spec = spec
        self.data: Dataset = site.dataset
        self.records: RecordTable = site.content.records
        numbers = [at for at, habits in enumerate(self.records.habits) if habits.source == spec.name]
        of_rows = self.records.sources[self.data.entries.names.records]
        self.rows: NDArray[np.intp] = np.flatnonzero(np.isin(of_rows, numbers))
        self.misfits = Counter(
            each.field for each in self.data.misfits if of_rows[each.row] in numbers
        )  # how many values of each field do not fit
        self.mine = np.zeros(len(self.records), np.bool_)
        self.mine[self.data.entries.names.records[self.rows]] = True

    def written(self, cells: Cells) -> NDArray[np.int32]:
        """Return the codes of the values that entries of the source have for a key."""
        found: NDArray[np.int32] = cells.codes[self.mine[cells.owners]]
        return found

    def field(self, name: str) -> Field | None:
        """Return a field as the first kind has it that declares it and that the source gives."""
        kinds = each_value(self.data.entries.kinds[self.rows])
        fields = (self.data.schema.fields_of(self.data.kind_names[kind]).get(name) for kind in kinds.tolist())
        return next((field for field in fields if field), None)


def describe_source(site: Site, name: str) -> list[Block]:
    """Return what a source gives and in which habits. Raises NoSuchName."""
    specs = {spec.name: spec for spec in site.definition.sources}
    if name not in specs:
        message = f"the site has no source {quoted(name)}"
        hint = f"Sources: {', '.join(specs)}."
        raise NoSuchName([Problem("unknown-name", message, hint, near=nearest(name, specs))])
    spec, given = specs[name], _FromSource(site, specs[name])
    kinds = Counter(given.data.kind_names[kind] for kind in given.data.entries.kinds[given.rows].tolist())
    table = spec.table
    facts = [("reads", spec.read), ("from", spec.place)]
    if table:
        facts.append(("table", table.query or f"{table.prefix}{table.table}"))
        facts.append(("read again", _reread_after(spec, table)))
    counts = ", ".join(f"{count} {kind}" for kind, count in kinds.items()) or "none"
    facts.append(("entries", counts))
    habits = [(habit.what, str(habit.count), habit.example) for habit in habits_of(site, spec)]
    fields = []
    for key, cells in given.records.cells.items():
        codes = given.written(cells)
        if len(codes):
            field = given.field(key)
            kind = str(field.type) if field else ""
            fields.append((key, kind, str(len(codes)), str(given.misfits[key] or ""), _example(cells, codes)))
    return [
        Block(f"Source {name}", tuple(facts), ("habit", "how often", "such as"), tuple(habits)),
        Block("What it gives", (), ("key", "type", "written", "not fitting", "such as"), tuple(fields)),
    ]


def _reread_after(spec: SourceSpec, table: TableSpec) -> str:
    """Return which changes of a table let it be read again: what others are not seen yet."""
    if spec.paths:
        return "after any change of the file"
    if not table.updated:
        return "after any change of a row, also in tables beside it"
    beside = ", and after any change in tables beside it" if table.terms or table.extras else ""
    return f"rows whose {table.updated} changes{beside}; others with --no-index"


def habits_of(site: Site, spec: SourceSpec) -> Iterator[Habit]:
    """Yield what a source does in its own way."""
    given = _FromSource(site, spec)
    yield from _renamings(given)
    yield from _states(given)
    yield from _guesses(given)
    yield from _dates(given)
    yield from _partings(given)


def _renamings(given: _FromSource) -> Iterator[Habit]:
    """Yield fields that have other names there."""
    for field, column in given.spec.columns.items():
        if cells := given.records.cells.get(field):
            codes = given.written(cells)
            if len(codes):
                yield Habit(f"{field} is called {column}", len(codes), _example(cells, codes))


def _states(given: _FromSource) -> Iterator[Habit]:
    """Yield the keys and words by which entries are kept back."""
    flags = given.data.flags
    for place, key in enumerate(flags.keys_told, start=1):
        if count := int(np.count_nonzero(flags.which[given.rows] == place)):
            yield Habit(f"{key} keeps entries back", count)
    cells = given.records.cells.get("status")
    for foreign, ours in given.spec.habits.statuses.items():
        texts = [as_text(value) for value in cells.values(given.written(cells))] if cells else []
        if count := sum(fold(text) == fold(foreign) for text in texts):
            yield Habit(f"{foreign} means {ours}", count)


def _guesses(given: _FromSource) -> Iterator[Habit]:
    """Yield what titles and dates were made of that nobody wrote."""
    for name, guessed in (("title", given.data.guessed.titles), ("date", given.data.guessed.dates)):
        for place, word in enumerate(GUESSES):
            rows = given.rows[guessed[given.rows] == place]
            if place and len(rows):
                yield Habit(
                    f"the {name} is that of the {word}", len(rows), given.data.entries.ids[int(rows[0])]
                )


def _dates(given: _FromSource) -> Iterator[Habit]:
    """Yield how dates are written that are not as ISO 8601 has them."""
    patterns, language = given.spec.habits.dates, given.spec.habits.language
    readers = {pattern: date_reader((pattern,), language) for pattern in patterns}
    for name, cells in given.records.cells.items():
        field = given.field(name)
        if field is None or not field.type.type.is_date:
            continue
        met: Counter[str] = Counter()
        examples: dict[str, str] = {}
        for value in cells.values(given.written(cells)):
            text = as_text(value) if value is not None else ""
            if not text or literal_interval(text, given.data.zone):
                continue
            how = next((pattern for pattern, read in readers.items() if read(text)), "")
            met[how] += 1
            examples.setdefault(how, text)
        for how, count in met.items():
            what = f"{name} is written as {how}" if how else f"{name} cannot be read"
            yield Habit(what, count, examples[how])


def _partings(given: _FromSource) -> Iterator[Habit]:
    """Yield texts that stand for several values."""
    separator = given.spec.habits.separator
    for name, cells in given.records.cells.items():
        if not separator or not can_be_parted(given.field(name)):
            continue
        codes = given.written(cells)
        texts = cells.texts.at(codes[cells.forms[codes] == TEXT])
        parted = [text for text in texts if separator in text]
        if parted:
            yield Habit(f"{name} is one text with {quoted(separator)} in it", len(parted), _short(parted[0]))


def field_sources(site: Site, name: str) -> list[Block]:
    """Return from which sources a field comes, where there are several, and how many of its values fit."""
    if len(site.definition.sources) < 2:  # noqa: PLR2004 - one gives everything
        return []
    rows = []
    for spec in site.definition.sources:
        given = _FromSource(site, spec)
        cells = given.records.cells.get(name)
        count = len(given.written(cells)) if cells else 0
        if cells and count:
            example = _example(cells, given.written(cells))
            rows.append((spec.name, str(count), str(count - given.misfits[name]), example))
    headings = ("source", "written", "fitting", "such as")
    return [Block(f"Where {name} comes from", (), headings, tuple(rows))] if rows else []


def _example(cells: Cells, codes: NDArray[Any]) -> str:
    """Return the first of some values."""
    return _short(as_text(next((value for value in cells.values(codes[:1]) if value is not None), "")))


def _short(text: str) -> str:
    """Return a text on one line, cut where it is long."""
    line = " ".join(text.split())
    return line if len(line) <= _LONGEST else f"{line[: _LONGEST - 1]}…"
