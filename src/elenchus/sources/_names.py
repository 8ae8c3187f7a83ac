"""What the name of a file says of an entry: its slug, its date, and a title where nothing better is there."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple
from zoneinfo import ZoneInfo

from elenchus.sources._spec import FILE_PARTS
from elenchus.values.dates import literal_interval
from elenchus.values.lazily import pattern
from elenchus.values.placeholders import filled
from elenchus.values.slugs import safe_slug, safely

if TYPE_CHECKING:
    from elenchus.sources._spec import SourceSpec

__all__ = ["FromName", "as_words", "file_parts", "name_of"]

_INDEXES = frozenset({"index", "readme"})  # stems of files that stand for their folder
_DATED = pattern(r"(\d{4}-\d{2}-\d{2})(?:[-_ ]+(.+))?", re.DOTALL)
_UTC = ZoneInfo("UTC")


class FromName(NamedTuple):
    """A slug, the day in front of it (or nothing), and the words that it is made of."""

    slug: str
    day: str
    words: str


def name_of(spec: SourceSpec, path: str) -> FromName:
    """Return what a file's path below its source says, by the patterns of the source where it has some.

    ``{stem}`` is the name without a date in front and without its ending, ``{folder}`` the folder around
    it, ``{folders}`` all folders below the source, ``{date}`` the date in front.
    """
    found = _from_name(path)
    if not (spec.slug or spec.date):
        return found
    parts = file_parts(path)
    slug = safe_slug(filled(spec.slug, parts)) if spec.slug else ""
    return FromName(slug or found.slug, filled(spec.date, parts) if spec.date else found.day, found.words)


def file_parts(path: str) -> dict[str, str]:
    """Return what a file's path below its source gives to patterns, by the names of the parts."""
    found = _from_name(path)
    folders = path.split("/")[:-1]
    if _stands_for_folder(path):
        folders = folders[:-1]
    told = (found.slug, folders[-1] if folders else "", "-".join(folders), found.day)
    return dict(zip(FILE_PARTS, told, strict=True))


def _stands_for_folder(path: str) -> bool:
    """Say whether a file stands for the folder that it is in."""
    folder, _, name = path.rpartition("/")
    return bool(folder) and (name.rpartition(".")[0] or name).lower() in _INDEXES


def _from_name(path: str) -> FromName:
    """Return what a file's path below its source says: an index file stands for its folder.

    ``2024-03-05-first-frost.md`` is the slug ``first-frost`` on that day.
    """
    folder, _, name = path.rpartition("/")
    stem = name.rpartition(".")[0] or name
    if folder and stem.lower() in _INDEXES:
        stem = folder.rpartition("/")[2]
    match = _DATED.fullmatch(stem) if stem[:1].isdigit() else None
    if match is None or literal_interval(match[1], _UTC) is None:
        return FromName(safely(stem), "", as_words(stem))
    slug = match[2] or stem
    return FromName(safely(slug), match[1], as_words(slug))


def as_words(slug: str) -> str:
    """Return a slug as a title: “First frost”."""
    words = " ".join(slug.replace("-", " ").replace("_", " ").split())
    return words[:1].upper() + words[1:]
