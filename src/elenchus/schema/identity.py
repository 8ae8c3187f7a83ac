"""Who an entry is: its kind, slug and id, its own words before those that its place suggests."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from elenchus.errors import About, Problem
from elenchus.values.slugs import slug_of
from elenchus.values.texts import either, nearest, quoted
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.errors import OwnName, Place
    from elenchus.schema.record import Record
    from elenchus.schema.types import Schema

__all__ = [
    "Identity",
    "id_of",
    "identity",
    "name_in_kind",
    "numbered_slugs",
    "taken_name",
    "unknown_kind",
    "unsafe_slug_of",
]

_FEW = 3  # places that are named


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


def name_in_kind(name: str, kind: str) -> str:
    """Return what addresses have for an id: of the row of a table its number, which is one of its kind."""
    number = name.removeprefix(f"{kind}/")
    return number if number.isdecimal() else name


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


def taken_name(name: str, cure: OwnName, first: Place, others: Sequence[Place]) -> Problem:
    """Return the problem of the later ones of several entries with one slug or id: two meanings are none.

    ``cure`` says which it is, and names those that want another.
    """
    count, word = len(others), cure.what
    what = f"the {word} {quoted(name)}{f' of {cure.kind}' if word == 'slug' else ''}"
    one = first.file if any(place.file != first.file for place in others) else str(first)
    if count == 1:
        message = f"{what} is already used by {one}"
        hint = f"This entry is left out until one of them has a different {word}."
    else:
        message = f"{what} is used by {one} and {count:,} other entries"
        named = list(dict.fromkeys(map(str, others)))
        more = f" and {len(named) - _FEW:,} more" if len(named) > _FEW else ""
        hint = f"Left out until they have different ones: {', '.join(named[:_FEW])}{more}."
    code = f"duplicate-{word}"
    return Problem(code, message, hint, place=others[0], about=About.IDENTITY, cure=cure, entries=count)


def unsafe_slug_of(slug: str, why: str, place: Place) -> Problem:
    """Return the problem of an entry whose slug can be no part of an address."""
    message = f"the slug {quoted(slug)} cannot be used in an address: {why}. The entry is left out"
    near = slug_of(slug)
    hint = "Remove it, and a slug is made from the title." if not near else ""
    return Problem("unsafe-slug", message, hint, place=place, near=(near,) if near else ())


def numbered_slugs(kind: str, count: int, name: str, number: str, place: Place) -> Problem:
    """Return the note of entries of a kind whose slug was made of what others have, too."""
    entries = "1 entry has" if count == 1 else f"{count:,} entries have"
    message = f"{entries} the same title or name as another {kind}, so the slug ends with a number"
    hint = f"For example, {quoted(name)} has the slug {quoted(number)}. For permanent slugs, set"
    more = 'slug = "{title}-{date}" in the source.'
    return Problem("numbered-slug", message, f"{hint} {more}", place=place, about=About.IDENTITY)
