"""What was published last: each file with the digest of its content, and the rows of each section."""

from __future__ import annotations

import json
from hashlib import sha256
from typing import TYPE_CHECKING

from elenchus.errors import FolderError, Place, Problem
from elenchus.files import read_whole
from elenchus.frozen import Frozen, member, replace
from elenchus.pages.paths import OWN_FOLDER, unsafe
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

__all__ = ["NAME", "OWN_FOLDER", "Manifest", "digest_of", "read_manifest"]

NAME = f"{OWN_FOLDER}/manifest.json"
_VERSION = 2
_READABLE = (1, _VERSION)
_LARGEST = 2**29  # bytes: some hundred thousand pages


class Manifest(Frozen):
    """The files that were written by this program, and the entries that each section showed.

    ``files`` has the page and the digest of each file by its path; ``coming`` the digests of files that runs
    were about to write which never ended: each may stand there now. ``listings`` has the ids of
    the rows of each section, by the address of its page and its name. ``rows`` has what each page of a row is
    about, ``moved`` the same of files where such pages were once (see ``publishing/moved.py``).
    """

    files: Mapping[str, tuple[str, str]] = member(default_factory=dict)
    coming: Mapping[str, Sequence[str]] = member(default_factory=dict)
    listings: Mapping[str, Sequence[str]] = member(default_factory=dict)
    rows: Mapping[str, Sequence[str]] = member(default_factory=dict)
    moved: Mapping[str, Sequence[str]] = member(default_factory=dict)

    def wrote(self, path: str, digest: str) -> bool:
        """Say whether a file of a digest is one that this program wrote."""
        return digest == self.files.get(path, ("", ""))[1] or digest in self.coming.get(path, ())

    @property
    def paths(self) -> list[str]:
        """All files that this program wrote, or may have written."""
        return list(dict.fromkeys((*self.files, *self.coming)))

    def with_coming(self, digests: Mapping[str, str]) -> Manifest:
        """Return the manifest of a run that is about to write files, beside what runs before it noted."""
        coming = {path: tuple(known) for path, known in self.coming.items()}
        for path, digest in digests.items():
            coming[path] = tuple(dict.fromkeys((*coming.get(path, ()), digest)))
        return replace(self, coming=coming)

    def as_bytes(self) -> bytes:
        """Return the manifest as a file."""
        document = {
            "version": _VERSION,
            "files": {path: list(self.files[path]) for path in sorted(self.files)},
            "coming": {path: list(self.coming[path]) for path in sorted(self.coming)},
            "listings": {name: list(self.listings[name]) for name in sorted(self.listings)},
            "rows": {path: list(self.rows[path]) for path in sorted(self.rows)},
            "moved": {path: list(self.moved[path]) for path in sorted(self.moved)},
        }
        # A line for each value, as an indent would give it too, but by the encoder in C.
        return (json.dumps(document, ensure_ascii=False, separators=(",\n", ": ")) + "\n").encode()


def digest_of(content: bytes) -> str:
    """Return the digest of a file's content (SHA-256, hexadecimal)."""
    return sha256(content).hexdigest()


def read_manifest(folder: Path) -> Manifest:
    """Return what was published to a folder; an empty manifest for a new one.

    Raises FolderError where it cannot be read: nobody would know then which files may be overwritten.
    """
    path = folder / NAME
    try:
        data = json.loads(read_whole(path, _LARGEST))
        if data["version"] not in _READABLE:
            raise FolderError([_unreadable(path, f"it is of version {data['version']}")])
        files = {_safe(name): (str(page), str(digest)) for name, (page, digest) in data["files"].items()}
        listings = {str(name): [str(each) for each in ids] for name, ids in data["listings"].items()}
        coming = {
            _safe(name): tuple(map(str, [found] if isinstance(found, str) else found))
            for name, found in data["coming"].items()
        }
        rows, moved = (
            {_safe(path): [str(each) for each in names] for path, names in data.get(key, {}).items()}
            for key in ("rows", "moved")
        )
        return Manifest(files, coming, listings, rows, moved)
    except FileNotFoundError:
        return Manifest()
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise FolderError([_unreadable(path, getattr(error, "strerror", None) or str(error))]) from None


def _safe(name: object) -> str:
    """Return a path of a manifest that lies in its folder: what it lists is removed. Raises ValueError."""
    if not isinstance(name, str) or unsafe(name):
        raise ValueError(f"it lists the file {quoted(str(name))}, which no run wrote")
    return name


def _unreadable(path: Path, reason: str) -> Problem:
    """Return the problem of a manifest that cannot be read."""
    message = f"the list of what was published cannot be read ({reason})"
    hint = "Publish to another folder, or take the file away: files that differ are then left alone."
    return Problem("bad-manifest", message, hint, place=Place(str(path)))
