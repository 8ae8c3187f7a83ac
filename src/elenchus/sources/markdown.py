"""Folders of Markdown files with front matter in YAML (between ``---``) or TOML (between ``+++``)."""

from __future__ import annotations

from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem
from elenchus.files import (
    DEEPEST_FOLDER,
    ItemKind,
    read_whole,
    scanned,
    unreadable,
)
from elenchus.sources import LEFT_OUT, Scan, place_of
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.files import Met
    from elenchus.schema.record import Record
    from elenchus.sources import SourceSpec

__all__ = ["load", "parse", "scan"]

SUFFIXES = (".md", ".markdown")


def scan(spec: SourceSpec, root: Path) -> Scan:
    """Return the Markdown files below the source's folder, by their paths below it."""
    base, shown = root / spec.path, PurePosixPath(Path(spec.path).as_posix())
    found = scanned(base, SUFFIXES)
    problems: list[Problem] = []
    for met in sorted(found.others, key=lambda met: met.path):
        if met.path.name.lower().endswith(SUFFIXES) or _is_folder(base, met):
            problems += _passed_over(met, shown)
    return Scan(found.paths, found.signatures, problems)


def load(spec: SourceSpec, root: Path, unit: str) -> bytes:
    """Return the content of a file. Raises OSError."""
    return read_whole(f"{root}/{spec.path}/{unit}")


def parse(spec: SourceSpec, unit: str, content: bytes) -> tuple[list[Record], list[Problem]]:
    """Return the entry of a file. Whatever goes wrong with it is a problem of that one."""
    from elenchus.sources._entry import Unreadable, read_entry

    place = Place(place_of(spec, unit))
    try:
        return [read_entry(content, spec, place, unit)], []
    except Unreadable as error:
        where = Place(place.file, error.line)
        return [], [Problem(error.code, str(error), error.hint, place=where)]
    except Exception as error:
        message = f"the file cannot be read ({type(error).__name__}: {error})"
        return [], [Problem("unreadable-file", message, LEFT_OUT, place=place)]


def _is_folder(base: Path, met: Met) -> bool:
    """Say whether what a walk met may have held content: a folder, or what leads to one, or nobody knows."""
    return met.kind in (ItemKind.UNNAMED, ItemKind.DEEP, ItemKind.UNREADABLE) or (base / met.path).is_dir()


def _passed_over(met: Met, shown: PurePosixPath) -> Iterator[Problem]:
    """Yield why something among the content is not read."""
    name = (shown / met.path).as_posix()
    match met.kind:
        case ItemKind.UNREADABLE if met.error:
            yield unreadable(name, met.error, LEFT_OUT, what="folder")
        case ItemKind.UNNAMED:
            written = met.path.name.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
            message = f"the name {quoted(written)} is not UTF-8"
            place = Place((shown / met.path.parent).as_posix())
            yield Problem("unreadable-file", message, LEFT_OUT, place=place)
        case ItemKind.DEEP:
            message = f"folders stand more than {DEEPEST_FOLDER} deep inside one another"
            yield Problem("unreadable-file", message, LEFT_OUT, place=Place(name))
        case _:
            message = f"it is {met.kind.value}"
            yield Problem("no-regular-file", message, "Put a copy in its place.", place=Place(name))
