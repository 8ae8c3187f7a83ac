"""From records to tables: identities, order and visibility first, then a column for each field and type."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.columns.ancestry import ancestry, parents
from elenchus.engine.columns.column import Numbers
from elenchus.engine.columns.dataset import Dataset, Entries, Misfit
from elenchus.engine.columns.fill import Draft, fill, scalars
from elenchus.errors import Problem
from elenchus.frozen import replace
from elenchus.schema.convert import Moment, Unfit, convert
from elenchus.schema.identity import identify, names_of
from elenchus.schema.terms import arrange, gather
from elenchus.schema.types import CORE_FIELDS, FIXED, STATUSES, Field, FieldType, Type
from elenchus.values.texts import fold
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.engine.columns.column import Column, Dates
    from elenchus.errors import Place
    from elenchus.schema.identity import Identity
    from elenchus.schema.record import Record
    from elenchus.schema.taxonomy import Taxonomy
    from elenchus.schema.terms import TermRow
    from elenchus.schema.types import Schema, TaxonomyRules

__all__ = ["build"]

_DATES_OF_STATE = ("date", "expires")
_NEVER = 2**63 - 1
_ALWAYS = -(2**63)


def build(
    schema: Schema,
    records: Iterable[Record],
    terms: Mapping[str, Sequence[TermRow]],
    zone: ZoneInfo,
    problems: Iterable[Problem] = (),
) -> Dataset:
    """Return the dataset of some records under a schema.

    ``terms`` gives the rows of the taxonomies whose terms a file defines; the others are made of the
    terms that content uses. Values that do not fit are missing in the dataset and stand in its
    problems, after those that the caller already has.
    """
    found = identify(records, schema, _names_with_separators(terms))
    rows = _newest_first(found.rows, zone)
    draft = Draft(
        _with_undeclared(schema, rows), zone, rows, names_of(rows), {}, [*problems, *found.problems]
    )
    draft.notes.extend(found.notes)
    for rules in schema.taxonomies.values():
        draft.taxonomies[rules.name] = _taxonomy(draft, rules, terms.get(rules.name))
    columns = {key: fill(draft, *key, fields) for key, fields in _column_keys(draft).items()}
    _cut_cycles(draft, columns)
    opens, closes = _visibility(draft, columns)
    numbers = {name: number for number, name in enumerate(schema.kinds)}
    entries = Entries(
        ids=[row.id for row in rows],
        kinds=np.array([numbers[row.kind] for row in rows], dtype=np.int16),
        id_rank=_ranks([row.id for row in rows]),
        opens=opens,
        closes=closes,
        columns=columns,
        ancestry=ancestry(parents(columns, len(rows))),
    )
    return Dataset(
        schema=draft.schema,
        entries=entries,
        taxonomies=draft.taxonomies,
        zone=zone,
        problems=_in_order(draft.problems),
        names=draft.names,
        misfits=draft.misfits,
        notes=_in_order(draft.notes),
        flags={number: (row.flag, row.is_held_twice) for number, row in enumerate(rows) if row.flag},
        guessed={number: row.guessed for number, row in enumerate(rows) if row.guessed},
    )


def _names_with_separators(terms: Mapping[str, Sequence[TermRow]]) -> dict[str, frozenset[str]]:
    """Return the folded names of defined terms that could be taken for several values in one text."""
    return {
        taxonomy: frozenset(
            fold(name)
            for row in rows
            for name in (row.name, row.slug, row.id, *row.aliases)
            if not name.replace("-", "").replace(" ", "").isalnum()
        )
        for taxonomy, rows in terms.items()
    }


def _cut_cycles(draft: Draft, columns: Mapping[tuple[str, FieldType], Column]) -> None:
    """Report entries that stand below themselves, and let the parent of each be missing."""
    above = parents(columns, len(draft.rows)).tolist()
    seen: set[int] = set()
    for start in range(len(above)):
        chain: dict[int, None] = {}
        row = start
        while row >= 0 and row not in seen:
            seen.add(row)
            chain[row] = None
            row = above[row]
        if row not in chain:
            continue
        members = list(chain)[list(chain).index(row) :]
        first = min(members, key=lambda member: draft.rows[member].place)
        at = members.index(first)
        ids = [draft.rows[member].id for member in (*members[at:], *members[:at], first)]
        message = f"parent: {ids[0]} would stand below itself: {' → '.join(ids)}"
        hint = "Take one parent away; until then none of them has one."
        problem = Problem("parent-cycle", message, hint, place=draft.rows[first].place_of("parent"))
        draft.problems.append(problem)
        for member in members:
            written = as_text(draft.rows[member].value("parent"))
            draft.misfits.append(Misfit(member, "parent", written, problem))
            for (name, kind), column in columns.items():
                if name == "parent" and kind.type is Type.ENTRY and isinstance(column, Numbers):
                    column.valid[member] = False


def _in_order(problems: Iterable[Problem]) -> list[Problem]:
    """Return the problems by file and line, each once."""
    return sorted(dict.fromkeys(problems), key=lambda problem: (problem.place is None, problem.place))


def _ranks(ids: Sequence[str]) -> Any:
    """Return the place of each id among all, by code point."""
    place = {name: rank for rank, name in enumerate(sorted(ids))}
    return np.array([place[name] for name in ids], dtype=np.int32)


def _newest_first(rows: Iterable[Identity], zone: ZoneInfo) -> list[Identity]:
    """Return the entries newest first, ties by id; those without a readable date last."""
    dated = [(_start_of(row, zone), row) for row in rows]
    dated.sort(key=lambda pair: (pair[0] is None, -(pair[0] or 0), pair[1].id))
    return [row for _, row in dated]


def _start_of(row: Identity, zone: ZoneInfo) -> int | None:
    """Return the instant of an entry's date; what cannot be read is reported with its column."""
    try:
        found: Moment | None = convert(scalars(row.value("date"))[0], CORE_FIELDS["date"], zone)
    except (Unfit, IndexError):
        return None
    return found.start if found else None


