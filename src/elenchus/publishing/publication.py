"""Publishing: what a folder holds, what would change in it, and the change, file by whole file."""

from __future__ import annotations

import contextlib
import os
import shutil
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any

from elenchus.errors import FolderError, Problem
from elenchus.files import is_file, take_lock, write_whole, written_or_told
from elenchus.frozen import Frozen
from elenchus.pages.paths import INDEX, OWN_FOLDER, TEMPLATES
from elenchus.publishing.last_run import Known, LastRun, Targets, save_run, sign_of
from elenchus.publishing.links import dead_links
from elenchus.publishing.manifest import NAME, Manifest
from elenchus.values.filepaths import fixed_part, matcher, normal, within_archive

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Mapping, Sequence

    from elenchus.comparing.changes import ListingChange
    from elenchus.site.site import Site

__all__ = ["REDIRECTS", "STAGE", "Publication", "Wishes", "own_folder", "target_of", "writing"]

STAGE = f"{OWN_FOLDER}/stage"
REDIRECTS = "redirects"  # what the manifest calls the page of files at old addresses
_LOCK = f"{OWN_FOLDER}/lock"


class Wishes(Frozen):
    """How to publish: ``only`` one page or page set, over files of others, without writing anything.

    Many pages are shared among ``processes``. ``texts`` is what
    :func:`~elenchus.publishing.unchanged.texts_digest` was before the site was opened: with it, the next run
    knows at once whether anything has changed.
    """

    only: str = ""
    force: bool = False
    dry_run: bool = False
    processes: int = 1
    texts: str = ""


@dataclass
class Publication:
    """What would be written to a folder, and is by ``apply``.

    ``new``, ``changed``, ``kept`` and ``removed`` are paths of files; ``left`` are files that would go,
    were they not changed by hand. ``moves`` tells what becomes of listings. ``dead`` are files that
    nobody has, each with a page that links it. ``pending`` are files that runs which never ended may have
    written, and that this one does not look at. ``known`` is what the next run is left, ``before`` what the
    last one left, ``meta`` what is said of this run besides; ``drawn`` counts the files that
    were made anew, whether or not they came out as before; a run is not ``is_settled`` where templates or
    pictures changed while it drew. ``keep`` leaves the content to the next run. ``rows`` and
    ``moved`` are those of the manifest, ``stale`` links to pages that moved, as ``dead`` has them.
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
    listings: Mapping[str, Sequence[str]] = field(default_factory=dict)
    rows: Mapping[str, Sequence[str]] = field(default_factory=dict)
    moved: Mapping[str, Sequence[str]] = field(default_factory=dict)
    staged: dict[str, Path] = field(default_factory=dict)
    known: dict[str, Known] = field(default_factory=dict)
    before: LastRun = field(default_factory=lambda: LastRun({}, Targets(), {}))
    meta: dict[str, Any] = field(default_factory=dict)
    dead: list[tuple[str, str]] = field(default_factory=list)
    stale: list[tuple[str, str]] = field(default_factory=list)
    pending: dict[str, Sequence[str]] = field(default_factory=dict)
    drawn: int = 0
    keep: Callable[[], None] = lambda: None
    is_settled: bool = True

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
        self.note(Manifest(self.files, self.pending, self.listings, self.rows, self.moved))
        self.leave()

    def leave(self) -> None:
        """Leave to the next run what is known of the files, unless it is what the last one left."""
        if self.known != self.before.files or self.meta != self.before.meta:
            save_run(self.folder, self.known, self.before.targets, self.meta)
            self.keep()

    def find_dead(self) -> None:
        """Find the links that lead to files which nobody has."""
        gone = set(self.removed)  # they stand there still
        links = {path: known.links for path, known in self.known.items() if known.links}
        names = self.before.targets.names
        self.dead = list(
            dead_links(
                links,
                names,
                lambda path: path in self.files or (path not in gone and is_file(self.folder / path)),
            )
        )
        old = {path for path, (page, _) in self.files.items() if page == REDIRECTS}
        self.stale = list(dead_links(links, names, lambda path: path not in old)) if old else []

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
    named = {
        fixed_part(within_archive(path))
        for spec in site.definition.sources
        for path in spec.paths
        if not _is_excluded(root, fixed_part(within_archive(path)), target, spec.exclude)
    }
    own = [root / path for path in sorted(named) if (root / path).resolve() != root]
    own += [root / name for name in (TEMPLATES, "listings", "pages", *site.definition.files)]
    taken = root.is_relative_to(target) or any(target.is_relative_to(each.resolve()) for each in own)
    if taken:
        message = f"the folder {target} holds files that the site is made of"
        hint = "Publish to a folder of its own, such as published."
        raise FolderError([Problem("bad-target", message, hint)])
    if target.exists() and not target.is_dir():
        raise FolderError([Problem("bad-target", f"the file {target} is no folder", "Name a folder.")])
    return target


def _is_excluded(root: Path, start: str, target: Path, patterns: Sequence[str]) -> bool:
    """Say whether a folder below the start of a source is not read by it."""
    base = (root / start).resolve()
    if not patterns or not target.is_relative_to(base):
        return False
    inside = PurePosixPath(start) / target.relative_to(base).as_posix() / INDEX
    return any(matcher(normal(pattern))(str(inside)) for pattern in patterns)


@contextlib.contextmanager
def writing(folder: Path, *, dry_run: bool = False) -> Iterator[None]:
    """Keep a folder for one run: a second one is refused meanwhile. Raises FolderError."""
    if dry_run:
        yield
        return
    own_folder(folder)
    with written_or_told(f"the folder {folder}", "Name another folder with --to."):
        (folder / OWN_FOLDER).mkdir(parents=True, exist_ok=True)
        flags = os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0)
        lock = os.open(folder / _LOCK, flags, 0o644)
    try:
        take_lock(lock)
        shutil.rmtree(folder / STAGE, ignore_errors=True)
        yield
    except BlockingIOError:
        message = f"another run is publishing to {folder}"
        raise FolderError([Problem("publishing-already", message, "Wait until it ends.")]) from None
    except OSError as error:
        message = f"the file {error.filename or folder} cannot be written ({error.strerror})"
        raise FolderError([Problem("cannot-write", message, "Make room for it and publish again.")]) from None
    finally:
        shutil.rmtree(folder / STAGE, ignore_errors=True)
        os.close(lock)


def own_folder(folder: Path) -> None:
    """Raise FolderError where our own folder is a link: what lies behind it is not ours to change."""
    own = folder / OWN_FOLDER
    if own.is_symlink() or (own / "stage").is_symlink():
        message = f"the folder {own} leads elsewhere by a link, so nothing is written"
        raise FolderError([Problem("bad-target", message, "Take the link away.")])
