"""What of a published site stands as it is after a change of content: pages that the change cannot reach.

Of each run that publishes, a copy of the index stays beside the index itself, never in the published folder,
where it would tell of drafts. The next run holds the content of then against that of now.
"""

from __future__ import annotations

import hashlib
import os
from collections import defaultdict
from contextlib import suppress
from functools import partial
from itertools import count
from typing import TYPE_CHECKING, NamedTuple

from elenchus.index.content import kept_content
from elenchus.index.pack import DamagedError
from elenchus.index.saving import copy_index
from elenchus.index.store import KeptIndex, folders_for
from elenchus.pages.book import Book
from elenchus.pages.paths import file_beside, file_of, later_page
from elenchus.publishing.reached import reached
from elenchus.publishing.standing import PublishedFolder
from elenchus.publishing.unchanged import known_of
from elenchus.rendering.renderer import Renderer
from elenchus.site.site import Site

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
    from pathlib import Path

    from elenchus.index.content import Found
    from elenchus.pages.book import Page
    from elenchus.pages.survey import Survey
    from elenchus.publishing.last_run import Known
    from elenchus.publishing.publication import Wishes
    from elenchus.publishing.reached import Reached
    from elenchus.publishing.unchanged import PublishedBefore

__all__ = ["Carried", "carried", "keep_content"]

_LARGEST = 2**27  # bytes of an index of which a copy is kept


class Carried(NamedTuple):
    """What stands as it is: the files of pages with what is known of them, and the rows of their sections.

    ``survey`` looks at all other pages. ``pages`` has for each page, by its path, its own files in their
    order; ``known`` what is known of these and of those beside it. ``until`` is the instant up to which that
    was known to hold, ``looked`` the files that were looked for.
    """

    survey: Survey
    pages: dict[str, Sequence[str]]
    known: dict[str, Mapping[str, Known]]
    listings: dict[str, Sequence[str]]
    until: int
    looked: Mapping[str, bool]


def carried(survey: Survey, folder: Path, wishes: Wishes) -> Carried | None:
    """Return what of a published folder stands, and a survey of the pages that are to be looked at.

    None where that is not known for certain. Nobody else may publish there meanwhile. Raises FolderError.
    """
    site = survey.site
    before = known_of(site, folder, wishes, other_content=True)
    if before is None or site.tables:
        return None
    try:
        book = Book(site_then, in_bulk=True) if (site_then := _site_then(site, folder, before)) else None
        found = reached(book, survey.book) if book else None
    except Exception:  # what is kept comes with its site, and can hold anything; errors of now are told later
        return None
    if book is None or found is None:
        return None
    links = _Links(Renderer(book.site, book), Renderer(site, survey.book), {})
    return _Kept(survey, found, before, PublishedFolder(folder, before.run.files), links).carried()


