"""Who an entry is: its kind, slug and id, its own words before those that its place suggests."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from elenchus.errors import About, Problem
from elenchus.values.texts import either, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from elenchus.errors import Place
    from elenchus.schema.record import Record
    from elenchus.schema.types import Schema

__all__ = ["Identity", "id_of", "identity", "taken_id", "unknown_kind"]


class Identity(NamedTuple):
    """What an entry is called."""

    id: str
    kind: str
    slug: str


def identity(record: Record) -> Identity:
    """Return a record's kind, slug and id."""
    kind = _written(record, "kind") or record.kind
    slug = _written(record, "slug") or record.slug
    return Identity(_written(record, "id") or id_of(kind, slug), kind, slug)


def id_of(kind: str, slug: str) -> str:
    """Return the id of an entry that has none of its own."""
    return f"{kind}/{slug}"


def _written(record: Record, name: str) -> str:
    """Return the text written for a field, or nothing."""
    raw = record.values.get(name)
    return as_text(raw.value) if raw and raw.value is not None else ""


def unknown_kind(kind: str, schema: Schema, place: Place) -> Problem:
    """Return the problem of an entry whose kind the site does not declare."""
    if not kind:
        message = "the entry says no kind, so it is left out"
        return Problem("unknown-kind", message, f"It can be {either(schema.kinds)}.", place=place)
    hint = f"Declare [kinds.{kind}] in the site file."
    message = f"the kind {quoted(kind)} is not declared; the entry is left out"
    return Problem("unknown-kind", message, hint, place=place, near=nearest(kind, schema.kinds))


def taken_id(name: str, first: Place, place: Place) -> Problem:
    """Return the problem of the second of two entries with one id: two meanings are none."""
    message = f"the id {quoted(name)} already belongs to {first.file}"
    hint = "This entry is left out until one of the two has another slug or id."
    return Problem("duplicate-id", message, hint, place=place, about=About.IDENTITY)
