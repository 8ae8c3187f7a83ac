"""HTML pages, with front matter in a leading comment, or in the elements ``meta`` of their heads."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.errors import Place
from elenchus.schema.record import Raw
from elenchus.sources._encoding import decoded
from elenchus.sources._entry import Unreadable, entry_of, front_matter, renamed, written
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._markup import Document

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.sources import Item, Scan, SourceSpec
    from elenchus.sources._files import FileContent

__all__ = ["SUFFIXES", "reader", "scan"]

SUFFIXES = (".html", ".htm", ".xhtml")
_LEADING = re.compile(r"\s*<!--\s*?\n?((?:---|\+\+\+|\{).*?)-->", re.DOTALL)
_DECLARED = re.compile(rb"""<meta[^>]{0,100}charset\s*=\s*["']?([\w-]+)""", re.IGNORECASE)
_HEAD = 1024  # bytes in which a page says its encoding (HTML standard, section 4.2.5.4)


def scan(spec: SourceSpec, root: Path, _before: Scan | None) -> Scan:
    """Return the pages of a source."""
    return scan_files(spec, root, SUFFIXES)


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> FileReader:
    """Return what reads them."""
    return FileReader(spec, root, _parse)


def _parse(spec: SourceSpec, unit: str, content: FileContent) -> Iterator[Item]:
    """Yield the entry of a page, or why it cannot be read. Raises OSError."""
    data = content.whole()
    declared = _DECLARED.search(data[:_HEAD])
    try:
        text = decoded(data, spec, declared[1].decode() if declared else "")
        front: dict[str, Raw] = {}
        comment = _LEADING.match(text)
        if comment:
            first = text.count("\n", 0, comment.start(1))
            front = {
                name: Raw(value, line + first if line else 0)
                for name, (value, line) in front_matter(f"{comment[1].strip()}\n").items()
            }
            text = text[: comment.start()] + "\n" * text.count("\n", 0, comment.end()) + text[comment.end() :]
        document = Document(text)
        values = renamed({**document.values, **front}, spec)
        if document.day and not written(values, "date"):
            values["date"] = Raw(document.day)
        is_titled = written(values, "title")
        heading = document.heading or document.title
        body = document.body(without_heading=not is_titled or values["title"].value == document.heading)
        yield entry_of(spec, Place(unit), values, heading, body)
    except Unreadable as error:
        yield error.problem(unit)
