"""Markdown with front matter: YAML between ``---``, TOML between ``+++``, JSON in braces, or none."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem
from elenchus.sources import LEFT_OUT
from elenchus.sources._files import FileReader, scan_files

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources import Item, Scan, SourceSpec
    from elenchus.sources._files import FileContent

__all__ = ["SUFFIXES", "edited", "reader", "scan"]

SUFFIXES = (".md", ".markdown")


def scan(spec: SourceSpec, root: Path, _before: Scan | None) -> Scan:
    """Return the Markdown files of a source."""
    return scan_files(spec, root, SUFFIXES)


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
