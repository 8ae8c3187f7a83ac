"""What becomes of listings from one state to another: entries that enter, leave, or move."""

from __future__ import annotations

from bisect import bisect_left
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

__all__ = ["ListingChange", "listing_changes", "moved"]


class ListingChange(Frozen):
    """What becomes of a listing, or of a section at the address ``place``: places count from 1.

    ``before`` and ``after`` are how many rows it had and has. ``enters`` and ``leaves`` hold ids with their
    new or old place, ``moves`` ids with both.
    """

    place: str
    listing: str
    before: int
    after: int
    enters: tuple[tuple[str, int], ...]
    leaves: tuple[tuple[str, int], ...]
    moves: tuple[tuple[str, int, int], ...]


def listing_changes(
    old: Mapping[str, Sequence[str]], new: Mapping[str, Sequence[str]]
) -> Iterator[ListingChange]:
    """Yield the listings on both sides whose rows changed: by the address of a page, a blank, and a name."""
    for name, rows in new.items():
        if name not in old or list(old[name]) == list(rows):
            continue
        address, _, listing = name.partition(" ")
        before = {row: number for number, row in enumerate(old[name], start=1)}
        after = {row: number for number, row in enumerate(rows, start=1)}
        yield ListingChange(
            place=address,
            listing=listing,
            before=len(before),
            after=len(after),
            enters=tuple((row, number) for row, number in after.items() if row not in before),
            leaves=tuple((row, number) for row, number in before.items() if row not in after),
            moves=tuple((row, before[row], after[row]) for row in moved(old[name], rows)),
        )


def moved(old: Sequence[str], new: Sequence[str]) -> list[str]:
    """Return the fewest rows of both lists that must move for the others to keep their order.

    The others are a longest increasing subsequence of old places in the new order (Fredman, “On
    computing the length of longest increasing subsequences”, 1975).
    """
    place = {row: number for number, row in enumerate(old)}
    both = [row for row in new if row in place]
    tails: list[int] = []  # place of the last row of the best run of each length
    last: list[int] = []  # number in ``both`` of that row
    before: list[int] = []  # number of the row before each in its run, -1 for none
    for number, row in enumerate(both):
        length = bisect_left(tails, place[row])
        before.append(last[length - 1] if length else -1)
        tails[length : length + 1] = [place[row]]
        last[length : length + 1] = [number]
    kept = set()
    at = last[-1] if last else -1
    while at >= 0:
        kept.add(both[at])
        at = before[at]
    return [row for row in both if row not in kept]
