"""What is otherwise in one state of a site than in another."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypeVar

from elenchus.comparing.changes import ListingChange, listing_changes
from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.comparing.showing import Showing

_Value = TypeVar("_Value")

__all__ = ["NO_DIFFERENCE", "Difference", "difference"]


class Difference(Frozen):
    """What is otherwise: listings and sections with their rows, pages that appear or vanish.

    ``appeared`` and ``vanished`` have the titles of pages by their addresses, ``new`` and ``gone`` the names
    of listings that only one side has. ``titles`` are those of all entries that are named.
    """

    listings: tuple[ListingChange, ...]
    sections: tuple[ListingChange, ...]
    appeared: Mapping[str, str]
    vanished: Mapping[str, str]
    new: tuple[str, ...]
    gone: tuple[str, ...]
    titles: Mapping[str, str]

    @property
    def is_empty(self) -> bool:
        """Say whether nothing is otherwise."""
        parts = (self.listings, self.sections, self.appeared, self.vanished, self.new, self.gone)
        return not any(parts)


NO_DIFFERENCE = Difference((), (), {}, {}, (), (), {})


def difference(before: Showing, after: Showing) -> Difference:
    """Return what is otherwise in one state than in another."""
    listings = tuple(listing_changes(_keyed(before.listings), _keyed(after.listings)))
    sections = tuple(listing_changes(before.sections, after.sections))
    named = list(dict.fromkeys(name for change in (*listings, *sections) for name in _named(change)))
    return Difference(
        listings=listings,
        sections=sections,
        appeared=_only_in(after.addresses, before.addresses),
        vanished=_only_in(before.addresses, after.addresses),
        new=tuple(_only_in(after.listings, before.listings)),
        gone=tuple(_only_in(before.listings, after.listings)),
        titles={**before.titles(named), **after.titles(named)},
    )


def _keyed(listings: Mapping[str, Sequence[str]]) -> dict[str, Sequence[str]]:
    """Return listings as sections that stand nowhere."""
    return {f" {name}": rows for name, rows in listings.items()}


def _only_in(one: Mapping[str, _Value], other: Mapping[str, object]) -> dict[str, _Value]:
    """Return what only one of two has."""
    return {name: value for name, value in one.items() if name not in other}


def _named(change: ListingChange) -> Iterator[str]:
    """Yield the entries that a change names."""
    yield from (name for name, _ in (*change.enters, *change.leaves))
    yield from (name for name, _, _ in change.moves)
