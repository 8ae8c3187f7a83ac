"""Publishing: what a folder holds, what would change in it, and the change, file by whole file."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from elenchus.errors import FolderError, Place, Problem
from elenchus.files import is_file, write_whole
from elenchus.frozen import Frozen
from elenchus.pages.paths import OWN_FOLDER
from elenchus.publishing.changes import listing_changes
from elenchus.publishing.kept import (
    Kept,
    Known,
    Targets,
    program_of_pages,
    read_kept,
    save_kept,
    sign_of,
)
from elenchus.publishing.links import LinkReader, dead_links
from elenchus.publishing.manifest import NAME, Manifest, digest_of, read_manifest
from elenchus.publishing.outputs import outputs
from elenchus.rendering.marks import PageMarks
from elenchus.rendering.templates import FOLDER as TEMPLATES

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Sequence

    from elenchus.pages.sections import Placed
    from elenchus.publishing.changes import ListingChange
    from elenchus.publishing.outputs import Output
    from elenchus.rendering.renderer import Renderer
    from elenchus.rendering.rows import Trace
    from elenchus.site.site import Site

__all__ = ["Publication", "Wishes", "published_to", "target_of", "writing"]

_STAGE = f"{OWN_FOLDER}/stage"
_LOCK = f"{OWN_FOLDER}/lock"


class Wishes(Frozen):
    """How to publish: ``only`` one page or page set, over files of others, without writing anything."""

    only: str = ""
    force: bool = False
    dry_run: bool = False


@dataclass
class Publication:
    """What would be written to a folder, and is by ``apply``.

    ``new``, ``changed``, ``kept`` and ``removed`` are paths of files; ``left`` are files that would go,
    were they not changed by hand. ``moves`` tells what becomes of listings. ``dead`` are files that
    nobody has, each with a page that links it. ``pending`` are files that runs which never ended may have
    written, and that this one does not look at. ``known`` is what the next run is left, ``before`` what the
    last one left; ``program`` is the version of all that pages are made by; ``drawn`` counts the files that
    were made anew, whether or not they came out as before.
    """

    folder: Path
    old: Manifest
    new: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    kept: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    in_the_way: list[Problem] = field(default_factory=list)
    moves: list[ListingChange] = field(default_factory=list)
    files: dict[str, tuple[str, str]] = field(default_factory=dict)
    listings: dict[str, Sequence[str]] = field(default_factory=dict)
    staged: dict[str, Path] = field(default_factory=dict)
    known: dict[str, Known] = field(default_factory=dict)
    before: Kept = field(default_factory=lambda: Kept({}, Targets(), {}))
    program: str = ""
    dead: list[tuple[str, str]] = field(default_factory=list)
    pending: dict[str, Sequence[str]] = field(default_factory=dict)
    drawn: int = 0

    @property
    def is_idle(self) -> bool:
        """Say whether nothing would change."""
        return not (self.new or self.changed or self.removed)

    def apply(self, tick: Callable[[], None] = lambda: None) -> None:
        """Write the changes; a kill at any moment leaves each file old or new, and the next run goes on.

        What is about to be written is noted first, so that the next run knows the files as its own.
        Raises FolderError, before anything is written, where files that are not ours are in the way.
        """
        if self.in_the_way:
            raise FolderError(self.in_the_way)
        if self.staged or self.removed:
            self.note(self.old.with_coming({path: self.files[path][1] for path in self.staged}))
        for path, staged in self.staged.items():
            target = self.folder / path
            target.parent.mkdir(parents=True, exist_ok=True)
            staged.replace(target)
            self.known[path] = self.known[path]._replace(sign=sign_of(target.stat()))
            tick()
        for path in self.removed:
            (self.folder / path).unlink(missing_ok=True)
            self.prune((self.folder / path).parent)
            tick()
        self.note(Manifest(self.files, self.pending, self.listings))
        self.leave()

    def leave(self) -> None:
        """Leave to the next run what is known of the files, unless it is what the last one left."""
        if self.known != self.before.files:
            save_kept(self.folder, self.known, self.before.targets, {"program": self.program})

    def standing(self, path: str) -> str:
        """Return the digest of the file that stands at a path, read only where it may have been touched."""
        target = self.folder / path
        known, sign = self.before.files.get(path), sign_of(target.stat())
        if known and any(sign) and known.sign == sign:
            return known.digest
        return digest_of(target.read_bytes())

    def note(self, manifest: Manifest) -> None:
        """Write the manifest; the same one is left as it is."""
        path = self.folder / NAME
        content = manifest.as_bytes()
        if not is_file(path) or path.read_bytes() != content:
            write_whole(path, content)

    def prune(self, folder: Path) -> None:
        """Take away folders that are empty now."""
        with contextlib.suppress(OSError):  # the first that is not empty ends it
            while folder != self.folder:
                folder.rmdir()
                folder = folder.parent


def target_of(site: Site, to: str | None) -> Path:
    """Return the folder to publish to. Raises FolderError for one that holds the site's own files."""
    root = site.definition.folder.resolve()
    target = (root / site.definition.to if to is None else Path(to)).resolve()
    own = [root / spec.path for spec in site.definition.sources if (root / spec.path).resolve() != root]
    own += [root / name for name in (TEMPLATES, "listings", "pages", *site.definition.files)]
    taken = root.is_relative_to(target) or any(target.is_relative_to(each.resolve()) for each in own)
    if taken:
        message = f"the folder {target} holds files that the site is made of"
        hint = "Publish to a folder of its own, such as published."
        raise FolderError([Problem("bad-target", message, hint)])
    if target.exists() and not target.is_dir():
        raise FolderError([Problem("bad-target", f"the file {target} is no folder", "Name a folder.")])
    return target


