"""From what is written to tables: identities, order and visibility first, then a column for each field."""

from __future__ import annotations

from operator import itemgetter
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.ancestry import ancestry, parents
from elenchus.engine.columns.column import Numbers
from elenchus.engine.columns.dataset import Dataset, Entries, Flags, Guessed, Misfit
from elenchus.engine.columns.fill import Draft, fill
from elenchus.engine.columns.keys import column_keys, with_undeclared
from elenchus.engine.columns.meanings import scalars
from elenchus.engine.columns.naming import EntryNames
from elenchus.engine.columns.recordtable import Intake
from elenchus.engine.columns.sheet import Sheet, WrittenDates
from elenchus.engine.columns.strings import ranks_of
from elenchus.errors import Place, Problem
from elenchus.frozen import Frozen, knowing, member
from elenchus.schema.convert import Moment, Unfit, convert
from elenchus.schema.taxonomy import unparted_names
from elenchus.schema.terms import arrange, gather
from elenchus.schema.types import CORE_FIELDS, STATUSES, FieldType, Type
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.engine.columns.column import Column, Dates
    from elenchus.engine.columns.recordtable import RecordTable
    from elenchus.schema.record import Record
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.terms import TermRow
    from elenchus.schema.types import Schema, TaxonomyRules

__all__ = ["Since", "assemble", "build"]

_DATES_OF_STATE = ("date", "expires")
_NEVER = 2**63 - 1
_ALWAYS = -(2**63)


class Since(Frozen):
    """What is known of records already.

    ``live`` is a mask over them: others are left out. ``before`` is a dataset of the first of them, under the
    same schema, from which is taken what still holds. ``own_slugs`` are those of terms in databases, by
    taxonomy and by what content calls them.
    """

    live: NDArray[np.bool_]
    before: Dataset | None = None
    own_slugs: Mapping[str, Mapping[str, str]] = member(default_factory=dict)


def build(
    schema: Schema,
    records: Iterable[Record],
    terms: Mapping[str, Sequence[TermRow]],
    zone: ZoneInfo,
    problems: Iterable[Problem] = (),
) -> Dataset:
    """Return the dataset of some records under a schema; see :func:`assemble`."""
    return assemble(schema, Intake.of(records), terms, zone, problems)


def assemble(
    schema: Schema,
    written: RecordTable,
    terms: Mapping[str, Sequence[TermRow]],
    zone: ZoneInfo,
    problems: Iterable[Problem] = (),
    since: Since | None = None,
) -> Dataset:
    """Return the dataset of what is written under a schema.

    ``terms`` gives the rows of the taxonomies whose terms a file defines; the others are made of the
    terms that content uses, with the slugs that databases have for some. Values that do not fit are missing
    in the dataset and stand in its problems, after those that the caller already has.
    """
    before = since.before if since else None
    sheet = Sheet(
        written,
        schema,
        {taxonomy: unparted_names(rows) for taxonomy, rows in terms.items()},
        since.live if since else np.ones(len(written), np.bool_),
        before.record_names if before else None,
    )
    records, id_rank = _newest_first(sheet, zone)
    row_of = np.full(len(written), -1, dtype=np.int32)
    row_of[records] = np.arange(len(records), dtype=np.int32)
    names = EntryNames(
        sheet.names.ids, sheet.names.slugs, records, sheet.names.kinds[records], list(schema.kinds)
    )
    draft = Draft(
        sheet=sheet,
        schema=with_undeclared(schema, _undeclared(schema, sheet)),
        zone=zone,
        names=names,
        row_of=row_of,
        taxonomies={},
        problems=[*problems, *sheet.problems],
        known=_known(before, sheet) if before else {},
        notes=list(sheet.notes),
    )
    own = since.own_slugs if since else {}
    for rules in schema.taxonomies.values():
        draft.taxonomies[rules.name] = _taxonomy(draft, rules, terms.get(rules.name), own.get(rules.name, {}))
    return _filled(draft, id_rank)


