"""All files of a published site, one after the other."""

from __future__ import annotations

import re
from datetime import datetime
from functools import partial
from hashlib import blake2b
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, NamedTuple
from urllib.parse import unquote

from elenchus import sources
from elenchus.errors import Problem, SiteError
from elenchus.files import is_file, is_text, read_whole, scanned, unreadable
from elenchus.frozen import Frozen, Working, member
from elenchus.pages.paths import unsafe
from elenchus.pages.sections import placed
from elenchus.publishing.beside import files_beside
from elenchus.publishing.last_run import MARK, sign_of
from elenchus.publishing.sitemap import sitemap_files
from elenchus.rendering.marks import PageMarks
from elenchus.rendering.renderer import ASSETS, paths_of
from elenchus.rendering.rows import normal
from elenchus.schema.subject import ENTRIES
from elenchus.schema.types import Type
from elenchus.values.dates import from_instant, stamp
from elenchus.values.filepaths import is_pattern, matcher, within_archive
from elenchus.values.kept import cached_property
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Callable, Container, Iterator, Mapping, Sequence
    from pathlib import Path

    from elenchus.engine.columns.column import Dates
    from elenchus.engine.columns.dataset import Dataset
    from elenchus.pages.book import Page
    from elenchus.pages.sections import Placed
    from elenchus.rendering.renderer import Renderer
    from elenchus.rendering.views import Visit
    from elenchus.site.site import Site

__all__ = [
    "KeptBack",
    "Output",
    "StandingPages",
    "content_of",
    "kept_back",
    "outputs",
    "page_content",
    "published_file",
    "sitemaps",
]

_LARGEST = 2**30  # bytes of a file that is published as it is
_NAMED = re.compile(r"""(?:\]\(\s*<?|(?:src|href)\s*=\s*["']?)([^\s"'<>)]+)""")


class Output(Working):
    """One file: its path below the root, the page that it belongs to (empty for the site's), its content.

    ``made_of`` gives the digest of what the content is made of, so far as that is known before it is made;
    None where the content itself is to be compared. ``drawn`` is a page by its number, and which of its
    pages.
    """

    path: str
    page: str
    make: Callable[[], bytes]
    made_of: Callable[[], bytes] | None = None
    drawn: tuple[int, Visit] | None = None

    @cached_property
    def mark(self) -> bytes:
        """The digest of what it is made of, worked out once; nothing where that is not known."""
        return self.made_of() if self.made_of else b""

    @property
    def content(self) -> bytes:
        """The content, made now. Raises SiteError, QuestionError."""
        return self.make()


class StandingPages(NamedTuple):
    """Pages that stand as they are: the files of each by its path, and what is called when its turn comes."""

    files: Mapping[str, Sequence[str]]
    take: Callable[[str], None]


def outputs(
    renderer: Renderer,
    pages: Sequence[Placed],
    marks: PageMarks | None = None,
    *,
    only: str = "",
    standing: StandingPages | None = None,
    tick: Callable[[], None] = lambda: None,
) -> Iterator[Output]:
    """Yield every file; ``only`` those of one page or page set, with what all pages need.

    ``standing`` are pages that are not among those given.

    Raises SiteError where two files have one path, or a path is unsafe.
    """
    seen: dict[str, str] = {}
    for page in renderer.book.pages:
        own = standing.files.get(page.path, ()) if standing else ()
        seen |= dict.fromkeys(own, page.rule.name)
    for output in _unchecked(renderer, pages, marks or PageMarks(renderer), only, standing, tick):
        if reason := unsafe(output.path):
            raise SiteError([Problem("unsafe-path", f"a file cannot be written: {reason}")])
        if output.path in seen:
            owners = f"for {_whose(output.page)} and for {_whose(seen[output.path])}"
            message = f"{quoted(output.path)} would be written twice, {owners}"
            hint = "Give one of the two another name or path."
            raise SiteError([Problem("duplicate-address", message, hint)])
        seen[output.path] = output.page
        yield output


def _whose(page: str) -> str:
    """Return what a file belongs to, in words."""
    return f"the page {page}" if page else "the site's files"


