"""Names for entries that have the slug or the id of another, and are left out for that."""

from __future__ import annotations

from itertools import chain, count
from typing import TYPE_CHECKING

from elenchus.editing.entries import FieldChange, record_change
from elenchus.schema.edits import NewValue
from elenchus.schema.identity import identity
from elenchus.values.slugs import unsafe_slug
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.editing.entries import EntryChange
    from elenchus.errors import OwnName
    from elenchus.site.site import Site

__all__ = ["own_names"]


def own_names(site: Site, wanted: OwnName) -> Sequence[EntryChange]:
    """Return what gives entries names of their own.

    A slug is that of the file or the title, if it is free, else the one that is taken with a number. An id
    is taken away, so that the entry has the usual one.
    """
    names, given = site.dataset.entries.names, set[str]()

    def is_taken(slug: str) -> bool:
        return fold(slug) in given or bool(names.find(fold(f"{wanted.kind}/{slug}"), (wanted.kind,)))

    found = []
    for record_number in wanted.records:
        record = site.content.records.record(record_number)
        name = identity(record)
        if wanted.what == "id":
            change, value = FieldChange("id", (name.id,), ()), NewValue(())
        else:
            numbered = (f"{name.slug}-{number}" for number in count(2))
            own = record.slug if record.slug and not unsafe_slug(record.slug) else name.slug
            slug = next(each for each in chain([own], numbered) if not is_taken(each))
            given.add(fold(slug))
            change, value = FieldChange("slug", (name.slug,), (slug,)), NewValue((slug,))
        found.append(record_change(site, record_number, name.id, (change,), {wanted.what: value}))
    return found
