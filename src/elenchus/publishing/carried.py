"""What of a published site stands as it is after a change of content: pages that the change cannot reach.

Of each run that publishes, a copy of the index stays beside the index itself, never in the published folder,
where it would tell of drafts. The next run holds the content of then against that of now.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections import defaultdict
from contextlib import suppress
from functools import partial
from itertools import count
from typing import TYPE_CHECKING, NamedTuple

from elenchus.files import is_file
from elenchus.index.content import kept_content
from elenchus.index.pack import DamagedError
from elenchus.index.store import KeptIndex, folders_for
from elenchus.pages.book import Book
from elenchus.pages.paths import file_beside, file_of, later_page
from elenchus.publishing.last_run import program_of_pages, read_last_run
from elenchus.publishing.manifest import read_manifest
from elenchus.publishing.reached import reached
from elenchus.publishing.standing import PublishedFolder
from elenchus.publishing.unchanged import public_digest
from elenchus.rendering.renderer import Renderer
from elenchus.site.site import Content, Site

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence
    from pathlib import Path

    from elenchus.pages.book import Page
    from elenchus.pages.survey import Survey
    from elenchus.publishing.last_run import Known
    from elenchus.publishing.manifest import Manifest
    from elenchus.publishing.publication import Wishes
    from elenchus.publishing.reached import Reached

__all__ = ["Carried", "carried", "keep_content"]

_LARGEST = 2**27  # bytes of an index of which a copy is kept


class Carried(NamedTuple):
    """What stands as it is: the files of pages with what is known of them, and the rows of their sections.

    ``survey`` looks at all other pages. ``pages`` has for each page, by its path, its own files in their
    order; ``others`` those beside it. ``until`` is the instant up to which that was known to hold,
    ``looked`` the files that were looked for.
    """

    survey: Survey
    pages: Mapping[str, Sequence[str]]
    others: Mapping[str, Sequence[str]]
    known: Mapping[str, Known]
    listings: Mapping[str, Sequence[str]]
    until: int
    looked: Mapping[str, bool]


def carried(survey: Survey, folder: Path, wishes: Wishes) -> Carried | None:
    """Return what of a published folder stands, and the pages that are to be looked at.

    None where that is not known for certain. Raises FolderError.
    """
    site = survey.site
    last = read_last_run(folder, program_of_pages())
    meta, old = last.meta, read_manifest(folder)
    if wishes.only or site.tables or not site.content.is_indexed or old.coming:
        return None
    if not meta.get("inputs") or not meta["from"] <= site.clock.now < meta["until"]:
        return None
    before, own = meta["inputs"].split(), site.content.found.identity().split()
    if before[1:] != [*own[1:], wishes.texts, public_digest(site)] or list(old.files) != sorted(last.files):
        return None
    if any(is_file(site.definition.folder / path) != there for path, there in meta["looked"].items()):
        return None
    try:
        then = _site_then(site, folder, " ".join(before[: len(own)]))
        book = Book(then, in_bulk=True) if then else None
        found = reached(book, survey.book) if book else None
    except Exception:  # what is kept comes with its site, and can hold anything; errors of now are told later
        return None
    if book is None or found is None:
        return None
    return _Kept(survey, book, found, old, PublishedFolder(folder, last.files), last.files).carried(meta)


class _Kept(NamedTuple):
    """A published folder, and the site as it was published and as it is."""

    survey: Survey
    before: Book
    found: Reached
    old: Manifest
    folder: PublishedFolder
    known: Mapping[str, Known]

    def carried(self, meta: Mapping[str, object]) -> Carried:
        """Return what stands, and a survey of all else."""
        listings: dict[str, list[str]] = defaultdict(list)
        for name in self.old.listings:
            listings[name.partition(" ")[0]].append(name)
        one, other = (Renderer(each.site, each) for each in (self.before, self.survey.book))
        links = _Links(one, other, {})
        pages: dict[str, list[str]] = {}
        others: dict[str, list[str]] = {}
        known: dict[str, Known] = {}
        kept: dict[str, Sequence[str]] = {}
        asked: set[str] = set()
        for page in self.survey.book.pages:
            names = listings[f"/{page.address}"]
            shown = (each for name in names for each in self.old.listings[name])
            is_reached = page.path in self.found.rows or (
                page.path in self.found.looks and not self.found.names.isdisjoint(shown)
            )
            own, beside = ([], []) if is_reached else (self.own_files(page), self.files_beside(page))
            standing = {path: self.standing(page, path, links) for path in (*own, *beside)}
            if page.rule.private or not standing or not all(standing.values()):
                asked.add(page.path)
                continue
            pages[page.path], others[page.path] = own, beside
            known |= {path: each for path, each in standing.items() if each}
            kept |= {name: self.old.listings[name] for name in names}
        survey = self.survey.narrowed(frozenset(asked))
        return Carried(survey, pages, others, known, kept, meta["until"], meta["looked"])  # type: ignore[arg-type]

    def standing(self, page: Page, path: str, links: _Links) -> Known | None:
        """Return what is known of a file that stands as it was written; None where something is otherwise."""
        known = self.folder.is_as_known(path)
        if known is None or self.old.files.get(path) != (page.rule.name, known.digest):
            return None
        if known.trace and (known.trace.asked or not all(map(links.is_same, known.trace.links))):
            return None
        return known

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
            if path not in self.old.files or path in self.survey.book.by_file:
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


def _place(site: Site, folder: Path) -> Iterator[Path]:
    """Yield where the content may be kept that was published to a folder."""
    name = hashlib.blake2b(os.fsencode(folder.resolve()), digest_size=8).hexdigest()
    yield from (each / f"published-{name}" for each in folders_for(site.definition.folder))


def _site_then(site: Site, folder: Path, identity: str) -> Site | None:
    """Return the site with the content that was published; None where that is not kept."""
    for place in _place(site, folder):
        with suppress(FileNotFoundError):
            found = kept_content(KeptIndex(place), site.content.wanted)
            if found.identity() != identity:
                continue
            content = site.content.kept(Content(site.definition, work=site.content.work, is_supposed=True))
            content.__dict__["found"] = found
            return Site(content, site.clock)
    return None


def keep_content(site: Site, folder: Path) -> None:
    """Keep a copy of the index of a site for the next run that publishes to a folder, where there is room."""
    identity = site.content.found.identity()
    for place, home in zip(_place(site, folder), folders_for(site.definition.folder), strict=True):
        with suppress(OSError, DamagedError, ValueError, KeyError):
            there = KeptIndex(home)
            files = [home / "units", *(home / each["file"] for each in there.meta["parts"].values())]
            if sum(path.stat().st_size for path in files) > _LARGEST:
                return
            if kept_content(there, site.content.wanted).identity() != identity:
                continue
            coming = place.with_name(f"{place.name}-coming")  # one run at a time publishes to a folder
            shutil.rmtree(coming, ignore_errors=True)
            coming.mkdir()
            for path in files:
                shutil.copyfile(path, coming / path.name)
            shutil.rmtree(place, ignore_errors=True)
            coming.rename(place)
            return
