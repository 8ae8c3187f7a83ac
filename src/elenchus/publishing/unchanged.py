"""Runs of publishing that change nothing: known without asking, checking or drawing anything.

What a site publishes depends on its content, its other files, the program and the clock. Where these are as
they were at the last run, so are the files; up to which instant of the clock that holds, that run said.
"""

from __future__ import annotations

import time
from array import array
from hashlib import blake2b
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.files import Scanned, is_file, read_whole, scanned, signature
from elenchus.pages.paths import TEMPLATES
from elenchus.publishing.last_run import YOUNG, program_of_pages, read_last_run
from elenchus.publishing.manifest import read_manifest
from elenchus.publishing.publication import Publication
from elenchus.publishing.standing import PublishedFolder
from elenchus.values.dates import unit_interval

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping
    from pathlib import Path

    from elenchus.publishing.last_run import LastRun
    from elenchus.publishing.manifest import Manifest
    from elenchus.publishing.publication import Wishes
    from elenchus.site.site import Site

__all__ = [
    "PublishedBefore", "digest_of_files", "known_of", "meta_of", "public_digest", "texts_digest", "unchanged",
]  # fmt: skip


def texts_digest(folder: Path) -> str:
    """Return a digest of the files of a site that are read besides its content: TOML and templates."""
    return digest_of_files(_texts(folder))


def digest_of_files(files: Iterable[tuple[str, Path]]) -> str:
    """Return a digest of files by their names and contents; one that cannot be read counts as such."""
    found = blake2b(digest_size=16)
    for name, path in files:
        try:
            content = read_whole(path)
        except OSError:
            content = b"\0"
        found.update(f"{name} {len(content)} ".encode("utf-8", "surrogatepass") + content)
    return found.hexdigest()


def _texts(folder: Path) -> Iterator[tuple[str, Path]]:
    """Yield the files that are read besides content, with their paths below the site."""
    yield from sorted((path.name, path) for path in folder.glob("*.toml"))
    for below in ("listings", "pages", TEMPLATES):
        if (folder / below).is_dir():
            paths = scanned(folder / below).paths
            yield from ((f"{below}/{path}", folder / below / path) for path in sorted(paths))


def public_digest(site: Site) -> str:
    """Return a digest of the files published as they are; nothing where one is too young for that."""
    told, latest = [], 0
    for name in site.definition.files:
        path = site.definition.folder / name
        paths, signatures, others = scanned(path) if path.is_dir() else _alone(path)
        signs = np.array(signatures, dtype=np.int64).reshape(-1, 4)
        latest = max(latest, int(signs[:, 1:3].max(initial=0)))
        told += [f"{name}/{each} {sign}" for each, sign in zip(paths, signs.tolist(), strict=True)]
        told += [f"{name}/{met.path} {met.kind}" for met in others]
    if latest > time.time_ns() - YOUNG:
        return ""
    return blake2b("\n".join(sorted(told)).encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()


def _alone(path: Path) -> Scanned:
    """Return a file as if it had been met in a folder; nothing where there is none."""
    if not is_file(path):
        return Scanned([], array("q"), [])
    return Scanned([""], array("q", signature(path.stat())), [])


def meta_of(site: Site, texts: str, public: str, looked: Mapping[str, bool]) -> dict[str, Any]:
    """Return what the next run is told of this one: all that its files are made of, and how long that holds.

    ``texts`` and ``public`` are what :func:`texts_digest` was before anything was read and what the public
    files were; ``looked`` says of files of the site whether they were there. Nothing, where something was
    changed meanwhile.
    """
    if not texts or not public or texts != texts_digest(site.definition.folder):
        return {}
    return {
        "inputs": _inputs(site, texts, public),
        "from": site.clock.now,
        "until": _until(site),
        "looked": dict(sorted(looked.items())),
    }


def _until(site: Site) -> int:
    """Return the instant from which on another clock may give other answers."""
    now, entries = site.clock.now, site.dataset.entries
    if "instant" in site.watch:
        return now
    dates = site.dataset.dates("date")
    instants = np.concatenate((entries.opens, entries.closes, dates.keys[dates.valid]))
    found = [int(instants[instants > now].min(initial=np.iinfo(np.int64).max))]
    if "day" in site.watch:
        found.append(unit_interval(site.clock.today, "day", site.clock.zone).end)
    return min(found)


class PublishedBefore(NamedTuple):
    """What is known for certain of a published folder: what the last run left, and the list of its files."""

    run: LastRun
    files: Manifest


def known_of(
    site: Site, folder: Path, wishes: Wishes, *, other_content: bool = False
) -> PublishedBefore | None:
    """Return what is known of a published folder if it was made of the same; None where that is not certain.

    It may be of ``other_content`` with the same meaning. Raises FolderError, SiteError.
    """
    if wishes.only or not site.content.is_indexed:
        return None
    run = read_last_run(folder, program_of_pages())
    meta = run.meta
    if not meta.get("inputs") or not meta["from"] <= site.clock.now < meta["until"]:
        return None
    first = 1 if other_content else 0
    if meta["inputs"][first:] != _inputs(site, wishes.texts, public_digest(site))[first:]:
        return None
    if any(is_file(site.definition.folder / path) != there for path, there in meta["looked"].items()):
        return None
    files = read_manifest(folder)
    if files.coming or list(files.files) != sorted(run.files):
        return None
    return PublishedBefore(run, files)


def _inputs(site: Site, texts: str, public: str) -> list[str]:
    """Return digests of all that pages are made of: of the content, of what it means, of all else."""
    return [*site.content.found.identity().split(), texts, public]


def unchanged(site: Site, folder: Path, wishes: Wishes) -> Publication | None:
    """Return that nothing changes in a published folder; None where that is not known for certain.

    Raises FolderError, SiteError.
    """
    known_before = known_of(site, folder, wishes)
    if known_before is None:
        return None
    kept, old = known_before
    standing = PublishedFolder(folder, kept.files)
    found = Publication(
        folder, old, before=kept, meta=kept.meta, files=dict(old.files), listings=old.listings,
        rows=old.rows, moved=old.moved,
    )  # fmt: skip
    for path, known in kept.files.items():
        seen = standing.is_as_known(path)
        if seen is None or old.files[path][1] != known.digest:
            return None
        found.known[path] = seen
        found.kept.append(path)
    found.find_dead()
    return found