def _with_undeclared(schema: Schema, rows: Sequence[Identity]) -> Schema:
    """Return the schema with a text field for each key that content uses and no kind declares."""
    known = {kind: set(schema.fields_of(kind)) for kind in schema.kinds}
    found: dict[str, set[str]] = {kind: set() for kind in schema.kinds}
    many: set[str] = set()
    for row in rows:
        for name in row.values.keys() - known[row.kind]:
            found[row.kind].add(name)
            if isinstance(row.value(name), list):
                many.add(name)
    kinds = dict(schema.kinds)
    for kind, names in found.items():
        fields = {name: _undeclared(name, many=name in many) for name in sorted(names)}
        kinds[kind] = replace(kinds[kind], fields={**kinds[kind].fields, **fields})
    return replace(schema, kinds=kinds)


def _undeclared(name: str, *, many: bool) -> Field:
    """Return the text field of a key that no kind declares."""
    return Field(name, FieldType(Type.TEXT, many=many), declared=False)


def _column_keys(draft: Draft) -> dict[tuple[str, FieldType], dict[str, Field]]:
    """Return the columns to make, by name and type, each with its field in the kinds that have it."""
    found: dict[tuple[str, FieldType], dict[str, Field]] = {
        (name, field.type): {} for name, field in draft.schema.fields.items() if name in FIXED
    }
    for kind in draft.schema.kinds:
        for name, field in draft.schema.fields_of(kind).items():
            found.setdefault((name, field.type), {})[kind] = field
    return found


def _taxonomy(draft: Draft, rules: TaxonomyRules, defined: Sequence[TermRow] | None) -> Taxonomy:
    """Return a taxonomy from the rows of its file, or else from what content uses."""
    if defined is None:
        used: dict[str, Place] = {}
        for row in draft.rows:
            for name in scalars(row.value(rules.name)):
                used.setdefault(as_text(name), row.place_of(rules.name))
        made, notes = gather(rules, used)
        draft.notes.extend(notes)
        return made
    found, problems = arrange(rules, defined)
    draft.problems.extend(problems)
    return found


def _visibility(draft: Draft, columns: Mapping[tuple[str, FieldType], Any]) -> tuple[Any, Any]:
    """Return the instants from which and until which each row is public; NEVER where its status forbids.

    A row whose status is ``scheduled`` becomes public at its date; without one it never does. A date that
    cannot be read holds its row back: it may be meant for the future, or for an end that has passed.
    """
    size = len(draft.rows)
    opens, closes = np.full(size, _ALWAYS, np.int64), np.full(size, _NEVER, np.int64)
    dates = columns["date", CORE_FIELDS["date"].type]
    opens[dates.valid] = dates.keys[dates.valid]
    expires: Dates = columns["expires", CORE_FIELDS["expires"].type]
    lasts = np.where(expires.whole, expires.ends, expires.keys)
    closes[expires.valid] = lasts[expires.valid]
    status = columns["status", CORE_FIELDS["status"].type]
    written = np.array([bool(scalars(row.value("status"))) for row in draft.rows], dtype=np.bool_)
    scheduled = status.valid & (status.keys == STATUSES.index("scheduled")) & dates.valid
    public = status.valid & (status.keys == STATUSES.index("published")) | scheduled
    opens[written & ~public] = _NEVER
    opens[[misfit.row for misfit in draft.misfits if misfit.field in _DATES_OF_STATE]] = _NEVER
    return opens, closes
