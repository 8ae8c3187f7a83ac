"""HTML pages, with front matter in a leading comment, or in the elements ``meta`` of their heads."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.errors import Place
from elenchus.schema.record import Raw
from elenchus.sources._encoding import decoded
from elenchus.sources._entry import Unreadable, entry_of, front_matter, renamed, written
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._markup import Document, Element, elements

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from elenchus.sources._files import FileContent
    from elenchus.sources._spec import Item, Scan, SourceSpec

__all__ = ["SUFFIXES", "Element", "elements_of", "reader", "scan"]

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
    try:
        text = _text(spec, content)
        front: dict[str, Raw] = {}
        comment = _LEADING.match(text)
        if comment:
            first = text.count("\n", 0, comment.start(1))
            front = {
                name: Raw(value, line + first if line else 0)
                for name, (value, line) in front_matter(f"{comment[1].strip()}\n").items()
            }
            text = text[: comment.start()] + "\n" * text.count("\n", 0, comment.end()) + text[comment.end() :]
        document = Document(text, spec.omit)
        values = renamed({**document.values, **front}, spec)
        if document.day and not written(values, "date"):
            values["date"] = Raw(document.day)
        is_titled = written(values, "title")
        heading = document.heading or document.title
        body = document.body(without_heading=not is_titled or values["title"].value == document.heading)
        yield entry_of(spec, Place(unit), values, heading, body)
    except Unreadable as error:
        yield error.problem(unit)


def elements_of(spec: SourceSpec, root: Path, unit: str) -> Sequence[Element]:
    """Return the elements of a page that ``omit`` can name; none if it cannot be read."""
    try:
        return elements(_text(spec, FileReader(spec, root, _parse).content(unit)))
    except (OSError, Unreadable):
        return ()


def _text(spec: SourceSpec, content: FileContent) -> str:
    """Return the text of a page. Raises OSError and Unreadable."""
    data = content.whole()
    declared = _DECLARED.search(data[:_HEAD])
    return decoded(data, spec, declared[1].decode() if declared else "")
