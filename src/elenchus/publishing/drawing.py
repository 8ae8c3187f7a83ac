"""A run of publishing: which files would be others than they are, drawn by one process or by several."""

from __future__ import annotations

import gc
import signal
from contextlib import ExitStack, nullcontext, suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from elenchus.comparing.changes import listing_changes
from elenchus.comparing.showing import sections_of
from elenchus.errors import ElenchusError, Place, Problem
from elenchus.pages.book import Book
from elenchus.pages.paths import file_of
from elenchus.pages.sections import placed
from elenchus.publishing.carried import keep_content
from elenchus.publishing.crew import Crew
from elenchus.publishing.last_run import Known, LastRun, Targets, program_of_pages, read_last_run, sign_of
from elenchus.publishing.links import LinkReader
from elenchus.publishing.manifest import digest_of, read_manifest
from elenchus.publishing.moved import moves, redirect_files, rows_of
from elenchus.publishing.outputs import StandingPages, outputs, page_content
from elenchus.publishing.publication import STAGE, Publication, own_folder
from elenchus.publishing.standing import PublishedFolder
from elenchus.publishing.unchanged import meta_of, public_digest
from elenchus.rendering.marks import PageMarks
from elenchus.rendering.renderer import Renderer
from elenchus.site.site import open_site

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence
    from contextlib import AbstractContextManager

    from elenchus.pages.sections import Placed
    from elenchus.publishing.carried import Carried
    from elenchus.publishing.manifest import Manifest
    from elenchus.publishing.outputs import Output
    from elenchus.publishing.publication import Wishes
    from elenchus.rendering.trace import Trace
    from elenchus.rendering.views import Visit
    from elenchus.site.site import Site

    _Crew: TypeAlias = "Crew[_Job, _Drawn]"

__all__ = ["published_to"]

_FEWEST = 1_500  # pages from which on other processes are worth their start
_OBJECTS = 100_000  # new ones between two looks for circles, of which there are hardly any
_Progress: TypeAlias = "Callable[[str, int], AbstractContextManager[Callable[[], None]]]"


def _unwatched(_what: str, _count: int) -> AbstractContextManager[Callable[[], None]]:
    """Return what tells nobody of progress."""
    return nullcontext(lambda: None)


class _Job(NamedTuple):
    """A page that is to be drawn: its place among those, its number in the site, and which of its pages."""

    place: int
    number: int
    visit: Visit


class _Drawn(NamedTuple):
    """A file that was made: its content, or the file in which that waits; what was asked for on the way."""

    digest: str
    links: Sequence[str]
    trace: Trace
    content: bytes = b""
    stage: str = ""


def published_to(
    renderer: Renderer,
    pages: Sequence[Placed],
    folder: Path,
    wishes: Wishes,
    *,
    standing: Carried | None = None,
    progress: _Progress = _unwatched,
) -> Publication:
    """Return what publishing to a folder would change; the content is staged there, unless it is a dry run.

    ``standing`` is what stands of pages that are not among those given.
    ``progress`` gives for a number of pages or files what is to be called for each of them.
    Raises SiteError, QuestionError, FolderError.
    """
    own_folder(folder)
    old = read_manifest(folder)
    program = program_of_pages()
    site = renderer.site
    before = read_last_run(folder, program) if site.content.work.index else LastRun({}, Targets(), {})
    found = Publication(folder, old, before=before, meta={"program": program})
    there, public = PublishedFolder(folder, before.files), public_digest(site)
    work = _Work(found, renderer, PageMarks(renderer), wishes, LinkReader(renderer.root.path), there)
    with ExitStack() as stack:
        helped = partial(_helped, stack, found, site, wishes)
        is_first = len(before.files) < len(pages) // 2
        crew = helped(len(pages)) if is_first else None  # which begins while this process compares
        with progress("pages", len(pages)) as tick:
            kept = StandingPages(standing.pages if standing else {}, partial(_take, found, standing))
            every = outputs(renderer, pages, work.marks, only=wishes.only, standing=kept, tick=tick)
            waiting = [output for output in every if not work.takes(output)]
        crew = crew or helped(sum(output.drawn is not None for output in waiting))
        with progress("files", len(waiting)) as tick:
            for output, drawn in work.drawn(waiting, crew, tick):
                work.put(output, drawn)
    work.redirect()
    found.drawn = len(waiting)
    _in_order(found)
    _left_over(found, wishes)
    found.listings = {**(standing.listings if standing else {}), **_listings_of(pages, wishes.only, old)}
    found.find_dead()
    if not wishes.only and site.content.is_indexed and found.is_settled:
        looked = {**(standing.looked if standing else {}), **renderer.desk.looked}
        found.meta |= meta_of(site, wishes.texts, public, looked)
        if "inputs" in found.meta:
            if standing:
                found.meta["until"] = min(found.meta["until"], standing.until)
            found.keep = partial(keep_content, site, folder, found.meta["inputs"])
    found.moves = list(listing_changes(old.listings, found.listings))
    return found