def _unchecked(
    renderer: Renderer,
    pages: Sequence[Placed],
    marks: PageMarks,
    only: str,
    standing: StandingPages | None,
    tick: Callable[[], None],
) -> Iterator[Output]:
    """Yield every file, whatever its path."""
    listed: list[tuple[str, str]] = []
    stamps, by_page = _Stamps(renderer.site), {id(found.page): found for found in pages}
    for number, page in enumerate(renderer.book.pages):
        rule, found = page.rule, by_page.get(id(page))
        if found is None and standing and page.path in standing.files:
            standing.take(page.path)
            first, *later = standing.files[page.path]
            if renderer.root.address:
                listed += [(first, stamps.of(page)), *((path, "") for path in later)]
        if found is None or rule.private or (only and rule.name != only):
            tick()
            continue
        for path, visit in paths_of(found):
            make = partial(page_content, renderer, found, visit)
            yield Output(path, rule.name, make, partial(marks.page, found, visit), (number, visit))
        listed += _for_sitemap(renderer, stamps, found)
        for section in found.sections:
            if section.rule.beside and section.plan:
                for beside in files_beside(renderer, found.page, section, marks):
                    yield Output(beside.path, rule.name, beside.make, beside.mark)
        tick()
    if not only:
        for path, content in sitemap_files(renderer.root, listed):
            yield Output(path, "", partial(bytes, content))
    yield from _own_files(renderer)


def page_content(renderer: Renderer, found: Placed, visit: Visit) -> bytes:
    """Return a page as a file has it."""
    return renderer.page(found, visit).encode()


def _for_sitemap(renderer: Renderer, stamps: _Stamps, found: Placed) -> list[tuple[str, str]]:
    """Return the files of a page as a sitemap has them, each with the date of its last change."""
    if not renderer.root.address:
        return []
    return [(path, stamps.of(found.page) if visit.number == 1 else "") for path, visit in paths_of(found)]


def sitemaps(renderer: Renderer) -> dict[str, bytes]:
    """Return the sitemap of a site, in several files where there are many pages."""
    pages = [placed(renderer.book, page) for page in renderer.book.pages if not page.rule.private]
    stamps = _Stamps(renderer.site)
    listed = [each for found in pages for each in _for_sitemap(renderer, stamps, found)]
    return dict(sitemap_files(renderer.root, listed))


class _Stamps(Working):
    """When entries were last changed, as a sitemap has it: each instant is written once."""

    site: Site
    known: dict[tuple[int, bool], str] = member(default_factory=dict)

    @cached_property
    def dates(self) -> tuple[Dates, Dates]:
        """When entries were changed, and their dates, which count where nothing is said of changes."""
        return self.site.dataset.dates("updated"), self.site.dataset.dates("date")

    def of(self, page: Page) -> str:
        """Return when the entry of a page was last changed, as a W3C date; nothing for other pages."""
        if page.here is None or page.here.subject != ENTRIES:
            return ""
        row = page.here.number
        for column in self.dates:
            if column.valid[row]:
                key = int(column.keys[row]), bool(column.whole[row])
                if key not in self.known:
                    self.known[key] = self.told(*key)
                return self.known[key]
        return ""

    def told(self, instant: int, is_day: bool) -> str:  # noqa: FBT001 - it is what a column says
        """Return an instant as a W3C date, of a day its first."""
        zone = self.site.clock.zone
        local = from_instant(instant, zone)
        return stamp(datetime(local.year, local.month, local.day, tzinfo=zone) if is_day else local)


def _own_files(renderer: Renderer) -> Iterator[Output]:
    """Yield our stylesheet and script, and the files that the site publishes as they are."""
    for name, content in renderer.assets().items():
        yield Output(f"{ASSETS}/{name}", "", partial(bytes, content))
    definition = renderer.site.definition
    if not definition.files:
        return
    hidden = kept_back(renderer.site)
    for name in definition.files:
        for path in _files_below(definition.folder / name, definition.folder.resolve()):
            below = path.relative_to(definition.folder).as_posix()
            if below not in hidden:
                yield Output(below, "", partial(content_of, path, below), partial(_mark_of_file, path))


