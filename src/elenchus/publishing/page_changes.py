"""Which pages change between two states of a site: those that both have, with different content."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.comparing.differences import difference
from elenchus.files import scanned
from elenchus.frozen import replace
from elenchus.pages.paths import TEMPLATES, address_of, file_of
from elenchus.publishing.last_run import program_of_pages, read_last_run
from elenchus.publishing.manifest import digest_of
from elenchus.publishing.outputs import outputs
from elenchus.publishing.reached import reached
from elenchus.publishing.unchanged import digest_of_files
from elenchus.rendering.marks import PageMarks
from elenchus.rendering.renderer import Renderer

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from pathlib import Path

    from elenchus.comparing.differences import Difference
    from elenchus.comparing.showing import Showing
    from elenchus.pages.survey import Survey
    from elenchus.publishing.outputs import Output
    from elenchus.site.site import Site

__all__ = ["between", "changed_since"]

_MOST_DRAWN = 400  # pages that are drawn to see whether they come out as they were


def between(before: Showing, after: Showing) -> Difference:
    """Return what is otherwise in one state of a site than in another, with the pages that change.

    Pages that the difference cannot reach are not looked at.
    """
    if _templates(before.site) == _templates(after.site):
        found = reached(before.survey.book, after.survey.book)
        if found:
            shown = {path for path in found.looks if _shows(after.survey, path, found.names)}
            before = before.narrowed(found.rows | shown)
            after = after.narrowed(found.rows | shown, after.like and before)
    return replace(difference(before, after), changed=_changed_pages(before, after))


def _shows(survey: Survey, path: str, names: frozenset[str]) -> bool:
    """Say whether a page shows one of some entries in a section."""
    page = survey.laid_out(survey.book.by_file[file_of(path)])
    return any(not names.isdisjoint(section.all_ids) for section in page.sections)


def _changed_pages(before: Showing, after: Showing) -> dict[str, str]:
    """Return the titles of the pages that change, by their addresses, in the site's order.

    Only drawing a page tells what the site's own templates ask and whether a picture exists, so a change of
    these alone is not seen. If the templates themselves differ, all pages are drawn.
    """
    old = {output.path: output for output, _ in _pages(before)}
    same = _templates(before.site) == _templates(after.site)
    pairs = [(old[output.path], output) for output, _ in _pages(after) if output.path in old]
    found = [pair for pair in pairs if not same or pair[0].mark != pair[1].mark]
    if len(found) <= _MOST_DRAWN:  # a mark knows which rows a page shows, but not which of their values
        found = [(one, other) for one, other in found if one.content != other.content]
    return _titled([other for _, other in found], after)


def changed_since(folder: Path, after: Showing) -> dict[str, str] | None:
    """Return the titles of the pages that changed since the site was published to a folder.

    None if another version of the program published it, which makes all pages again.
    """
    known = read_last_run(folder, program_of_pages()).files
    if not known:
        return None
    found = []
    for output, marks in _pages(after):
        if earlier := known.get(output.path):
            mark = marks.with_trace(output.mark, earlier.trace) if earlier.trace else output.mark
            if mark != earlier.mark:
                found.append(output)
    if len(found) <= _MOST_DRAWN:
        found = [output for output in found if digest_of(output.content) != known[output.path].digest]
    return _titled(found, after)


def _titled(found: Iterable[Output], showing: Showing) -> dict[str, str]:
    """Return the titles of pages by their addresses."""
    addresses = (f"/{address_of(output.path)}" for output in found)
    return {address: showing.addresses.get(address, "") for address in addresses}


def _pages(showing: Showing) -> Iterator[tuple[Output, PageMarks]]:
    """Yield the files of pages of a site, with what tells their marks."""
    renderer = Renderer(showing.site, showing.survey.book)
    marks = PageMarks(renderer)
    for output in outputs(renderer, showing.survey.placed, marks):
        if output.drawn:
            yield output, marks


def _templates(site: Site) -> str:
    """Return a digest of the templates that a site has of its own."""
    folder = site.definition.folder / TEMPLATES
    paths = sorted(scanned(folder).paths) if folder.is_dir() else []
    return digest_of_files((path, folder / path) for path in paths)
