"""Links between published pages: those that lead nowhere are reported."""

from __future__ import annotations

import re
from html import unescape
from typing import TYPE_CHECKING
from urllib.parse import unquote

from elenchus.files import is_file
from elenchus.pages.paths import file_of
from elenchus.values.addresses import split_address

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping
    from pathlib import Path

__all__ = ["dead_links", "links_in"]

_LINK = re.compile(r"""\s(?:href|src)="(/[^"]*)\"""")


def links_in(html: str, root: str) -> frozenset[str]:
    """Return the files of the site to which a page leads; ``root`` is the path of the site."""
    found = set()
    for written in dict.fromkeys(_LINK.findall(html)):
        parts = split_address(unescape(written))
        path = unquote(parts.path) if parts else ""
        if path.startswith(root) and not path.startswith("//"):
            found.add(file_of(path.removeprefix(root)))
    return frozenset(found)


def dead_links(
    links: Mapping[str, frozenset[str]], files: Mapping[str, object], folder: Path
) -> Iterator[tuple[str, str]]:
    """Yield each file that is neither published nor there, with a page that leads to it."""
    told: set[str] = set()
    for page, targets in links.items():
        for target in sorted(targets - told):
            if target not in files and not is_file(folder / target):
                told.add(target)
                yield target, page
