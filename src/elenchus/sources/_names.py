"""What the name of a file says of an entry: its slug, its date, and a title where nothing better is there."""

from __future__ import annotations

import re
from typing import NamedTuple
from zoneinfo import ZoneInfo

from elenchus.values.dates import literal_interval
from elenchus.values.lazily import pattern

__all__ = ["FromName", "from_name"]

_INDEXES = frozenset({"index", "readme"})  # stems of files that stand for their folder
_DATED = pattern(r"(\d{4}-\d{2}-\d{2})(?:[-_ ]+(.+))?", re.DOTALL)
_UTC = ZoneInfo("UTC")


class FromName(NamedTuple):
    """A slug, the day in front of it (or nothing), and the words that it is made of."""

    slug: str
    day: str
    words: str


def from_name(path: str) -> FromName:
    """Return what a file's path below its source says: an index file stands for its folder.

    ``2024-03-05-first-frost.md`` is the slug ``first-frost`` on that day.
    """
    folder, _, name = path.rpartition("/")
    stem = name.rpartition(".")[0] or name
    if folder and stem.lower() in _INDEXES:
        stem = folder.rpartition("/")[2]
    match = _DATED.fullmatch(stem) if stem[:1].isdigit() else None
    if match is None or literal_interval(match[1], _UTC) is None:
        return FromName(stem, "", _as_words(stem))
    slug = match[2] or stem
    return FromName(slug, match[1], _as_words(slug))


def _as_words(slug: str) -> str:
    """Return a slug as a title: “First frost”."""
    words = " ".join(slug.replace("-", " ").replace("_", " ").split())
    return words[:1].upper() + words[1:]
