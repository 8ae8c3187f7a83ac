"""A site that is being worked on: read again when its files change, seen at any time."""

from __future__ import annotations

import os
import threading
import time
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from elenchus.checks.run import check_site
from elenchus.errors import ElenchusError, Problem, SiteError
from elenchus.frozen import Working
from elenchus.index.work import Work
from elenchus.pages.book import Book
from elenchus.pages.survey import Survey
from elenchus.preview.places import Places
from elenchus.preview.preview import PreviewRenderer
from elenchus.preview.unpublished import AllShown
from elenchus.publishing.outputs import KeptBack, kept_back, sitemaps
from elenchus.rendering.addresses import Root
from elenchus.rendering.renderer import Renderer
from elenchus.site.keys import SITE_FILE
from elenchus.site.site import instant_of, now, open_site
from elenchus.sources import pulse_of
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from pathlib import Path

    from elenchus.checks.run import Report
    from elenchus.site.site import Site

__all__ = ["Live", "Scene"]

_AGAIN = 5  # seconds after which a site that could not be read is looked at again
_STALE = 30  # seconds after which a running clock is read again
_MOST_SCENES = 8  # that are kept, the last ones


class Scene(Working):
    """A site at one now: its pages, how they are drawn, what is wrong with it.

    ``shown`` is what it is made of where it has all that is not public, too.
    """

    site: Site
    version: int
    shown: AllShown | None = None
    offers_all: bool = False

    def prepare(self) -> None:
        """Make what every page needs, so that the first visitors do not each make it."""
        _ = self.places, self.renderer.site_view

    @cached_property
    def book(self) -> Book:
        """The pages."""
        return Book(self.site)

    @cached_property
    def renderer(self) -> PreviewRenderer:
        """What draws them, at the root of the preview."""
        root = Root(self.site.definition.address, "/")
        return PreviewRenderer(self.site, self.book, root=root, shown=self.shown, offers_all=self.offers_all)

    @cached_property
    def places(self) -> Places:
        """What stands at which address."""
        return Places(self.book)

    @cached_property
    def hidden_files(self) -> KeptBack:
        """The files of the site that nobody is shown as they are."""
        return kept_back(self.site)

    @cached_property
    def sitemaps(self) -> dict[str, bytes]:
        """The sitemap, in several files where there are many pages."""
        return sitemaps(Renderer(self.site, self.book))

    @cached_property
    def report(self) -> Report:
        """What the check finds."""
        return check_site(self.site, survey=Survey(self.site))


@dataclass
class Live:
    """A folder with a site; ``at`` is the now that it is seen at unless a visitor chooses another.

    Tables answer where ``on`` names their place. ``offers_all`` says whether visitors may see what is not
    public, and pending edits. ``version`` grows with each change. Several threads may call its methods.
    """

    folder: Path
    at: str | None = None
    index: bool = True
    on: str = ""
    offers_all: bool = True
    version: int = 1
    scenes: dict[tuple[str, bool], tuple[float, Scene]] = field(default_factory=dict)
    site: Site | None = None
    pulses: dict[str, str] = field(default_factory=dict)
    lock: threading.RLock = field(default_factory=threading.RLock)

    def changed(self) -> None:
        """Forget what was read: the files are others now."""
        with self.lock:
            self.version += 1
            self.scenes.clear()
            self.site = None

    def has_other_rows(self) -> bool:
        """Say whether the tables of a database are otherwise than when this was asked last."""
        try:
            specs = [spec for spec in self.scene().site.definition.sources if spec.table and spec.table.poll]
        except ElenchusError:
            return False
        found = {spec.name: told for spec in specs if (told := pulse_of(spec, self.folder))}
        differ = any(self.pulses.get(name, told) != told for name, told in found.items())
        self.pulses |= found
        return differ

    def poll(self) -> int:
        """Return after how many seconds tables of databases are to be looked at again; 0 for never."""
        try:
            sources = self.scene().site.definition.sources
        except ElenchusError:
            return _AGAIN
        return min((spec.table.poll for spec in sources if spec.table and spec.table.poll), default=0)

    def scene(self, at: str = "", *, shows_all: bool = False) -> Scene:
        """Return the site at a time such as ``2026-06-01``, or at its own. Raises SiteError.

        ``shows_all`` has it with what is not public, and with pending edits, where that is offered.
        """
        with self.lock:
            key = at, shows_all and self.offers_all
            found = self.scenes.get(key)
            if found and (self.is_still(at) or time.monotonic() - found[0] < _STALE):
                return found[1]
            site = self.read()
            public = site.at(self.instant(site, at or self.at))
            shown = AllShown(public) if key[1] else None
            scene = Scene(shown.site if shown else public, self.version, shown, self.offers_all)
            self.scenes.pop(key, None)
            self.scenes[key] = time.monotonic(), scene
            while len(self.scenes) > _MOST_SCENES:
                del self.scenes[next(iter(self.scenes))]
            scene.prepare()
            return scene

    def instant(self, site: Site, at: str | None) -> int:
        """Return the instant of a time; the site's own now where none is asked for. Raises SiteError."""
        return instant_of(site.definition, at) if at else now(site.definition, None)

    def is_still(self, at: str) -> bool:
        """Say whether the clock stands still."""
        return bool(at or self.at or (self.site and self.site.definition.clock is not None))

    def read(self) -> Site:
        """Return the site as its files have it. Raises SiteError."""
        if self.site is None:
            if not os.path.lexists(self.folder / SITE_FILE):  # told without the folder: others may see it
                raise SiteError([Problem("no-site", f"there is no {SITE_FILE} in the folder of the site")])
            site = open_site(self.folder, at=self.at).working(Work(index=self.index, aside=True))
            _ = site.dataset  # read here, so that scenes share it
            _ = site.library, site.pages
            self.site = site.answered_on(self.on) if self.on else site
        return self.site

    def problems(self) -> tuple[Problem, ...]:
        """Return what keeps the site from being read at all."""
        try:
            self.scene()
        except ElenchusError as error:
            return error.problems
        return ()