def _known(before: Dataset, sheet: Sheet) -> Mapping[tuple[str, FieldType], Column]:
    """Return the columns that were there before; addresses only if no slug may have another number now."""
    columns = before.entries.columns
    if not (before.record_names.has_numbers or sheet.names.has_numbers):
        return columns
    return {key: column for key, column in columns.items() if key[0] != "address"}


def _filled(draft: Draft, id_rank: NDArray[np.int32]) -> Dataset:
    """Return the dataset of a draft, with all its columns."""
    sheet, records, row_of = draft.sheet, draft.names.records, draft.row_of
    columns = {key: fill(draft, *key, fields) for key, fields in column_keys(draft.schema).items()}
    _cut_cycles(draft, columns)
    opens, closes = _visibility(draft, columns)
    entries = Entries(
        names=draft.names,
        opens=opens,
        closes=closes,
        columns=columns,
        ancestry=ancestry(parents(columns, len(records))),
    )
    return Dataset(
        schema=draft.schema,
        entries=knowing(entries, id_rank=id_rank),
        taxonomies=draft.taxonomies,
        zone=draft.zone,
        problems=_in_order(draft.problems),
        misfits=draft.misfits,
        record_names=sheet.names,
        notes=_in_order(draft.notes),
        flags=Flags.of({int(row_of[record]): told for record, told in sheet.flags.items()}, len(records)),
        guessed=Guessed(sheet.written.title_from[records], sheet.written.date_from[records]),
    )


def _cut_cycles(draft: Draft, columns: Mapping[tuple[str, FieldType], Column]) -> None:
    """Report entries that stand below themselves, and let the parent of each be missing."""
    above = parents(columns, draft.size).tolist()
    seen: set[int] = set()
    for start in np.flatnonzero(np.array(above) >= 0).tolist():
        chain: dict[int, None] = {}
        row = start
        while row >= 0 and row not in seen:
            seen.add(row)
            chain[row] = None
            row = above[row]
        if row in chain:
            _cut(draft, columns, list(chain)[list(chain).index(row) :])


def _cut(draft: Draft, columns: Mapping[tuple[str, FieldType], Column], members: list[int]) -> None:
    """Report the members of a cycle, each below the next, and take their parents away."""
    written, ids = draft.sheet.written, draft.names.ids
    first = min(members, key=lambda member: written.place(draft.record(member)))
    at = members.index(first)
    chain = " → ".join(ids[member] for member in (*members[at:], *members[:at], first))
    message = f"parent: {ids[first]} would stand below itself: {chain}"
    hint = "Take one parent away; until then none of them has one."
    place = draft.sheet.place_of(draft.record(first), "parent")
    problem = Problem("parent-cycle", message, hint, place=place)
    draft.problems.append(problem)
    for entry in members:
        text = as_text(draft.sheet.value(draft.record(entry), "parent"))
        draft.misfits.append(Misfit(entry, "parent", text, problem))
        for (name, kind), column in columns.items():
            if name == "parent" and kind.type is Type.ENTRY and isinstance(column, Numbers):
                column.valid[entry] = False


def _in_order(problems: Iterable[Problem]) -> list[Problem]:
    """Return the problems by file and line, each once."""
    return sorted(dict.fromkeys(problems), key=lambda problem: (problem.place is None, problem.place))


def _newest_first(sheet: Sheet, zone: ZoneInfo) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Return the records of the entries newest first, ties by id, and the place of each id among all.

    Those without a readable date come last.
    """
    records = np.flatnonzero(sheet.kept).astype(np.int32)
    starts = np.full(len(sheet.kept), -_NEVER, dtype=np.int64)
    if "date" in sheet.cells:
        cells = sheet.cells["date"]
        dates = sheet.dates["date"] = WrittenDates.read(cells, cells.codes, zone)
        first = dates.moments[:, 0].copy()
        for at in np.flatnonzero(~dates.known).tolist():
            first[at] = _start_of(dates.values[at], zone)
        starts[cells.owners] = first[dates.which]
    ranks = ranks_of(sheet.names.ids.texts.at(records))
    order = np.lexsort((ranks, -starts[records]))
    return records[order], ranks[order]


def _start_of(value: Any, zone: ZoneInfo) -> int:
    """Return the instant of an entry's date; what cannot be read is reported with its column."""
    try:
        found: Moment | None = convert(scalars(value)[0], CORE_FIELDS["date"], zone)
    except (Unfit, IndexError):
        return -_NEVER
    return found.start if found else -_NEVER


