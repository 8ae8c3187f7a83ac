"""Who each entry is: its kind, slug and id, each id once."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from elenchus.errors import Place, Problem
from elenchus.table.convert import as_text
from elenchus.values.texts import either, fold, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.table.record import Raw, Record
    from elenchus.table.schema import Schema

__all__ = ["Identity", "identify", "names_of"]


@dataclass(frozen=True, slots=True)
class Identity:
    """An entry that is known by its id; ``values`` are as they were written."""

    id: str
    kind: str
    slug: str
    place: Place
    values: Mapping[str, Raw]

    def value(self, name: str) -> Any:
        """Return what was written for a field, None where nothing was."""
        raw = self.values.get(name)
        return raw.value if raw else None

    def place_of(self, name: str) -> Place:
        """Return where a field's value stands; the entry's own place where nothing was written."""
        raw = self.values.get(name)
        return Place(self.place.file, raw.line) if raw else self.place


def identify(records: Iterable[Record], schema: Schema) -> tuple[list[Identity], list[Problem]]:
    """Return the entries with a known kind and an id of their own, and the problems of the others.

    An id is the entry's own, or else ``kind/slug``. Of two entries with one id the first by place is
    kept; the second is left out, because a name that means two things means nothing.
    """
    kept: dict[str, Identity] = {}
    problems: list[Problem] = []
    for record in sorted(records, key=lambda record: record.place):
        entry = identity(record)
        if entry.kind not in schema.kinds:
            problems.append(unknown_kind(entry, schema))
        elif (first := kept.get(fold(entry.id))) is not None:
            message = f"the id {quoted(entry.id)} already belongs to {first.place.file}"
            hint = "This entry is left out until one of the two has another id."
            problems.append(Problem("duplicate-id", message, hint, place=entry.place_of("id")))
        else:
            kept[fold(entry.id)] = entry
    return list(kept.values()), problems


def identity(record: Record) -> Identity:
    """Return a record's kind, slug and id, its own words before those that its place suggests."""
    kind = written(record, "kind") or record.kind
    slug = written(record, "slug") or record.slug
    return Identity(written(record, "id") or f"{kind}/{slug}", kind, slug, record.place, record.values)


def written(record: Record, name: str) -> str:
    """Return the text written for a field, or nothing."""
    raw = record.values.get(name)
    return as_text(raw.value) if raw and raw.value is not None else ""


def unknown_kind(entry: Identity, schema: Schema) -> Problem:
    """Return the problem of an entry whose kind the site does not declare."""
    near = nearest(entry.kind, schema.kinds)
    hint = f"Did you mean {either(near)}?" if near else f"Declare [kinds.{entry.kind}] in the site file."
    message = f"the kind {quoted(entry.kind)} is not declared; the entry is left out"
    return Problem("unknown-kind", message, hint, place=entry.place_of("kind"))


def names_of(rows: Sequence[Identity]) -> dict[str, list[int]]:
    """Return the rows that each folded id, slug and kind/slug may mean; an id hides equal slugs."""
    by_id = {fold(row.id): [number] for number, row in enumerate(rows)}
    by_slug: dict[str, list[int]] = defaultdict(list)
    for number, row in enumerate(rows):
        for name in {fold(row.slug), fold(f"{row.kind}/{row.slug}")}:
            by_slug[name].append(number)
    return {**by_slug, **by_id}
