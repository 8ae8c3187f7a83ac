"""A site in the making: its sources, and what they have together."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

from elenchus.starting.guessing import Typed

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.sources import SourceSpec
    from elenchus.starting.looking import Entry
    from elenchus.starting.unsure import Unsure
    from elenchus.starting.values import KeyValues

__all__ = ["SiteDraft", "SourceDraft"]


class SourceDraft(NamedTuple):
    """A source as it is to be read, the kinds of its entries with how many there are, and what was seen.

    ``fields`` are the keys with what their values are, ``seen`` habits with how often they were met.
    """

    spec: SourceSpec
    kinds: Mapping[str, int]
    fields: Mapping[str, Typed]
    fields_of: Mapping[str, Sequence[str]]
    taxonomies: Mapping[str, bool]
    seen: Sequence[tuple[str, int]]
    unsure: Sequence[Unsure]
    language: str
    values: Mapping[str, KeyValues]
    size: int = 0
    sample: Sequence[Entry] = ()


class SiteDraft(NamedTuple):
    """A site in the making; ``files`` are those that it publishes as they are, and folders of such."""

    title: str
    sources: Sequence[SourceDraft]
    language: str
    files: Sequence[str] = ()

    @property
    def taxonomies(self) -> dict[str, bool]:
        """The taxonomies of all sources, and whether they are trees."""
        found: dict[str, bool] = {}
        for source in self.sources:
            for name, tree in source.taxonomies.items():
                found[name] = found.get(name, False) or tree
        return found

    @property
    def kinds(self) -> dict[str, int]:
        """The kinds of all sources, with the number of their entries."""
        found: Counter[str] = Counter()
        for source in self.sources:
            found.update(source.kinds)
        return dict(found)

    def fields(self, kind: str) -> dict[str, Typed]:
        """Return the fields of a kind; the same field of two sources is what both can hold."""
        found: dict[str, Typed] = {}
        for source in self.sources:
            for name in source.fields_of.get(kind, ()):
                told = source.fields[name]
                before = found.get(name)
                found[name] = told if before is None or before[:2] == told[:2] else _either(before, told)
        return found


def _either(one: Typed, other: Typed) -> Typed:
    """Return a type that has room for the values of two."""
    many = one.many or other.many
    if {one.type, other.type} <= {"integer", "number"}:
        return one._replace(type="number", many=many)
    if {one.type, other.type} <= {"date", "datetime"}:
        return one._replace(type="datetime", many=many)
    if one.type == other.type == "choice":
        return one._replace(choices=tuple(dict.fromkeys((*one.choices, *other.choices))))
    if one.type == other.type and one.kinds == other.kinds:
        return one._replace(many=many)
    return Typed("text", many)
