"""Links between published pages: those that lead nowhere are reported."""

from __future__ import annotations

import re
from html import unescape
from typing import TYPE_CHECKING
from urllib.parse import unquote

from elenchus.pages.paths import file_of
from elenchus.values.addresses import split_address

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

__all__ = ["LinkReader", "dead_links"]

_LINK = re.compile(r"""\s(?:href|src)="(/[^"]*)\"""")


class LinkReader:
    """Finds the files of a site to which its pages lead; ``root`` is the path of the site."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.known: dict[str, str] = {}  # of links as they are written, nothing for those that lead elsewhere

    def links_in(self, html: str) -> list[str]:
        """Return the files of the site to which a page leads, each once."""
        found = dict.fromkeys(map(self.file_of, dict.fromkeys(_LINK.findall(html))))
        found.pop("", None)
        return list(found)

    def file_of(self, written: str) -> str:
        """Return the file of the site to which a link leads; nothing for one that leads elsewhere."""
        if written not in self.known:
            parts = split_address(unescape(written))
            path = unquote(parts.path) if parts else ""
            is_ours = path.startswith(self.root) and not path.startswith("//")
            self.known[written] = file_of(path.removeprefix(self.root)) if is_ours else ""
        return self.known[written]


def dead_links(
    links: Mapping[str, Sequence[int]], names: Sequence[str], stands: Callable[[str], bool]
) -> Iterator[tuple[str, str]]:
    """Yield each file that stands nowhere, with the first page that leads to it.

    ``links`` has the numbers of the files to which each page leads, ``names`` those files.
    """
    first: dict[int, str] = {}
    for page, targets in links.items():
        for target in targets:
            first.setdefault(target, page)
    places = {page: place for place, page in enumerate(links)}
    dead = ((names[target], page) for target, page in first.items() if not stands(names[target]))
    yield from sorted(dead, key=lambda pair: (places[pair[1]], pair[0]))
