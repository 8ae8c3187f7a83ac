"""Paths and patterns of files as a site file has them, with slashes, and into archives."""

from __future__ import annotations

import os
import posixpath
import re
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path

__all__ = [
    "archive_of",
    "fixed_part",
    "is_archive",
    "is_inside",
    "is_pattern",
    "matcher",
    "normal",
    "within_archive",
]

_ARCHIVE = ".zip"
_WILD = re.compile(r"[*?\[]")


@cache
def normal(path: str) -> str:
    """Return the path of a source with slashes, and without what means nothing in it."""
    return posixpath.normpath(path.replace(os.sep, "/"))


def is_pattern(path: str) -> bool:
    """Say whether a path has a wildcard."""
    return _WILD.search(path) is not None


def is_archive(path: str) -> bool:
    """Say whether a file is an archive, by its name."""
    return path.lower().endswith(_ARCHIVE)


def archive_of(path: str) -> tuple[str, str]:
    """Return the archive that a path leads into and the path inside it; nothing where it leads into none."""
    steps = path.split("/")
    for at, step in enumerate(steps):
        if is_archive(step):
            return "/".join(steps[: at + 1]), "/".join(steps[at + 1 :])
    return "", ""


def within_archive(path: str) -> str:
    """Return the file or folder that a path needs: of what lies inside an archive, that archive."""
    return archive_of(normal(path))[0] or normal(path)


def fixed_part(path: str) -> str:
    """Return the folder in front of the first step of a pattern that has a wildcard."""
    steps = path.split("/")
    wild = next((at for at, step in enumerate(steps) if _WILD.search(step)), len(steps))
    return "/".join(steps[:wild]) or "."


def is_inside(folder: Path, path: str) -> bool:
    """Say whether a path below a folder really lies there, wherever its links lead."""
    try:
        return (folder / path).resolve().is_relative_to(folder.resolve())
    except (OSError, RuntimeError, ValueError):  # a loop of links, a name that no file can have
        return False


@cache
def matcher(pattern: str) -> Callable[[str], bool]:
    """Return what tells whether a path fits: ``*`` stands for part of a name, ``**`` for folders too."""
    steps: list[str] = []
    for part in re.findall(r"\*\*/|\*\*|\*|\?|\[!?\]?[^\]]*\]|[^*?\[]+|\[", pattern):
        if part == "**/":
            steps.append("(?:[^/]+/)*")
        elif part == "**":
            steps.append(".*")
        elif part == "*":
            steps.append("[^/]*")
        elif part == "?":
            steps.append("[^/]")
        elif part.startswith("[") and len(part) > 2:  # noqa: PLR2004 - more than brackets
            inner = part[1:-1].replace("\\", "\\\\")
            steps.append(f"[{'^' + inner[1:] if inner.startswith('!') else inner}]")
        else:
            steps.append(re.escape(part))
    found = re.compile("".join(steps))
    return lambda path: found.fullmatch(path) is not None
