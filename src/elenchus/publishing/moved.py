"""Pages that stand elsewhere than before: what leads from their old addresses to the new ones."""

from __future__ import annotations

import json
from collections import Counter
from functools import partial
from html import escape
from typing import TYPE_CHECKING, NamedTuple

from elenchus.pages.paths import address_of, file_of, unsafe
from elenchus.publishing.outputs import Output
from elenchus.publishing.publication import REDIRECTS
from elenchus.schema.subject import ENTRIES

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

    from elenchus.pages.book import Page
    from elenchus.publishing.manifest import Manifest
    from elenchus.rendering.renderer import Renderer
    from elenchus.site.site import Site

__all__ = ["Moves", "moves", "redirect_files", "rows_of"]

_LIST = "redirects.json"


class Moves(NamedTuple):
    """The old files of pages that moved, with their rows, and for each the file where the page is now."""

    rows: Mapping[str, Sequence[str]]
    targets: Mapping[str, str]


def rows_of(site: Site, pages: Iterable[Page]) -> dict[str, tuple[str, str]]:
    """Return the row of each page that has one, by its file: its set and name, then the file of an entry.

    An entry that shares its file with others has none.
    """
    sources = site.dataset.texts("source")
    count = Counter(sources.places.tolist())
    found: dict[str, tuple[str, str]] = {}
    for page in pages:
        here = page.here
        if here and here.subject and not page.rule.private:
            alone = here.subject == ENTRIES and count[int(sources.places[here.number])] == 1
            source = str(sources.item(here.number) or "") if alone else ""
            found[file_of(page.path)] = (
                f"{page.rule.name} {here.name}",
                source and f"{page.rule.name} {source}",
            )
    return found


def moves(
    old: Manifest, rows: Mapping[str, Sequence[str]], taken: Collection[str], written: Mapping[str, str]
) -> Moves:
    """Return what has moved: pages of rows that had another file, and addresses that the site file names.

    A row is found by its name, or by the file of its entry where that has another name now. ``taken`` are
    files that are published anyway, ``written`` the addresses of the site file.
    """
    where: dict[str, str] = {}
    for file, names in rows.items():
        for name in filter(None, names):
            where.setdefault(name, file)
    found: dict[str, Sequence[str]] = {}
    targets: dict[str, str] = {}
    for file, names in {**old.moved, **old.rows}.items():
        target = next((where[name] for name in names if name in where), None)
        if file not in taken and target and target != file:
            # With the names that the row has now: it is known by them when it is called otherwise again.
            found[file] = tuple(dict.fromkeys(filter(None, (*names, *rows[target]))))
            targets[file] = target
    for before, after in written.items():
        file = file_of(before.lstrip("/"))
        if file not in taken and not unsafe(file):
            targets[file] = file_of(after.lstrip("/"))
    return Moves(found, {file: _last(targets, target) for file, target in targets.items()})


def _last(targets: Mapping[str, str], file: str) -> str:
    """Return where a chain of moves ends; one that goes round ends where it began."""
    seen = {file}
    while file in targets and targets[file] not in seen:
        file = targets[file]
        seen.add(file)
    return file


def redirect_files(renderer: Renderer, found: Moves, titles: Mapping[str, str]) -> Iterator[Output]:
    """Yield a page at each old address that leads to the new one, and the list of all of them."""
    for file, target in sorted(found.targets.items()):
        yield Output(file, REDIRECTS, partial(_page, renderer, target, titles.get(target, "")))
    if found.targets:
        yield Output(_LIST, REDIRECTS, partial(_list, renderer, found))


def _page(renderer: Renderer, target: str, title: str) -> bytes:
    """Return a page that leads to another: by a refresh, a link to be followed, and its canonical address."""
    href = renderer.root.link(address_of(target))
    whole = renderer.root.whole(href) if renderer.root.address else href
    words = escape(title or str(href))
    language = escape(renderer.site.definition.language)
    return (
        f'<!doctype html>\n<html lang="{language}">\n<head>\n<meta charset="utf-8">\n<title>{words}</title>\n'
        f'<link rel="canonical" href="{escape(str(whole))}">\n<meta name="robots" content="noindex">\n'
        f'<meta http-equiv="refresh" content="0; url={escape(str(href))}">\n</head>\n'
        f'<body>\n<p><a href="{escape(str(href))}">{words}</a></p>\n</body>\n</html>\n'
    ).encode()


def _list(renderer: Renderer, found: Moves) -> bytes:
    """Return all moves as JSON, for servers that answer with a redirect of their own."""
    link = renderer.root.link
    listed = [
        {"from": str(link(address_of(file))), "to": str(link(address_of(target)))}
        for file, target in sorted(found.targets.items())
    ]
    return (json.dumps(listed, ensure_ascii=False, indent=2) + "\n").encode()
