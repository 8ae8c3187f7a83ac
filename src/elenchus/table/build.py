"""From records to tables: identities, order and visibility first, then a column for each field and type."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.table.ancestry import ancestry
from elenchus.table.columns import Numbers
from elenchus.table.convert import Moment, Unfit, convert
from elenchus.table.dataset import Dataset, Entries
from elenchus.table.fill import Draft, fill, scalars
from elenchus.table.identity import identify, names_of
from elenchus.table.schema import CORE_FIELDS, FIXED, STATUSES, Field, FieldType, Type
from elenchus.table.terms import arrange, gather

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

    from elenchus.errors import Problem
    from elenchus.table.columns import Column, Dates
    from elenchus.table.identity import Identity
    from elenchus.table.record import Record
    from elenchus.table.schema import Schema, TaxonomyRules
    from elenchus.table.taxonomy import Taxonomy
    from elenchus.table.terms import TermRow

__all__ = ["build"]

NEVER = 2**63 - 1
ALWAYS = -(2**63)


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
    identities, found = identify(records, schema)
    rows = newest_first(identities, zone)
    draft = Draft(with_undeclared(schema, rows), zone, rows, names_of(rows), {}, [*problems, *found])
    for rules in schema.taxonomies.values():
        draft.taxonomies[rules.name] = taxonomy(draft, rules, terms.get(rules.name))
    columns = {key: fill(draft, *key, fields) for key, fields in column_keys(draft).items()}
    opens, closes = visibility(draft, columns)
    numbers = {name: number for number, name in enumerate(schema.kinds)}
    entries = Entries(
        ids=[row.id for row in rows],
        kinds=np.array([numbers[row.kind] for row in rows], dtype=np.int16),
        id_rank=ranks([row.id for row in rows]),
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
        problems=in_order(draft.problems),
        names=draft.names,
        misfits=draft.misfits,
    )


def parents(columns: Mapping[tuple[str, FieldType], Column], size: int) -> NDArray[np.int64]:
    """Return the row of each row's parent, -1 for none, whatever the kinds declare of the field."""
    found = np.full(size, -1, dtype=np.int64)
    for (name, kind), column in columns.items():
        if name == "parent" and kind.type is Type.ENTRY and isinstance(column, Numbers):
            found[column.valid] = column.keys[column.valid]
    return found


def in_order(problems: Iterable[Problem]) -> list[Problem]:
    """Return the problems by file and line, each once."""
    return sorted(dict.fromkeys(problems), key=lambda problem: (problem.place is None, problem.place))


def ranks(ids: Sequence[str]) -> Any:
    """Return the place of each id among all, by code point."""
    place = {name: rank for rank, name in enumerate(sorted(ids))}
    return np.array([place[name] for name in ids], dtype=np.int32)


def newest_first(rows: Iterable[Identity], zone: ZoneInfo) -> list[Identity]:
    """Return the entries newest first, ties by id; those without a readable date last."""
    dated = [(start_of(row, zone), row) for row in rows]
    dated.sort(key=lambda pair: (pair[0] is None, -(pair[0] or 0), pair[1].id))
    return [row for _, row in dated]


def start_of(row: Identity, zone: ZoneInfo) -> int | None:
    """Return the instant of an entry's date; what cannot be read is reported with its column."""
    try:
        found: Moment | None = convert(scalars(row.value("date"))[0], CORE_FIELDS["date"], zone)
    except (Unfit, IndexError):
        return None
    return found.start if found else None


def with_undeclared(schema: Schema, rows: Sequence[Identity]) -> Schema:
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
        fields = {name: undeclared(name, many=name in many) for name in sorted(names)}
        kinds[kind] = replace(kinds[kind], fields={**kinds[kind].fields, **fields})
    return replace(schema, kinds=kinds)


def undeclared(name: str, *, many: bool) -> Field:
    """Return the text field of a key that no kind declares."""
    return Field(name, FieldType(Type.TEXT, many=many), declared=False)


def column_keys(draft: Draft) -> dict[tuple[str, FieldType], dict[str, Field]]:
    """Return the columns to make, by name and type, each with its field in the kinds that have it."""
    found: dict[tuple[str, FieldType], dict[str, Field]] = {
        (name, field.type): {} for name, field in draft.schema.fields.items() if name in FIXED
    }
    for kind in draft.schema.kinds:
        for name, field in draft.schema.fields_of(kind).items():
            found.setdefault((name, field.type), {})[kind] = field
    return found


def taxonomy(draft: Draft, rules: TaxonomyRules, defined: Sequence[TermRow] | None) -> Taxonomy:
    """Return a taxonomy from the rows of its file, or else from what content uses."""
    if defined is None:
        return gather(rules, (str(name) for row in draft.rows for name in scalars(row.value(rules.name))))
    found, problems = arrange(rules, defined)
    draft.problems.extend(problems)
    return found


def visibility(draft: Draft, columns: Mapping[tuple[str, FieldType], Any]) -> tuple[Any, Any]:
    """Return the instants from which and until which each row is public; NEVER where its status forbids.

    A row whose status is ``scheduled`` becomes public at its date; without one it never does.
    """
    size = len(draft.rows)
    opens, closes = np.full(size, ALWAYS, np.int64), np.full(size, NEVER, np.int64)
    dates = columns["date", CORE_FIELDS["date"].type]
    opens[dates.valid] = dates.keys[dates.valid]
    expires: Dates = columns["expires", CORE_FIELDS["expires"].type]
    lasts = np.where(expires.whole, expires.ends, expires.keys)
    closes[expires.valid] = lasts[expires.valid]
    status = columns["status", CORE_FIELDS["status"].type]
    written = np.array([bool(scalars(row.value("status"))) for row in draft.rows], dtype=np.bool_)
    scheduled = status.valid & (status.keys == STATUSES.index("scheduled")) & dates.valid
    public = status.valid & (status.keys == STATUSES.index("published")) | scheduled
    opens[written & ~public] = NEVER
    return opens, closes
