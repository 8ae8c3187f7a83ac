"""Reading the terms of a taxonomy from CSV: slug, name, parent, aliases, id, and columns of its own."""

from __future__ import annotations

import csv
import io
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem, SiteError
from elenchus.files import read_whole
from elenchus.schema.terms import TermRow
from elenchus.values.slugs import slug_of
from elenchus.values.texts import either, nearest, quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from pathlib import Path

__all__ = ["columns_in", "lines_of_rows", "read_terms", "terms_in"]

_OWN = ("slug", "name", "parent", "aliases", "id")


def read_terms(folder: Path, name: str) -> list[TermRow]:
    """Return the rows of a file of terms; ``aliases`` are separated by ``|``.

    Raises SiteError when the file is missing, is not UTF-8, or has neither a slug nor a name column.
    """
    try:
        return terms_in(read_whole(folder / name), name)
    except OSError as error:
        raise _unreadable(name, f"the file of terms cannot be read ({error.strerror})") from None


def terms_in(content: bytes, name: str) -> list[TermRow]:
    """Return the rows of the content of a file of terms, see :func:`read_terms`."""
    rows = _rows(content, name)
    _, header = next(rows, (range(0), []))
    _check_header(name, header)
    named = ((lines, dict(zip(header, cells, strict=False))) for lines, cells in rows)
    return [row for lines, cells in named if (row := _term_row(cells, Place(name, lines.start)))]


def columns_in(content: bytes, name: str) -> list[str]:
    """Return the names of the columns of a file of terms. Raises SiteError."""
    return next(_rows(content, name), (range(0), []))[1]


def lines_of_rows(content: bytes, name: str) -> dict[int, range]:
    """Return the lines on which rows of a file of terms stand, by the first of each. Raises SiteError."""
    return {lines.start: lines for lines, _ in _rows(content, name)}


def _rows(content: bytes, name: str) -> Iterator[tuple[range, list[str]]]:
    """Yield the rows that are not blank, each with the lines on which it stands. Raises SiteError."""
    try:
        reader = csv.reader(io.StringIO(content.decode("utf-8-sig"), newline=""), strict=True)
        last = 0
        for cells in reader:
            first, last = last + 1, reader.line_num
            if cells:
                yield range(first, last + 1), cells
    except UnicodeDecodeError:
        raise _unreadable(name, "the file of terms is not UTF-8") from None
    except csv.Error as error:
        raise _unreadable(name, f"this is not valid CSV: {error}", reader.line_num) from None


def _unreadable(name: str, message: str, line: int = 0) -> SiteError:
    """Return the error of a file that cannot be used at all."""
    return SiteError([Problem("unreadable-terms", message, place=Place(name, line))])


def _check_header(name: str, header: Sequence[str]) -> None:
    """Raise SiteError when no column can name the terms."""
    if "slug" not in header and "name" not in header:
        near = nearest("slug", header) or nearest("name", header)
        hint = f" ({either(near)} comes near)" if near else ""
        raise _unreadable(
            name, f"the first line names neither a column {quoted('slug')} nor {quoted('name')}{hint}", 1
        )


def _term_row(row: Mapping[str, str], place: Place) -> TermRow | None:
    """Return the term of one row; None when nothing in it names one."""
    cells = {key: value.strip() for key, value in row.items() if value}
    slug = cells.get("slug") or slug_of(cells.get("name", ""))
    if not slug:
        return None
    aliases = tuple(alias.strip() for alias in cells.get("aliases", "").split("|") if alias.strip())
    others = {key: value for key, value in cells.items() if key not in _OWN}
    name = cells.get("name") or slug
    return TermRow(slug, name, place, cells.get("parent", ""), cells.get("id", ""), aliases, others)