@contextlib.contextmanager
def writing(folder: Path, *, dry_run: bool = False) -> Iterator[None]:
    """Keep a folder for one run: a second one is refused meanwhile. Raises FolderError."""
    if dry_run:
        yield
        return
    _own_folder(folder)
    try:
        (folder / OWN_FOLDER).mkdir(parents=True, exist_ok=True)
        flags = os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
        lock = os.open(folder / _LOCK, flags, 0o644)
    except OSError as error:
        message = f"the folder {folder} cannot be written ({error.strerror})"
        raise FolderError([Problem("cannot-write", message, "Name another folder with --to.")]) from None
    try:
        _keep_alone(lock, folder)
        shutil.rmtree(folder / _STAGE, ignore_errors=True)
        yield
    except OSError as error:
        message = f"the file {error.filename or folder} cannot be written ({error.strerror})"
        raise FolderError([Problem("cannot-write", message, "Make room for it and publish again.")]) from None
    finally:
        shutil.rmtree(folder / _STAGE, ignore_errors=True)
        os.close(lock)


def _own_folder(folder: Path) -> None:
    """Raise FolderError where our own folder is a link: what lies behind it is not ours to change."""
    own = folder / OWN_FOLDER
    if own.is_symlink() or (own / "stage").is_symlink():
        message = f"the folder {own} leads elsewhere by a link, so nothing is written"
        raise FolderError([Problem("bad-target", message, "Take the link away.")])


def _keep_alone(lock: int, folder: Path) -> None:
    """Take a lock that ends with this process, where the system has them. Raises FolderError."""
    try:
        import fcntl
    except ImportError:  # systems without such locks
        return
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        message = f"another run is publishing to {folder}"
        raise FolderError([Problem("publishing-already", message, "Wait until it ends.")]) from None


def published_to(
    renderer: Renderer,
    pages: Sequence[Placed],
    folder: Path,
    wishes: Wishes,
    *,
    tick: Callable[[], None] = lambda: None,
) -> Publication:
    """Return what publishing to a folder would change; the content is staged there, unless it is a dry run.

    Raises SiteError, QuestionError, FolderError.
    """
    _own_folder(folder)
    old = read_manifest(folder)
    program = program_of_pages()
    found = Publication(folder, old, before=read_kept(folder, program), program=program)
    work = _Work(found, renderer, PageMarks(renderer), wishes, LinkReader(renderer.root.path))
    for output in outputs(renderer, pages, work.marks, only=wishes.only, tick=tick):
        work.take(output)
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
    found.listings = _listings_of(pages, wishes.only, old)
    links = {path: known.links for path, known in found.known.items() if known.links}
    gone = set(found.removed)  # they stand there still
    found.dead = list(
        dead_links(
            links,
            found.before.targets.names,
            lambda path: path in found.files or (path not in gone and is_file(folder / path)),
        )
    )
    found.moves = list(listing_changes(old.listings, found.listings))
    return found


class _Work(NamedTuple):
    """The work of one run: what it finds, by what pages are drawn, and how it was wished."""

    found: Publication
    renderer: Renderer
    marks: PageMarks
    wishes: Wishes
    reader: LinkReader

    def take(self, output: Output) -> None:
        """Take one file: as it stands where all that it is made of is as it was, else made anew."""
        mark, known = output.mark() if output.mark else b"", self.found.before.files.get(output.path)
        if mark and known and known.mark == self.whole_mark(mark, known.trace) and self.stands(output.path):
            if not any(known.sign):
                known = known._replace(sign=sign_of((self.found.folder / output.path).stat()))
            self.found.files[output.path] = output.page, known.digest
            self.found.known[output.path] = known
            self.found.kept.append(output.path)
            return
        self.found.drawn += 1
        trace, targets = self.renderer.trace, self.found.before.targets
        trace.clear()
        content = output.content
        links: list[int] = []
        if output.path.endswith(".html") and output.page:
            links = [targets.number(name) for name in self.reader.links_in(content.decode())]
        made = Known(digest_of(content), self.whole_mark(mark, trace) if mark else b"", trace.copied(), links)
        self.put(output, content, made)

    def whole_mark(self, mark: bytes, trace: Trace | None) -> bytes:
        """Return the digest of all that a file is made of."""
        return self.marks.with_trace(mark, trace) if trace else mark

    def stands(self, path: str) -> bool:
        """Say whether a file stands where it was published, as it was written."""
        _, digest = self.found.old.files.get(path, ("", ""))
        known = self.found.before.files[path]
        if digest != known.digest or _link_above(self.found.folder, path):
            return False
        target = self.found.folder / path
        return not target.is_symlink() and is_file(target) and self.found.standing(path) == digest

    def put(self, output: Output, content: bytes, made: Known) -> None:
        """Compare a file with what stands in its place, and stage it where that differs."""
        found, wishes = self.found, self.wishes
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
            standing = found.standing(output.path)
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
            stage = found.folder / _STAGE / str(len(found.staged))
            stage.parent.mkdir(parents=True, exist_ok=True)
            stage.write_bytes(content)
            found.staged[output.path] = stage


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
    times: dict[str, int] = defaultdict(int)
    for page in pages:
        if page.page.rule.private:
            continue
        for section in page.sections:
            if section.answer and section.takes_part:
                name = f"/{page.page.address} {section.rule.listing or section.rule.title or section.name}"
                times[name] += 1
                name += f" ({times[name]})" if times[name] > 1 else ""
                skipped = only and page.page.rule.name != only
                rows = old.listings.get(name) if skipped else section.all_ids
                if rows is not None:
                    found[name] = rows
    return found
