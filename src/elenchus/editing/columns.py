"""Pending edits of rows: a column of a source has what is to become of a row, as an object of JSON."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.editing.entries import SORTS, EntryChange, FieldChange, entry_change
from elenchus.editing.spellings import texts_of, whole_names
from elenchus.engine.columns.meanings import scalars
from elenchus.engine.columns.recordtable import Intake
from elenchus.errors import About, Problem, SiteError
from elenchus.frozen import replace
from elenchus.index.reading import Chunk
from elenchus.schema.edits import NewValue, Sort
from elenchus.schema.record import Raw
from elenchus.values.texts import quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from elenchus.schema.record import Record
    from elenchus.site.site import Site
    from elenchus.sources import SourceSpec

__all__ = ["bad_edits", "has_row_edit", "pending_rows", "row_edits", "with_row_edits"]

_FIXED = ("id", "kind")  # which others refer to, and by which it stands where it does


def pending_rows(site: Site) -> list[int]:
    """Return the rows of the entries that have a pending edit in a column."""
    rows: list[int] = []
    records = site.content.records
    for spec in site.definition.sources:
        cells = records.cells.get(_field_of(spec)) if spec.edits else None
        if cells is None:
            continue
        of_source = [at for at, each in enumerate(records.habits) if each.source == spec.name]
        has_edit = np.zeros(len(records), dtype=np.bool_)
        has_edit[cells.owners] = True
        has_edit &= np.isin(records.sources, of_source)
        rows += np.flatnonzero(has_edit[site.dataset.entries.names.records]).tolist()
    return rows


def has_row_edit(site: Site, row: int) -> bool:
    """Say whether an entry has a pending edit in a column."""
    record = site.content.record(site.dataset.entries.ids[row])
    return _field_of(site.definition.source(record.habits.source)) in record.values


def with_row_edits(site: Site) -> Site:
    """Return the site as it would be with all edits in columns. Raises SiteError where one cannot be read."""
    found, names = site.content.found, site.dataset.entries.names
    edited = {int(names.records[row]): row for row in pending_rows(site)}
    if not edited:
        return site
    records, problems = site.content.records, list[Problem]()
    after = {number: _after(site, records.record(number), problems) for number in edited}
    if problems:
        raise SiteError(problems)
    units = sorted({found.units.unit_of(number) for number in edited})
    firsts, counts = found.units.firsts[units], found.units.counts[units]
    numbers = (
        number for first, count in zip(firsts, counts, strict=True) for number in range(first, first + count)
    )
    kept = {at: found.units.problems[unit] for at, unit in enumerate(units) if unit in found.units.problems}
    chunk = Chunk(
        Intake.of(after.get(number) or records.record(number) for number in numbers),
        counts,
        found.units.digests[units],
        kept,
        np.zeros(len(units), dtype=np.bool_),
    )
    return type(site)(site.content.with_units(units, chunk), site.clock)


def bad_edits(site: Site) -> Iterator[Problem]:
    """Yield what is wrong with edits in columns."""
    problems: list[Problem] = []
    for row in pending_rows(site):
        _edit_in(site, site.content.record(site.dataset.entries.ids[row]), problems)
    yield from problems


def row_edits(site: Site, rows: Iterable[int]) -> list[EntryChange]:
    """Return what becomes of entries when their edits are published; the column has none then.

    Raises SiteError where one cannot be read.
    """
    problems: list[Problem] = []
    found = [change for row in rows if (change := _published(site, row, problems))]
    if problems:
        raise SiteError(problems)
    return found


def _published(site: Site, row: int, problems: list[Problem]) -> EntryChange | None:
    """Return what becomes of one entry; add what is wrong with its edit."""
    record = site.content.record(site.dataset.entries.ids[row])
    data = site.dataset
    kind = data.schema.fields_of(data.kind_of(row))
    column = _field_of(site.definition.source(record.habits.source))
    fields, values = {}, {}
    for name, value in _edit_in(site, record, problems).items():
        field = kind.get(name)
        texts = [as_text(each) for each in scalars(value)]
        before = texts_of(record, name, field, whole_names(data, field))
        fields[name] = FieldChange(name, tuple(before), tuple(texts))
        values[name] = NewValue(texts, isinstance(value, list), _sort(value, field and field.type.type))
    written = record.values[column].value
    text = written if isinstance(written, str) else json.dumps(written, ensure_ascii=False)
    fields[column] = FieldChange(column, (text,), ())
    values[column] = NewValue(())
    return entry_change(site, row, fields, values)


def _sort(value: Any, declared: Any) -> Sort:
    """Return what sort of value is written: as it is declared, else as the edit has it."""
    if declared in SORTS:
        return SORTS[declared]
    if isinstance(value, bool):
        return "yesno"
    return "number" if isinstance(value, (int, float)) else "text"


def _after(site: Site, record: Record, problems: list[Problem]) -> Record:
    """Return a record as its edit has it; add what is wrong with that."""
    column = _field_of(site.definition.source(record.habits.source))
    line = record.values[column].line
    changed = {name: Raw(each, line) for name, each in _edit_in(site, record, problems).items()}
    values = {**record.values, **changed, column: Raw(None)}
    return replace(
        record,
        values={name: raw for name, raw in values.items() if raw.value not in (None, "")},
        guessed={name: told for name, told in record.guessed.items() if name not in changed},
    )


def _edit_in(site: Site, record: Record, problems: list[Problem]) -> dict[str, Any]:
    """Return the values that an edit gives to fields; add what is wrong with it."""
    spec = site.definition.source(record.habits.source)
    column = _field_of(spec)
    value, line = record.values[column]
    try:
        found = json.loads(value) if isinstance(value, str) else value
    except ValueError:
        found = None
    place = replace(record.place, line=line or record.place.line)
    if not isinstance(found, dict):
        message = f"the pending edit {quoted(as_text(value))} is no object of JSON"
        hint = 'Write the values that are to change: {"title": "Grey seals"}.'
        problems.append(Problem("bad-edit", message, hint, place=place, about=About.VALUE))
        return {}
    names = {column: name for name, column in spec.columns.items()}
    wanted = {str(names.get(name, name)): each for name, each in found.items()}
    for name in (column, *_FIXED):
        if name in wanted:
            message = f"the pending edit gives {quoted(name)} a value, and no edit can change that"
            problems.append(Problem("bad-edit", message, "Take it out.", place=place, about=About.VALUE))
    return wanted


def _field_of(spec: SourceSpec) -> str:
    """Return the name of the field in which a source has edits; nothing where it has none."""
    return next((name for name, column in spec.columns.items() if column == spec.edits), spec.edits)
