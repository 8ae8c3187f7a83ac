"""What is otherwise in one state of a site than in another."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol, TypeVar

from elenchus.comparing.changes import ListingChange, listing_changes
from elenchus.comparing.showing import Showing
from elenchus.frozen import Frozen, replace

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping, Sequence

    from elenchus.asking.query import Query
    from elenchus.site.site import Site

_Value = TypeVar("_Value")

__all__ = ["NO_DIFFERENCE", "Difference", "Shown", "difference", "of_two_listings"]


class Difference(Frozen):
    """What is otherwise: listings and sections with their rows, pages that appear or vanish.

    ``appeared`` and ``vanished`` have the titles of pages by their addresses, ``new`` and ``gone`` the names
    of listings that only one side has. ``titles`` are those of all entries that are named. ``changed`` has
    the titles of pages on both sides whose content differs, by their addresses; None if that is unknown.
    """

    listings: tuple[ListingChange, ...]
    sections: tuple[ListingChange, ...]
    appeared: Mapping[str, str]
    vanished: Mapping[str, str]
    new: tuple[str, ...]
    gone: tuple[str, ...]
    titles: Mapping[str, str]
    changed: Mapping[str, str] | None = None

    @property
    def is_empty(self) -> bool:
        """Say whether nothing is otherwise."""
        parts = (
            self.listings,
            self.sections,
            self.appeared,
            self.vanished,
            self.new,
            self.gone,
            self.changed,
        )
        return not any(parts)


NO_DIFFERENCE = Difference((), (), {}, {}, (), (), {})


class Shown(Protocol):
    """What is compared of a state of a site; ``listings`` is None where nobody knows them."""

    @property
    def listings(self) -> Mapping[str, Sequence[str]] | None:
        """The ids of the rows of each listing."""

    @property
    def sections(self) -> Mapping[str, Sequence[str]]:
        """The ids of the rows of each section."""

    @property
    def addresses(self) -> Mapping[str, str]:
        """The titles of pages by their addresses."""

    def titles(self, names: Iterable[str]) -> Mapping[str, str]:
        """Return the titles of entries that it knows."""


def of_two_listings(site: Site, first: Query, second: Query) -> Difference:
    """Return what one listing has that another has not, and the other way round."""
    name = f" {first.listing.name or 'the first'} → {second.listing.name or 'the second'}"
    found = tuple(listing_changes({name: first.ids()}, {name: second.ids()}))
    named = list(dict.fromkeys(each for change in found for each in _named(change)))
    return replace(NO_DIFFERENCE, listings=found, titles=Showing(site).titles(named))


def difference(before: Shown, after: Shown) -> Difference:
    """Return what is otherwise in one state than in another."""
    old, new = before.listings, after.listings
    is_known = old is not None and new is not None
    listings = tuple(listing_changes(_keyed(old or {}), _keyed(new or {})))
    sections = tuple(listing_changes(before.sections, after.sections))
    named = list(dict.fromkeys(name for change in (*listings, *sections) for name in _named(change)))
    return Difference(
        listings=listings,
        sections=sections,
        appeared=_only_in(after.addresses, before.addresses),
        vanished=_only_in(before.addresses, after.addresses),
        new=tuple(_only_in(new or {}, old or {})) if is_known else (),
        gone=tuple(_only_in(old or {}, new or {})) if is_known else (),
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
