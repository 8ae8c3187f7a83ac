"""What is the same on the pages of a saved site: menus, banners and footers that are not marked as such."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.sources.html import Element

__all__ = ["repeated_parts"]

_LEAST = 4  # pages that can show it
_SHARE = 0.6  # of all pages that have the same words


def repeated_parts(pages: Sequence[Sequence[Element]]) -> list[str]:
    """Return the names of elements that have the same words on nearly all pages, and nowhere others.

    Nothing, where little else would stand on the pages.
    """
    if len(pages) < _LEAST:
        return []
    enough = max(_LEAST - 1, len(pages) * _SHARE)
    meant: Counter[tuple[str, bytes]] = Counter()
    for page in pages:
        meant.update({(name, each.words) for each in page if each.size for name in each.names})
    often = {name for (name, _), count in meant.items() if count >= enough}
    seldom = {name for (name, _), count in meant.items() if count < enough}
    shared = often - seldom
    found: Counter[str] = Counter()
    rest = 0
    for page in pages:
        outer = list(_outermost(page, shared))
        found.update({min(shared.intersection(each.names), key=_rank) for each in outer})
        whole = sum(each.size for each in page if each.around < 0)
        rest += whole > sum(each.size for each in outer)
    return sorted(found, key=_rank) if rest * 2 > len(pages) else []


def _outermost(page: Sequence[Element], names: set[str]) -> Iterator[Element]:
    """Yield the elements of a page that have one of some names, and stand in no other such."""
    inside: set[int] = set()
    for at, each in enumerate(page):
        if each.around in inside:
            inside.add(at)
        elif not names.isdisjoint(each.names):
            inside.add(at)
            yield each


def _rank(name: str) -> tuple[bool, str]:
    """Return what sorts the names of elements: ids first."""
    return not name.startswith("#"), name