def _mark_of_file(path: Path) -> bytes:
    """Return what tells that a file is as it was; nothing where that is not sure."""
    try:
        sign = sign_of(path.stat())
    except OSError:
        return b""
    return blake2b(b"%d %d %d" % sign, digest_size=MARK).digest() if any(sign) else b""


def content_of(path: Path, below: str) -> bytes:
    """Return the content of a file of the site. Raises SiteError."""
    try:
        return read_whole(path, _LARGEST)
    except OSError as error:
        hint = "Change its permissions, or take it out of files below [publish]."
        raise SiteError([unreadable(below, error, hint)]) from None


def _files_below(path: Path, root: Path) -> Iterator[Path]:
    """Yield a file, or all files of a folder, without hidden ones and links. Raises SiteError."""
    if not _is_open(path, root):
        return
    if not path.is_dir():
        yield from [path] if is_file(path) else ()
        return
    found = scanned(path)
    for met in found.others:
        if met.error:
            inside = (path / met.path).resolve()
            name = inside.relative_to(root).as_posix() if inside.is_relative_to(root) else path.name
            raise SiteError([unreadable(name, met.error, what="folder")])
    yield from (path / name for name in sorted(found.paths))


def _is_open(path: Path, root: Path) -> bool:
    """Say whether a file or folder may be published: it is neither hidden nor a link, and inside the site.

    A link is never followed: what it leads to may be anything, and need not be what it was.
    """
    if path.name.startswith(".") or path.is_symlink() or not is_text(path.name):
        return False
    return path.resolve().is_relative_to(root)


class KeptBack(Frozen):
    """Files of a site that are never published as they are, though they stand where others are.

    Content is published as pages only, drafts being among it. A picture or file that unpublished entries
    name and no public one is theirs: it waits until one of them is published.
    """

    named: frozenset[str]
    sources: tuple[tuple[str, tuple[str, ...]], ...]  # paths and patterns of content, and its endings

    def __contains__(self, path: object) -> bool:
        text = str(path)
        if text in self.named:
            return True
        for source, endings in self.sources:
            if text == source or (is_pattern(source) and matcher(source)(text)):
                return True
            if text.startswith(f"{source}/" if source else "") and text.lower().endswith(endings):
                return True
        return False


def kept_back(site: Site) -> KeptBack:
    """Return what is kept back of the files of a site now."""
    named: dict[bool, set[str]] = {True: set(), False: set()}
    data = site.dataset
    public = site.engine.view().visible
    for row in range(len(data.entries)):
        source = str(data.texts("source").item(row))
        named[bool(public[row])].update(_files_named(data, row, source))
    content = []
    for spec in site.definition.sources:
        endings = tuple(sources.source(spec.read).SUFFIXES)
        endings += tuple(f"{each}.gz" for each in endings)
        content += [(normal(PurePosixPath(within_archive(path))), endings) for path in spec.paths]
    return KeptBack(frozenset(named[False] - named[True]), tuple(content))


def _files_named(data: Dataset, row: int, source: str) -> Iterator[str]:
    """Yield the files that an entry names in its images and its text, told from its folder or the site's."""
    names: list[str] = []
    for (_, kind), column in data.entries.columns.items():
        if kind.type is Type.IMAGE:
            item = column.item(row)
            names += item if isinstance(item, list) else [item] if item else []
    body = data.texts("body").item(row) or ""
    names += (unquote(match[1]) for match in _NAMED.finditer(str(body)))
    for name in names:
        for above in (PurePosixPath(source).parent, PurePosixPath()):
            if steps := normal(above / name.lstrip("/")):
                yield steps


def published_file(site: Site, wanted: str, hidden: Container[str]) -> Path | None:
    """Return a file that a site publishes as it is, by its path below the site; None for all others."""
    folder, names = site.definition.folder, site.definition.files
    if not any(wanted == name or wanted.startswith(f"{name}/") for name in names) or wanted in hidden:
        return None
    steps, root = wanted.split("/"), folder.resolve()
    if any(step in ("", ".", "..") for step in steps):
        return None
    above = [folder.joinpath(*steps[:length]) for length in range(1, len(steps) + 1)]
    try:
        return above[-1] if is_file(above[-1]) and all(_is_open(each, root) for each in above) else None
    except OSError:  # a name that no file can have
        return None