def _take(found: Publication, standing: Carried | None, path: str) -> None:
    """Take the files of a page as they stand, when its turn comes."""
    for name, known in standing.known[path].items() if standing else ():
        found.files[name], found.known[name] = found.old.files[name], known
        found.kept.append(name)


def _in_order(found: Publication) -> None:
    """Put what was found in the order of the site's files, whichever was made first."""
    found.known = {path: found.known[path] for path in found.files if path in found.known}
    places = {path: place for place, path in enumerate(found.files)}
    for paths in (found.new, found.changed, found.kept):
        paths.sort(key=places.__getitem__)
    found.in_the_way.sort(key=lambda problem: str(problem.place))


def _helped(stack: ExitStack, found: Publication, site: Site, wishes: Wishes, count: int) -> _Crew | None:
    """Return processes that draw a number of pages, ended with the stack; none where they would not help."""
    if count < _FEWEST or wishes.processes < 2 or not site.content.is_indexed or site.tables:  # noqa: PLR2004 - one is this
        return None
    stage = "" if wishes.dry_run else str(found.folder / STAGE)
    identity = site.content.found.identity()
    begin = partial(_begin, site.definition.folder, site.clock.now, identity, stage)
    return stack.enter_context(Crew(wishes.processes, begin, _draw))


def _left_over(found: Publication, wishes: Wishes) -> None:
    """Note what becomes of the files that were published and are not made this time."""
    old = found.old
    for path in old.paths:
        page, digest = old.files.get(path, ("", ""))
        if path in found.files:
            continue
        if wishes.only and path in old.files and page != wishes.only:  # not looked at this time
            found.files[path] = page, digest
            if path in found.before.files:
                found.known[path] = found.before.files[path]
        elif not wishes.only or path in old.files:
            _remove(found, path, force=wishes.force)
    seen = {*found.new, *found.changed, *found.kept, *found.removed}
    found.pending = {path: known for path, known in old.coming.items() if wishes.only and path not in seen}


class _Work(NamedTuple):
    """The work of one run: what it finds, by what pages are drawn, and how it was wished."""

    found: Publication
    renderer: Renderer
    marks: PageMarks
    wishes: Wishes
    reader: LinkReader
    standing: PublishedFolder

    def takes(self, output: Output) -> bool:
        """Say whether a file stands where all that it is made of is as it was, and take it as it is."""
        found, known = self.found, self.found.before.files.get(output.path)
        found.files[output.path] = output.page, ""  # in this order, whenever it is made
        if known is None and output.drawn:
            return False  # what a page is made of can be worked out while others draw it
        # That of a file is worked out here, before its content is read.
        if not (output.mark and known and known.mark == self.whole_mark(output.mark, known.trace)):
            return False
        known = self.standing.is_as_known(output.path)
        if known is None or found.old.files.get(output.path, ("", ""))[1] != known.digest:
            return False
        found.files[output.path] = output.page, known.digest
        found.known[output.path] = known
        found.kept.append(output.path)
        return True

    def redirect(self) -> None:
        """Let pages that moved be found at their old addresses, where the site wants that."""
        found, old, site = self.found, self.found.old, self.renderer.site
        pages = self.renderer.book.pages
        rows = rows_of(site, pages)
        found.rows, found.moved = rows, old.moved
        if site.definition.redirects and not self.wishes.only:
            known = moves(old, rows, found.files, site.definition.moved)
            found.moved = known.rows
            titles = {file_of(page.path): page.title for page in pages}
            for output in redirect_files(self.renderer, known, titles):
                self.put(output, _made(self.renderer, self.reader, output.make, is_page=False))

    def whole_mark(self, mark: bytes, trace: Trace | None) -> bytes:
        """Return the digest of all that a file is made of."""
        return self.marks.with_trace(mark, trace) if trace else mark

    def drawn(
        self, waiting: Sequence[Output], crew: _Crew | None, tick: Callable[[], None]
    ) -> Iterator[tuple[Output, _Drawn]]:
        """Yield files with their content: first those that a crew makes, in any order, then all others."""
        jobs = [_Job(place, *each.drawn) for place, each in enumerate(waiting) if each.drawn]
        made: set[int] = set()
        if crew and jobs:
            for job, drawn in crew.done(jobs):
                made.add(job.place)
                tick()
                yield waiting[job.place], drawn
        for place, each in enumerate(waiting):
            if place not in made:
                yield each, _made(self.renderer, self.reader, each.make, is_page=each.drawn is not None)
                tick()

    def put(self, output: Output, drawn: _Drawn) -> None:
        """Compare a file with what stands in its place, and stage it where that differs."""
        found, wishes = self.found, self.wishes
        links = [found.before.targets.number(name) for name in drawn.links]
        whole = self.whole_mark(output.mark, drawn.trace) if output.mark else b""
        made = Known(drawn.digest, whole, drawn.trace, links)
        found.is_settled = found.is_settled and self.marks.is_up_to_date(drawn.trace)
        found.files[output.path] = output.page, made.digest
        found.known[output.path] = made
        target = found.folder / output.path
        if blocked := _link_above(found.folder, output.path):
            found.in_the_way.append(_in_the_way(blocked, "is a link or a file, and would lead elsewhere"))
            return
        if target.is_symlink() or (target.exists() and not target.is_file()):
            found.in_the_way.append(_in_the_way(target, "is a link, a folder or no regular file"))
            return
        if target.is_file():
            standing = self.standing.digest(output.path)
            if standing == made.digest:
                found.known[output.path] = made._replace(sign=sign_of(target.stat()))
                found.kept.append(output.path)
                return
            if not (wishes.force or found.old.wrote(output.path, standing)):
                is_ours = output.path in found.old.paths
                reason = "was changed by hand" if is_ours else "was not written by this program"
                found.in_the_way.append(_in_the_way(target, reason, forced=True))
            found.changed.append(output.path)
        else:
            found.new.append(output.path)
        if not wishes.dry_run:
            stage = Path(drawn.stage) if drawn.stage else found.folder / STAGE / str(len(found.staged))
            if not drawn.stage:
                stage.parent.mkdir(parents=True, exist_ok=True)
                stage.write_bytes(drawn.content)
            found.staged[output.path] = stage


