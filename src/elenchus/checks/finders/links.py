"""Checks of links in texts: those that lead to where a page stood before it moved."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import FolderError, Place, Problem
from elenchus.pages.paths import address_of
from elenchus.publishing.links import LinkReader
from elenchus.publishing.manifest import read_manifest
from elenchus.publishing.moved import moves, rows_of
from elenchus.publishing.publication import target_of
from elenchus.rendering.addresses import Root
from elenchus.rendering.bodies import body_of
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from elenchus.pages.survey import Survey

__all__ = ["find"]


def find(survey: Survey) -> Iterator[Problem]:
    """Yield texts that lead to old addresses of pages."""
    site = survey.site
    targets = _moved(survey) if site.definition.redirects else {}
    if not targets:
        return
    root, data, view = Root.of(site.definition.address), site.dataset, site.engine.view()
    reader, bodies, sources = LinkReader(root.path), data.texts("body"), data.texts("source")
    # Most texts lead to none of them: only those with the last word of an old address are read.
    words = [address_of(file).rstrip("/").rpartition("/")[2].encode() for file in targets]
    suspects = [any(word in text for word in words) for text in bodies.lexicon.texts.encoded] + [False]
    for row in range(len(data.entries)):
        if not (view.visible[row] and suspects[bodies.places[row]]):
            continue
        for address in dict.fromkeys(each for _, _, each in body_of(bodies.item(row) or "").addresses):
            target = targets.get(reader.file_of(address))
            if target:
                message = f"{data.entries.ids[row]} leads to {quoted(address)}, where the page is no more"
                hint = f"Write {root.link(address_of(target))}."
                yield Problem("moved-link", message, hint, place=Place(str(sources.item(row))))


def _moved(survey: Survey) -> Mapping[str, str]:
    """Return where the pages are now that had other files when the site was published last."""
    site = survey.site
    try:
        old = read_manifest(target_of(site, None))
    except FolderError:  # publishing tells
        return {}
    rows = rows_of(site, survey.book.pages)
    return moves(old, rows, survey.book.by_file, site.definition.moved).targets
