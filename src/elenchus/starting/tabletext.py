"""How a table is written: whether its quotes mean anything, which rows name the columns, which are totals."""

from __future__ import annotations

import re
from collections import Counter
from itertools import islice
from typing import TYPE_CHECKING

from elenchus import sources
from elenchus.frozen import replace
from elenchus.starting.unsure import Unsure
from elenchus.starting.vocabulary import words
from elenchus.values.dialects import Dialect, delimiter_of, header_in
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from elenchus.sources import SourceSpec

__all__ = ["table_habits"]

_NUMBER = re.compile(r"[^\w]*\d[\d.,'’ %€$£]*\W*")
_FEW_LAST = 20  # lines at the end
_BLANK = " ;,\t|\r\n"
_FEW = 60  # rows that are looked at for the header
_MOST_BYTES = 64 * 2**20  # of a table that is read as a whole by both rules for quotes


def table_habits(root: Path, spec: SourceSpec) -> tuple[SourceSpec, tuple[Unsure, ...]]:
    """Return a source of tables that says how these are written, and what could be otherwise."""
    unsure: list[Unsure] = []
    units = sources.source("csv").scan(spec, root, None).units
    if not units:
        return spec, ()
    found = _first_rows(root, spec, units[0])
    if found is None:
        return spec, ()
    lines, dialect, encoding = found
    spec = replace(spec, encoding=encoding) if encoding else spec
    quotes = _quotes(lines, dialect)
    spec = spec if quotes else replace(spec, quote="")
    found_in = dialect._replace(quote=spec.quote)
    rows = list(islice(filter(any, found_in.lenient(lines)), _FEW))
    last = next(found_in.lenient([line for line in lines[-_FEW_LAST:] if line.strip(_BLANK)][-1:]), [])
    header = _header(rows[header_in(rows) :])
    if header != 1:
        spec = replace(spec, header=header)
        what = "the table has no header row" if not header else "the table has two header rows"
        unsure.append(Unsure(what, "header = 1 in the source"))
    if len(units) == 1 and len(rows) > 3 and _is_total(last):  # noqa: PLR2004
        spec = replace(spec, footer=1)
        unsure.append(
            Unsure(
                f"the last row, {next(filter(None, last))} …, is a total, not an entry",
                "footer = 0 in the source",
            )
        )
    return spec, tuple(unsure)


def _first_rows(root: Path, spec: SourceSpec, unit: str) -> tuple[list[str], Dialect, str] | None:
    """Return the lines of a table, how it is written, and its encoding if that is an old one."""
    reader = sources.source("csv").reader(spec, root, [unit])
    for encoding in ("", "cp1252"):
        try:
            content = reader.content(unit)
            lines, is_sound = sources.table_lines(replace(spec, encoding=encoding), content, _MOST_BYTES)
        except OSError:
            return None
        if is_sound:
            break
    return lines, Dialect(delimiter_of(lines[:200], unit)), encoding


def _quotes(lines: Sequence[str], dialect: Dialect) -> bool:
    """Say whether quotes stand around cells: most rows are as wide as others if they do."""
    if not any(dialect.quote in line for line in lines):
        return True
    bare = dialect._replace(quote="")
    plain = Counter(len(row) for row in bare.lenient(lines) if any(row))
    if len(plain) != 1:
        return True
    return Counter(len(row) for row in dialect.lenient(lines) if any(row)) == plain


def _header(rows: Sequence[Sequence[str]]) -> int:
    """Return how many of the first rows name the columns."""
    if len(rows) < 2:  # noqa: PLR2004
        return 1
    first, second = rows[0], rows[1]
    below = rows[2:] or rows[1:]

    def is_value(cell: str) -> bool:
        return bool(_NUMBER.fullmatch(cell.strip()))

    columns = range(max(map(len, rows)))
    numeric = [
        at for at in columns
        if sum(is_value(row[at]) for row in below if at < len(row)) * 2 > len(below)
    ]  # fmt: skip
    if any(is_value(first[at]) for at in numeric if at < len(first)):
        return 0
    names = [fold(cell.strip()) for cell in first if cell.strip()]
    if not numeric:
        values = {fold(cell.strip()) for row in rows[1:] for cell in row}
        return 0 if len(set(names)) < len(names) and set(names) <= values else 1
    blanks = sum(not cell.strip() for cell in first)
    is_second = not any(is_value(second[at]) for at in numeric if at < len(second)) and any(
        second[at].strip() for at in numeric if at < len(second)
    )
    if not (is_second and blanks and len(rows) > 3):  # noqa: PLR2004
        return 1
    # Names stand above a column once; values come again.
    again = any(
        cell.strip() and cell in {row[at] for row in below if at < len(row)} for at, cell in enumerate(second)
    )
    return 1 if again or any(map(is_value, second)) else 2


def _is_total(row: Sequence[str]) -> bool:
    """Say whether a row has totals of those above it."""
    texts = [cell.strip() for cell in row if cell.strip()]
    first = re.findall(r"\w+", fold(texts[0]))[:2] if texts else []
    return bool(words("texts.totals") & set(first)) and len(texts) < len(row)