def _made(renderer: Renderer, reader: LinkReader, make: Callable[[], bytes], *, is_page: bool) -> _Drawn:
    """Return a file with its content, made now."""
    renderer.trace.clear()
    content = make()
    links = reader.links_in(content.decode()) if is_page else ()
    return _Drawn(digest_of(content), links, renderer.trace.copied(), content)


class _Worker:
    """What another process draws by: the same site at the same now, from its index."""

    def __init__(self, folder: Path, instant: int, identity: str, stage: str) -> None:
        site = open_site(folder)
        here = site.at(instant)
        self.renderer = Renderer(here, Book(here, in_bulk=True))
        self.reader = LinkReader(self.renderer.root.path)
        self.is_same = site.content.found.identity() == identity
        self.stage = stage

    def draw(self, job: _Job) -> _Drawn:
        """Draw a page, its content left in a file."""
        found = placed(self.renderer.book, self.renderer.book.pages[job.number])
        make = partial(page_content, self.renderer, found, job.visit)
        made = _made(self.renderer, self.reader, make, is_page=True)
        if not self.stage:
            return made._replace(content=b"")
        path = Path(self.stage) / f"page-{job.place}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(made.content)
        return made._replace(content=b"", stage=str(path))


_worker: list[_Worker] = []  # of this process, once it has begun


def _begin(folder: Path, instant: int, identity: str, stage: str) -> None:
    """Begin to work for another process, which saw some content, and which an interruption is meant for."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.set_threshold(_OBJECTS)
    with suppress(ElenchusError):  # the site is another by now, and the first process draws all
        worker = _Worker(folder, instant, identity, stage)
        if worker.is_same:
            _ = worker.renderer.book.pages
            _worker.append(worker)


def _draw(jobs: Sequence[_Job]) -> list[_Drawn]:
    """Draw some pages; none where the content is not what the other process saw."""
    return [_worker[0].draw(job) for job in jobs] if _worker else []


def _in_the_way(path: Path, reason: str, *, forced: bool = False) -> Problem:
    """Return the problem of a file that must not be overwritten."""
    hint = "Move it away, or add --force to overwrite it." if forced else "Move it away."
    return Problem(
        "changed-by-hand", f"the file {reason}, so nothing is written", hint, place=Place(str(path))
    )


def _link_above(folder: Path, path: str) -> Path | None:
    """Return the first step above a file that is no folder of its own, None where all are or can be made."""
    step = folder
    for part in Path(path).parts[:-1]:
        step /= part
        if step.is_symlink() or (step.exists() and not step.is_dir()):
            return step
    return None


def _remove(found: Publication, path: str, *, force: bool) -> None:
    """Note a file that is not published any more: to be removed, unless it was changed by hand."""
    target = found.folder / path
    if _link_above(found.folder, path) or not (target.is_file() or target.is_symlink()):
        return
    ours = not target.is_symlink() and found.old.wrote(path, digest_of(target.read_bytes()))
    (found.removed if ours or force else found.left).append(path)


def _listings_of(pages: Iterable[Placed], only: str, old: Manifest) -> dict[str, Sequence[str]]:
    """Return the rows of each section, on all its pages, by the address of its page and its name."""
    found: dict[str, Sequence[str]] = {}
    for name, page, section in sections_of(pages):
        skipped = only and page.rule.name != only
        rows = old.listings.get(name) if skipped else section.all_ids
        if rows is not None:
            found[name] = rows
    return found