def _undeclared(schema: Schema, sheet: Sheet) -> dict[str, dict[str, bool]]:
    """Return the keys that no kind declares, by kind, and whether they hold several values."""
    found: dict[str, set[str]] = {kind: set() for kind in schema.kinds}
    many: set[str] = set()
    known = {kind: set(schema.fields_of(kind)) for kind in schema.kinds}
    for name, cells in sheet.cells.items():
        here = np.flatnonzero(np.bincount(sheet.names.kinds[cells.owners], minlength=len(schema.kinds)))
        for number, kind in enumerate(schema.kinds):
            if number in here and name not in known[kind]:
                found[kind].add(name)
                others = sheet.used(name, number) if cells.forms.any() else ()
                if any(isinstance(value, list) for value in others):
                    many.add(name)
    return {kind: {name: name in many for name in sorted(names)} for kind, names in found.items()}


def _taxonomy(
    draft: Draft, rules: TaxonomyRules, defined: Sequence[TermRow] | None, own: Mapping[str, str]
) -> Taxonomy:
    """Return a taxonomy from the rows of its file, or else from what content uses."""
    if defined is None:
        made, notes = gather(rules, _terms_used(draft, rules.name), own)
        draft.notes.extend(notes)
        return made
    found, problems = arrange(rules, defined)
    draft.problems.extend(problems)
    return found


def _terms_used(draft: Draft, name: str) -> dict[str, Place]:
    """Return the terms that content uses as it writes them, each with the place of its newest use."""
    cells = draft.sheet.cells.get(name)
    if cells is None:
        return {}
    order = np.argsort(draft.row_of[cells.owners], kind="stable")
    used, firsts = np.unique(cells.codes[order], return_index=True)
    found: dict[str, Place] = {}
    for first, value in sorted(zip(firsts.tolist(), cells.values(used), strict=True), key=itemgetter(0)):
        owner = int(cells.owners[order[first]])
        for term in scalars(value):
            if (text := as_text(term)) not in found:
                found[text] = Place(draft.sheet.written.place(owner).file, int(cells.lines[order[first]]))
    return found


def _visibility(draft: Draft, columns: Mapping[tuple[str, FieldType], Any]) -> tuple[Any, Any]:
    """Return the instants from which and until which each row is public; NEVER where its status forbids.

    A row whose status is ``scheduled`` becomes public at its date; without one it never does. A date that
    cannot be read holds its row back: it may be meant for the future, or for an end that has passed.
    """
    size = draft.size
    opens, closes = np.full(size, _ALWAYS, np.int64), np.full(size, _NEVER, np.int64)
    dates = columns["date", CORE_FIELDS["date"].type]
    opens[dates.valid] = dates.keys[dates.valid]
    expires: Dates = columns["expires", CORE_FIELDS["expires"].type]
    lasts = np.where(expires.whole, expires.ends, expires.keys)
    closes[expires.valid] = lasts[expires.valid]
    status = columns["status", CORE_FIELDS["status"].type]
    written = np.zeros(size, np.bool_)
    if "status" in draft.sheet.cells:
        cells = draft.sheet.cells["status"]
        used, which = np.unique(cells.codes, return_inverse=True)
        said = np.array([bool(scalars(value)) for value in cells.values(used)], dtype=np.bool_)
        written[draft.row_of[cells.owners]] = said[which]
    scheduled = status.valid & (status.keys == STATUSES.index("scheduled")) & dates.valid
    public = status.valid & (status.keys == STATUSES.index("published")) | scheduled
    opens[written & ~public] = _NEVER
    opens[[misfit.row for misfit in draft.misfits if misfit.field in _DATES_OF_STATE]] = _NEVER
    return opens, closes
