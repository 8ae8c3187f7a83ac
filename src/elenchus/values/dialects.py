"""How tables are written as text: what parts cells, what stands around them, which rows name the columns."""

from __future__ import annotations

import csv
import re
from itertools import islice
from typing import TYPE_CHECKING, Literal, NamedTuple

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

__all__ = ["Dialect", "delimiter_of", "header_in", "names_of_columns", "usual_width"]

_DELIMITERS = (",", "\t", ";", "|")
_MOST_ROWS = 50  # by which the delimiter is found
_LOOKED_AT = 20  # rows in which the header is looked for


class Dialect(NamedTuple):
    """How a table is written: what parts its cells, and what stands around one with that sign in it.

    ``quote`` is empty if nothing does.
    """

    delimiter: str
    quote: str = '"'

    def reader(self, lines: Iterable[str]) -> Iterator[list[str]]:
        """Return the rows of some lines."""
        if not self.quote:
            return csv.reader(lines, delimiter=self.delimiter, quoting=csv.QUOTE_NONE)
        return csv.reader(lines, delimiter=self.delimiter, quotechar=self.quote, strict=True)

    def lenient(self, lines: Iterable[str]) -> Iterator[list[str]]:
        """Return the rows of some lines, whatever stands behind a quote that closes; wrong ones end it."""
        quoting: Literal[0, 3] = csv.QUOTE_MINIMAL if self.quote else csv.QUOTE_NONE
        quote = self.quote or '"'
        try:
            yield from csv.reader(lines, delimiter=self.delimiter, quotechar=quote, quoting=quoting)
        except csv.Error:
            return

    def mended(self, line: str, width: int) -> list[str] | None:
        """Return the cells of a line with a stray quote in it; None if they are not as many as columns."""
        line, sign, quote = line.rstrip("\r\n"), re.escape(self.delimiter), re.escape(self.quote)
        cell = re.compile(rf"(?:{quote}(.*?){quote}(?={sign}|$)|([^{sign}]*))({sign}|$)")
        cells = [
            match[2] if match[1] is None else match[1].replace(self.quote * 2, self.quote)
            for match in _up_to_end(cell, line)
        ]
        if len(cells) == width:
            return cells
        cells = line.split(self.delimiter)
        return cells if len(cells) == width else None


def _up_to_end(cell: re.Pattern[str], line: str) -> Iterator[re.Match[str]]:
    """Yield the cells of a line, the last of which ends without a delimiter."""
    for match in cell.finditer(line):
        yield match
        if not match[3]:
            return


def delimiter_of(lines: Sequence[str], unit: str, quote: str = '"') -> str:
    """Return what parts the cells of a table: the sign by which most of its first rows are as wide."""
    if ".tsv" in unit.lower() or ".tab" in unit.lower():
        return "\t"

    def fit(delimiter: str) -> tuple[float, int]:
        share, width = usual_width(lines, Dialect(delimiter, quote))
        return (share, width) if width > 1 else (0, 0)

    return max(_DELIMITERS, key=fit)


def usual_width(lines: Sequence[str], dialect: Dialect) -> tuple[float, int]:
    """Return how many cells most of the first rows of a table have, and the share of these rows."""
    widths = [len(row) for row in islice(dialect.lenient(lines), _MOST_ROWS) if any(row)]
    width = max(set(widths), key=lambda each: (widths.count(each), each), default=0)
    return (widths.count(width) / len(widths), width) if width else (0, 0)


def header_in(rows: Sequence[Sequence[str]]) -> int:
    """Return which of the first rows has the names of the columns: the first that is not blank.

    A row with one cell filled, above rows with three and more, is the title of the table.
    """
    filled = [sum(1 for cell in row if cell.strip()) for row in rows[:_LOOKED_AT]]
    usual = max(set(filled), key=lambda each: (filled.count(each), each), default=0)
    fewest = 2 if usual >= 3 else 1  # noqa: PLR2004 - as the docstring says
    return next((at for at, count in enumerate(filled) if count >= fewest), len(rows))


def names_of_columns(rows: Sequence[Sequence[str]], width: int) -> list[str]:
    """Return the names of columns as some rows have them; numbers where there is no such row.

    The first of two such rows may have names for several columns: ``Size`` and a blank above ``Width`` and
    ``Height`` make ``Size Width`` and ``Size Height``.
    """
    if not rows:
        return [f"column-{at + 1}" for at in range(width)]
    first, *others = [[cell.strip() for cell in row] for row in rows]
    found, above = [], ""
    for at in range(max(map(len, rows))):
        top = first[at] if at < len(first) else ""
        low = " ".join(row[at] for row in others if at < len(row) and row[at])
        if top:
            above = top if low else ""
        found.append(" ".join(filter(None, [top or (above if low else ""), low])))
    return found
