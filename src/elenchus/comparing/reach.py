"""Whether a change of fields can reach anything that a site shows, told by the words of its questions."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.schema.conform import flags_of
from elenchus.schema.types import Type

if TYPE_CHECKING:
    from collections.abc import Collection

    from elenchus.site.site import Site

__all__ = ["may_reach"]

# Fields on which it depends who sees an entry, where, and in what order, whatever questions say.
_EVERYWHERE = frozenset({"status", "date", "expires", "slug", "title", "address", "kind", "parent", "pinned"})
_WORD = re.compile(r"\w[\w-]*")


def may_reach(site: Site, fields: Collection[str]) -> bool:
    """Say whether listings or pages may show other rows once some fields have other values.

    No is sure: then no question of the site has the word. Yes may turn out to be no.
    """
    schema = site.dataset.schema
    flags = {key for spec in site.definition.sources for key in flags_of(spec.habits)}
    if not (_EVERYWHERE | flags).isdisjoint(fields):
        return True
    # What rules hold is all text that people wrote in them, and the names of their keys.
    told = repr((site.library.rules, site.pages.pages, schema.conditions))
    words = set(_WORD.findall(told))
    if not words.isdisjoint(fields):
        return True
    return "related" in words and any(_relates(site, name) for name in fields)


def _relates(site: Site, name: str) -> bool:
    """Say whether entries are related to one another by a field."""
    schema = site.dataset.schema
    found = (schema.fields_of(kind).get(name) for kind in schema.kinds)
    return any(field.type.type in (Type.TERM, Type.ENTRY) for field in found if field)