class _Kept(NamedTuple):
    """A published folder, what of the site is reached since, and whether links lead where they led."""

    survey: Survey
    found: Reached
    before: PublishedBefore
    folder: PublishedFolder
    links: _Links

    def carried(self) -> Carried:
        """Return what stands, and a survey of all else."""
        old, meta = self.before.files, self.before.run.meta
        listings: dict[str, list[str]] = defaultdict(list)
        for name in old.listings:
            listings[name.partition(" ")[0]].append(name)
        found = Carried(self.survey, {}, {}, {}, meta["until"], meta["looked"])
        asked: set[str] = set()
        for page in self.survey.book.pages:
            names = listings[f"/{page.address}"]
            shown = [each for name in names for each in old.listings[name]]
            files = None if page.rule.private or self.is_reached(page, shown) else self.files(page)
            if files is None:
                asked.add(page.path)
                continue
            own, known = files
            found.pages[page.path], found.known[page.path] = own, known
            found.listings.update((name, old.listings[name]) for name in names)
        return found._replace(survey=self.survey.narrowed(frozenset(asked)))

    def is_reached(self, page: Page, shown: Iterable[str]) -> bool:
        """Say whether a page that showed some entries may differ."""
        looks = page.path in self.found.looks and not self.found.names.isdisjoint(shown)
        return looks or page.path in self.found.rows

    def files(self, page: Page) -> tuple[list[str], dict[str, Known]] | None:
        """Return the files of a page, and what is known of these and of those beside it.

        None if one of them is to be made: it was touched, its template asked something, or a link leads
        elsewhere now.
        """
        own = self.own_files(page)
        known: dict[str, Known] = {}
        for path in (*own, *self.files_beside(page)):
            seen = self.folder.is_as_known(path)
            if seen is None or self.before.files.files.get(path) != (page.rule.name, seen.digest):
                return None
            if seen.trace and (seen.trace.asked or not all(map(self.links.is_same, seen.trace.links))):
                return None
            known[path] = seen
        return own, known

    def own_files(self, page: Page) -> list[str]:
        """Return the files of a page: its own and its later pages, as they were written."""
        found = [file_of(page.path)]
        for below in dict.fromkeys(("", *(each.pages_at for each in page.rule.sections if each.pages_at))):
            found += self.numbered(partial(_later, page.path, below), 2)
        return found

    def files_beside(self, page: Page) -> list[str]:
        """Return the files beside a page."""
        found: list[str] = []
        for number, section in enumerate(page.rule.sections):
            for name in section.beside:
                found += self.numbered(partial(file_beside, page.path, section.slug(number), name), 1)
        return found

    def numbered(self, path_of: Callable[[int], str], first: int) -> Iterator[str]:
        """Yield files that are called by numbers, as far as they were written."""
        for number in count(first):
            path = path_of(number)
            if path not in self.before.files.files or path in self.survey.book.by_file:
                return
            yield path


def _later(path: str, below: str, number: int) -> str:
    """Return the file of a later page."""
    return file_of(later_page(path, number, below))


class _Links(NamedTuple):
    """Whether links in texts lead where they led."""

    before: Renderer
    after: Renderer
    known: dict[tuple[str, str], bool]

    def is_same(self, link: tuple[str, str]) -> bool:
        """Say whether a link, as its source has it, leads where it led."""
        if link not in self.known:
            source, address = link
            one, other = (each.desk.rewritten(address, source) for each in (self.before, self.after))
            self.known[link] = one == other
        return self.known[link]


# The content that was published


def _places(site: Site, folder: Path) -> Iterator[Path]:
    """Yield where the content may be kept that was published to a folder."""
    name = hashlib.blake2b(os.fsencode(folder.resolve()), digest_size=8).hexdigest()
    yield from (each / f"published-{name}" for each in folders_for(site.definition.folder))


def _site_then(site: Site, folder: Path, before: PublishedBefore) -> Site | None:
    """Return the site with the content that was published; None where that is not kept."""
    for place in _places(site, folder):
        with suppress(FileNotFoundError):
            found = kept_content(KeptIndex(place), site.content.wanted)
            if _is_of(found, before.run.meta["inputs"]):
                return Site(site.content.with_found(found), site.clock)
    return None


def _is_of(found: Found, inputs: Sequence[str]) -> bool:
    """Say whether some content is what pages were made of."""
    own = found.identity().split()
    return own == list(inputs[: len(own)])


def keep_content(site: Site, folder: Path, inputs: Sequence[str]) -> None:
    """Keep a copy of the index of a site for the next run that publishes to a folder, where there is room."""
    for place, home in zip(_places(site, folder), folders_for(site.definition.folder), strict=True):
        with suppress(OSError, DamagedError, ValueError, KeyError):
            kept = KeptIndex(home)
            if not _is_of(kept_content(kept, site.content.wanted), inputs):
                continue  # another run has changed it meanwhile
            if sum(path.stat().st_size for path in kept.paths) <= _LARGEST:
                copy_index(kept, place)
            return
