"""Markdown with front matter: YAML between ``---``, TOML between ``+++``, JSON in braces, or none."""

from __future__ import annotations

from array import array
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._spec import LEFT_OUT, Scan

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources._files import FileContent
    from elenchus.sources._spec import Item, SourceSpec

__all__ = ["SUFFIXES", "edited", "reader", "scan"]

SUFFIXES = (".md", ".markdown")


def scan(spec: SourceSpec, root: Path, _before: Scan | None) -> Scan:
    """Return the Markdown files of a source."""
    found = scan_files(spec, root, SUFFIXES)
    return _without_edits(found) if any(map(_is_edit, found.units)) else found


def _is_edit(unit: str) -> bool:
    """Say whether a file is a pending edit of the one beside it: ``name.edit.md``."""
    return unit.rpartition(".")[0].endswith(".edit")


def _without_edits(found: Scan) -> Scan:
    """Return the files of a source without pending edits; those of no file are told."""
    units, signatures, problems = [], array("q"), list(found.problems)
    known = set(found.units)
    for at, unit in enumerate(found.units):
        if not _is_edit(unit):
            units.append(unit)
            signatures.extend(found.signatures[4 * at : 4 * at + 4])
        elif _base_of(unit) not in known:
            message = f"this is an edit of {_base_of(unit)}, which is not there"
            hint = "Nobody is shown it. Take .edit out of its name to make it an entry."
            problems.append(Problem("edit-of-nothing", message, hint, place=Place(unit)))
    return Scan(units, signatures, problems)


def _base_of(unit: str) -> str:
    """Return the file whose edit a file is."""
    stem, dot, ending = unit.rpartition(".")
    return stem.removesuffix(".edit") + dot + ending


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> FileReader:
    """Return what reads them."""
    return FileReader(spec, root, _parse)


def edited(spec: SourceSpec, _unit: str, content: bytes, edits: Sequence[EntryEdit]) -> bytes:
    """Return a file whose entry has other values. Raises UneditableError."""
    from elenchus.sources._front_edit import changed_front
    from elenchus.sources._splice import changed_text

    values = edits[0].values
    return changed_text(content, spec, lambda text: changed_front(text, values, spec.habits.separator))


def _parse(spec: SourceSpec, unit: str, content: FileContent) -> Iterator[Item]:
    """Yield the entry of a file, or why it cannot be read."""
    from elenchus.sources._entry import Unreadable, read_entry

    place = Place(unit)
    try:
        yield read_entry(content.whole(), spec, place)
    except Unreadable as error:
        yield error.problem(unit)
    except OSError:
        raise
    except Exception as error:
        message = f"the file cannot be read ({type(error).__name__}: {error})"
        yield Problem("unreadable-file", message, LEFT_OUT, place=place)
