"""The pictures and downloads that entries name: only these are published beside the pages."""

from __future__ import annotations

import posixpath
import re
from collections import defaultdict
from pathlib import PurePosixPath
from typing import TYPE_CHECKING
from urllib.parse import unquote

from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from elenchus.starting.looking import Entry

__all__ = ["is_media", "named_files"]

_ENDINGS = "png|jpe?g|gif|webp|avif|svg|pdf|mp3|ogg|mp4|webm|epub"
_MEDIA = re.compile(rf".+\.(?:{_ENDINGS})", re.IGNORECASE | re.DOTALL)
_NAMED = re.compile(rf"[^\s\"'()<>\[\]|]+\.(?:{_ENDINGS})\b", re.IGNORECASE)
_LONGEST = 200  # characters of a path
_MANY = 20  # files from which on their folder is named instead, if it holds nothing else


def is_media(path: str) -> bool:
    """Say whether a file is a picture or a download, by its name."""
    return _MEDIA.fullmatch(path) is not None


def named_files(files: Sequence[str], entries: Iterable[Entry]) -> list[str]:
    """Return the pictures and downloads among some files, by paths below the site, that entries name.

    A folder is returned instead of many files if entries name all files in it: nothing else is published.
    """
    media = set(filter(is_media, files))
    named = {path for entry in entries for path in _paths_in(entry) if path in media} if media else set()
    inside: dict[str, list[str]] = defaultdict(list)
    for path in files:
        inside[str(PurePosixPath(path).parent)].append(path)
    whole = {
        folder
        for folder, paths in inside.items()
        if folder != "." and len(paths) >= _MANY and named.issuperset(paths)
        and not any(other.startswith(f"{folder}/") for other in inside)
    }  # fmt: skip
    left = [path for path in sorted(named) if str(PurePosixPath(path).parent) not in whole]
    return [*sorted(whole), *left]


def _paths_in(entry: Entry) -> Iterator[str]:
    """Yield the paths that the texts of an entry may mean: from its folder, and from that of the site."""
    above = PurePosixPath(entry.place.file).parent
    for value in entry.values.values():
        text = as_text(value)
        names = [text] if is_media(text) and len(text) < _LONGEST else []
        for name in (*names, *_NAMED.findall(text)):
            path = unquote(name).lstrip("/")
            yield posixpath.normpath(str(above / path))
            yield posixpath.normpath(path)
