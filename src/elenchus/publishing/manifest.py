"""What was published last: each file with the digest of its content, and the rows of each section."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from hashlib import sha256
from typing import TYPE_CHECKING

from elenchus.errors import FolderError, Place, Problem

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

__all__ = ["OWN_FOLDER", "Manifest", "digest_of", "read_manifest"]

OWN_FOLDER = ".elenchus"  # of the published folder; servers leave hidden folders out
NAME = f"{OWN_FOLDER}/manifest.json"
VERSION = 1


@dataclass(frozen=True)
class Manifest:
    """The files that were written by this program, and the entries that each section showed.

    ``files`` has the page and the digest of each file by its path; ``coming`` the digests of files that a
    run was about to write. ``listings`` has the ids of the rows of each section, by the address of its
    page and its name.
    """

    files: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    coming: Mapping[str, str] = field(default_factory=dict)
    listings: Mapping[str, Sequence[str]] = field(default_factory=dict)

    def wrote(self, path: str, digest: str) -> bool:
        """Say whether a file of a digest is one that this program wrote."""
        return digest in (self.files.get(path, ("", ""))[1], self.coming.get(path))

    def as_bytes(self) -> bytes:
        """Return the manifest as a file."""
        document = {
            "version": VERSION,
            "files": {path: list(self.files[path]) for path in sorted(self.files)},
            "coming": {path: self.coming[path] for path in sorted(self.coming)},
            "listings": {name: list(self.listings[name]) for name in sorted(self.listings)},
        }
        return (json.dumps(document, ensure_ascii=False, indent=0) + "\n").encode()


def digest_of(content: bytes) -> str:
    """Return the digest of a file's content (SHA-256, hexadecimal)."""
    return sha256(content).hexdigest()


def read_manifest(folder: Path) -> Manifest:
    """Return what was published to a folder; an empty manifest for a new one.

    Raises FolderError where it cannot be read: nobody would know then which files may be overwritten.
    """
    path = folder / NAME
    try:
        data = json.loads(path.read_bytes())
        if data["version"] != VERSION:
            raise FolderError([unreadable(path, f"it is of version {data['version']}")])
        files = {name: (str(page), str(digest)) for name, (page, digest) in data["files"].items()}
        listings = {str(name): [str(each) for each in ids] for name, ids in data["listings"].items()}
        return Manifest(files, {str(key): str(value) for key, value in data["coming"].items()}, listings)
    except FileNotFoundError:
        return Manifest()
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise FolderError([unreadable(path, str(error))]) from None


def unreadable(path: Path, reason: str) -> Problem:
    """Return the problem of a manifest that cannot be read."""
    message = f"the list of what was published cannot be read ({reason})"
    hint = "Publish to another folder, or take the file away: files that differ are then left alone."
    return Problem("bad-manifest", message, hint, place=Place(str(path)))
