"""Reading the terms of a taxonomy from CSV: slug, name, parent, aliases, id, and columns of its own."""

from __future__ import annotations

import csv
import io
from typing import TYPE_CHECKING

from elenchus.errors import Place, Problem, SiteError
from elenchus.files import read_whole
from elenchus.schema.terms import TermRow
from elenchus.values.texts import either, nearest, quoted, slug_of

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

__all__ = ["read_terms"]

_OWN = ("slug", "name", "parent", "aliases", "id")


def read_terms(folder: Path, name: str) -> list[TermRow]:
    """Return the rows of a file of terms; ``aliases`` are separated by ``|``.

    Raises SiteError when the file is missing, is not UTF-8, or has neither a slug nor a name column.
    """
    try:
        text = read_whole(folder / name).decode("utf-8-sig")
    except OSError as error:
        raise _unreadable(name, f"the file of terms cannot be read ({error.strerror})") from None
    except UnicodeDecodeError:
        raise _unreadable(name, "the file of terms is not UTF-8") from None
    reader = csv.DictReader(io.StringIO(text, newline=""), strict=True, restval="")
    try:
        _check_header(name, reader.fieldnames or [])
        return [row for line in reader if (row := _term_row(line, Place(name, reader.line_num)))]
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


def _term_row(line: dict[str, str], place: Place) -> TermRow | None:
    """Return the term of one line; None when the line is blank."""
    cells = {key: value.strip() for key, value in line.items() if isinstance(key, str) and value}
    slug = cells.get("slug") or slug_of(cells.get("name", ""))
    if not slug:
        return None
    aliases = tuple(alias.strip() for alias in cells.get("aliases", "").split("|") if alias.strip())
    others = {key: value for key, value in cells.items() if key not in _OWN}
    name = cells.get("name") or slug
    return TermRow(slug, name, place, cells.get("parent", ""), cells.get("id", ""), aliases, others)
