"""What becomes of listings and pages, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.pieces.piece import Piece, Role, printable

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    from elenchus.comparing.changes import ListingChange
    from elenchus.comparing.differences import Difference

__all__ = [
    "MOST",
    "counted",
    "difference_as_data",
    "difference_told",
    "listings_told",
    "names_told",
    "rest",
    "signed",
    "two_listings_told",
]

MOST = 12  # lines of one sort, unless all are wanted


def difference_told(found: Difference, *, whole: bool = False) -> Iterator[Piece]:
    """Yield what is otherwise: listings with their entries, then sections of pages, then addresses."""
    yield from listings_told("In listings", found.listings, _titles(found), whole=whole)
    yield from listings_told("On pages", found.sections, _titles(found), whole=whole)
    for heading, sign, pages in (
        ("Pages that appear", "+", found.appeared),
        ("Pages that vanish", "-", found.vanished),
        ("New listings", "+", dict.fromkeys(found.new, "")),
        ("Listings that are gone", "-", dict.fromkeys(found.gone, "")),
    ):
        yield from names_told(heading, sign, pages, whole=whole)
    if found.changed:
        yield from names_told(
            f"Pages that change ({len(found.changed)})", "~", found.changed, "page", whole=whole
        )


def two_listings_told(found: Difference, names: Sequence[str], *, whole: bool = False) -> Iterator[Piece]:
    """Yield what one of two listings has that the other has not, and what stands elsewhere in both."""
    first, second = (printable(name) for name in names)
    change = found.listings[0]
    titles = _titles(found)
    both = change.before - len(change.leaves)
    yield Piece(
        f"{first} has {change.before}, {second} has {change.after}, {both} stand in both.\n", Role.STRONG
    )
    told = [("-", f"{titles(name)}, only in {first}, at {at}") for name, at in change.leaves]
    told += [("+", f"{titles(name)}, only in {second}, at {at}") for name, at in change.enters]
    told += [
        ("~", f"{titles(name)}, at {old} in {first}, at {new} in {second}") for name, old, new in change.moves
    ]
    yield from signed(told, "  ", whole=whole)


def _titles(found: Difference) -> Callable[[str], str]:
    """Return what gives the title of an entry."""
    return lambda name: found.titles.get(name, name)


def names_told(
    heading: str, sign: str, names: Mapping[str, str], what: str = "line", *, whole: bool
) -> Iterator[Piece]:
    """Yield a heading and a line for each name with what is told of it, as many as are read at a glance."""
    if not names:
        return
    yield Piece(f"\n{heading}\n", Role.HEADING)
    shown = list(names) if whole else list(names)[:MOST]
    for name in shown:
        yield Piece(f"  {sign} ", Role.FAINT)
        yield Piece(printable(name), Role.NAME)
        yield Piece(f"  {printable(names[name])}\n" if names[name] else "\n")
    yield from rest(len(names) - len(shown), what)


def listings_told(
    heading: str, changes: Sequence[ListingChange], titles: Callable[[str], str], *, whole: bool
) -> Iterator[Piece]:
    """Yield a heading and what becomes of each listing, as many as are read at a glance."""
    if not changes:
        return
    yield Piece(f"\n{heading}\n", Role.HEADING)
    shown = changes if whole else changes[:MOST]
    for change in shown:
        yield from _listing_lines(change, titles, whole=whole)
    yield from rest(len(changes) - len(shown), "listing")


def _listing_lines(move: ListingChange, titles: Callable[[str], str], *, whole: bool) -> Iterator[Piece]:
    """Yield what becomes of one listing."""
    yield Piece(f"  {printable(move.listing)}", Role.NAME)
    yield Piece(f" on {move.place}" if move.place else "")
    yield Piece(f"  {move.before} → {move.after}\n" if move.before != move.after else "\n", Role.FAINT)
    told = [("+", f"{titles(name)} enters at {at}") for name, at in move.enters]
    told += [("-", f"{titles(name)} leaves, it was at {at}") for name, at in move.leaves]
    told += [("~", f"{titles(name)} moves from {old} to {new}") for name, old, new in move.moves]
    yield from signed(told, "    ", whole=whole)


def signed(told: Sequence[tuple[str, str]], margin: str, *, whole: bool) -> Iterator[Piece]:
    """Yield lines with their signs, as many as are read at a glance."""
    shown = told if whole else told[:MOST]
    for sign, text in shown:
        yield Piece(f"{margin}{sign} ", Role.FAINT)
        yield Piece(f"{printable(text)}\n")
    if len(told) > len(shown):
        yield Piece(f"{margin}… {len(told) - len(shown)} more; --in-full shows them\n", Role.FAINT)


def rest(count: int, what: str) -> Iterator[Piece]:
    """Yield how many are not shown."""
    if count:
        yield Piece(f"  … and {counted(count, what)} more; --in-full shows all\n", Role.FAINT)


def counted(count: int, word: str, words: str = "") -> str:
    """Return a count with its word."""
    return f"{count} {word}" if count == 1 else f"{count} {words or f'{word}s'}"


def difference_as_data(found: Difference) -> dict[str, Any]:
    """Return what is otherwise as JSON has it."""
    return {
        "listings": [_as_data(each, found.titles) for each in found.listings],
        "sections": [_as_data(each, found.titles) for each in found.sections],
        "appeared": _pages_as_data(found.appeared),
        "vanished": _pages_as_data(found.vanished),
        "new_listings": list(found.new),
        "gone_listings": list(found.gone),
        "changed_pages": _pages_as_data(found.changed) if found.changed is not None else None,
    }


def _pages_as_data(pages: Mapping[str, str]) -> list[dict[str, str]]:
    """Return pages as JSON has them."""
    return [{"address": where, "title": title} for where, title in pages.items()]


def _as_data(change: ListingChange, titles: Mapping[str, str]) -> dict[str, Any]:
    """Return what becomes of a listing as JSON has it."""
    return {
        "listing": change.listing,
        "place": change.place or None,
        "before": change.before,
        "after": change.after,
        "enters": [{"id": name, "title": titles.get(name), "at": at} for name, at in change.enters],
        "leaves": [{"id": name, "title": titles.get(name), "was_at": at} for name, at in change.leaves],
        "moves": [
            {"id": name, "title": titles.get(name), "was_at": old, "at": new}
            for name, old, new in change.moves
        ],
    }
