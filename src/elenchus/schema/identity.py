"""Who each entry is: its kind, slug and id, each id once."""

from __future__ import annotations

from collections import defaultdict
from typing import TYPE_CHECKING, Any

from elenchus.errors import Place, Problem
from elenchus.frozen import Frozen, member, replace
from elenchus.schema.conform import conformed, notes_of
from elenchus.values.texts import either, fold, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.schema.record import Raw, Record
    from elenchus.schema.types import Schema

__all__ = ["Identified", "Identity", "identify", "identity", "names_of"]


class Identity(Frozen):
    """An entry that is known by its id; ``values`` are as they were written, in the words of all sources."""

    id: str
    kind: str
    slug: str
    place: Place
    values: Mapping[str, Raw]
    flag: str = ""  # the key by which its content keeps it back
    is_held_twice: bool = False  # and its status does so, too
    guessed: Mapping[str, str] = member(default_factory=dict)

    def value(self, name: str) -> Any:
        """Return what was written for a field, None where nothing was."""
        raw = self.values.get(name)
        return raw.value if raw else None

    def place_of(self, name: str) -> Place:
        """Return where a field's value stands; the entry's own place where nothing was written."""
        raw = self.values.get(name)
        return Place(self.place.file, raw.line) if raw else self.place


class Identified(Frozen):
    """The entries of a site with what was wrong with the others, and what is worth a note."""

    rows: list[Identity]
    problems: list[Problem]
    notes: list[Problem]


def identify(
    records: Iterable[Record], schema: Schema, whole: Mapping[str, frozenset[str]] | None = None
) -> Identified:
    """Return the entries with a known kind and an id of their own, and the problems of the others.

    An id is the entry's own, or else ``kind/slug``. Of two entries with one id the first by place is
    kept; the second is left out, because a name that means two things means nothing.
    """
    kept: dict[str, Identity] = {}
    problems: list[Problem] = []
    split: dict[tuple[str, str], list[tuple[str, Place]]] = defaultdict(list)
    for record in sorted(records, key=lambda record: record.place):
        entry = identity(record)
        if entry.kind not in schema.kinds:
            problems.append(_unknown_kind(entry, schema))
        elif (first := kept.get(fold(entry.id))) is not None:
            message = f"the id {quoted(entry.id)} already belongs to {first.place.file}"
            hint = "This entry is left out until one of the two has another slug or id."
            problems.append(Problem("duplicate-id", message, hint, place=entry.place_of("id")))
        else:
            found = conformed(record, entry.kind, schema, whole or {})
            problems += found.problems
            for name, text in () if record.habits.is_declared else found.split:
                split[record.habits.source, name].append((text, entry.place_of(name)))
            kept[fold(entry.id)] = replace(
                entry, values=found.values, flag=found.flag, is_held_twice=found.is_held_twice
            )
    return Identified(list(kept.values()), problems, notes_of(split))


def identity(record: Record) -> Identity:
    """Return a record's kind, slug and id, its own words before those that its place suggests."""
    kind = _written(record, "kind") or record.kind
    slug = _written(record, "slug") or record.slug
    name = _written(record, "id") or f"{kind}/{slug}"
    return Identity(name, kind, slug, record.place, record.values, guessed=record.guessed)


def _written(record: Record, name: str) -> str:
    """Return the text written for a field, or nothing."""
    raw = record.values.get(name)
    return as_text(raw.value) if raw and raw.value is not None else ""


def _unknown_kind(entry: Identity, schema: Schema) -> Problem:
    """Return the problem of an entry whose kind the site does not declare."""
    place = entry.place_of("kind")
    if not entry.kind:
        message = "the entry says no kind, so it is left out"
        return Problem("unknown-kind", message, f"It can be {either(schema.kinds)}.", place=place)
    near = nearest(entry.kind, schema.kinds)
    hint = f"Declare [kinds.{entry.kind}] in the site file."
    message = f"the kind {quoted(entry.kind)} is not declared; the entry is left out"
    return Problem("unknown-kind", message, hint, place=place, near=near)


def names_of(rows: Sequence[Identity]) -> dict[str, list[int]]:
    """Return the rows that each folded id, slug and kind/slug may mean; an id hides equal slugs."""
    by_id = {fold(row.id): [number] for number, row in enumerate(rows)}
    by_slug: dict[str, list[int]] = defaultdict(list)
    for number, row in enumerate(rows):
        for name in {fold(row.slug), fold(f"{row.kind}/{row.slug}")}:
            by_slug[name].append(number)
    return {**by_slug, **by_id}
