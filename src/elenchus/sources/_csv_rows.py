"""The rows of a table as text (RFC 4180): one that is wrong costs itself, and reading goes on behind it."""

from __future__ import annotations

import csv
import re
from collections import deque
from itertools import accumulate, chain, islice
from typing import TYPE_CHECKING, Literal, NamedTuple

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from elenchus.sources._rows import FewProblems

__all__ = [
    "DELIMITERS",
    "Dialect",
    "TableRows",
    "delimiter_of",
    "header_in",
    "names_of_columns",
    "usual_width",
]

DELIMITERS = (",", "\t", ";", "|")
_MOST_ROWS = 50  # by which the delimiter is found
_MOST_LINES = 10_000  # of one row
_MOST_SIGNS = 2**20  # of one row, once another could not be read
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


class _Lines:
    """The lines of a table, of which those since a mark are kept."""

    def __init__(self, lines: Iterable[str]) -> None:
        self.lines = iter(lines)
        self.kept: list[str] = []
        self.first = 1  # the number of the first line kept

    def __iter__(self) -> Iterator[str]:
        return self

    def __next__(self) -> str:
        line = next(self.lines)
        self.kept.append(line)
        return line

    def mark(self) -> None:
        """Keep none of the lines so far."""
        self.first += len(self.kept)
        self.kept.clear()


class TableRows:
    """The rows of a table with their lines, some thousands at a time.

    ``width`` is how many cells a row should have; if it is 0, every row that can be read is right.
    """

    def __init__(self, lines: Iterable[str], dialect: Dialect, problems: FewProblems, width: int = 0) -> None:
        self.lines = _Lines(lines)
        self.dialect = dialect
        self.problems = problems
        self.width = width
        self.failed = False  # whether a row could not be read

    def batches(self, size: int) -> Iterator[tuple[list[list[str]], Sequence[int], Exception | None]]:
        """Yield rows with their lines; with the last ones the error that ended them, if one did."""
        while True:
            self.lines.mark()
            reader, first = self.dialect.reader(self.lines), self.lines.first
            rows: list[list[str]] = []
            failed: Exception | None = None
            try:
                rows.extend(islice(reader, size))
            except csv.Error as error:
                failed = error
            except (OSError, UnicodeError) as error:
                failed = error
            numbers: Sequence[int] = range(first, first + len(rows))
            if isinstance(failed, csv.Error) or self.are_doubtful(rows, len(self.lines.kept)):
                rows, numbers, failed = self.one_by_one(failed)
            elif failed or len(self.lines.kept) != len(rows):  # some cells have line ends in them
                numbers = [first + above for above in accumulate(map(_height, rows), initial=0)][:-1]
            if rows or failed:
                yield rows, numbers, failed
            if failed or not self.lines.kept:
                return

    def are_doubtful(self, rows: Sequence[list[str]], lines: int) -> bool:
        """Say whether a quote that is never closed may have swallowed some lines."""
        if not self.width or lines == len(rows):
            return False
        return any(len(row) != self.width and _height(row) > 1 for row in rows)

    def one_by_one(self, failed: Exception | None) -> tuple[list[list[str]], Sequence[int], Exception | None]:
        """Return the rows of the lines that are kept, each read for itself."""
        waiting = deque(self.lines.kept)
        line, rows, numbers = self.lines.first, [], []
        more: Iterator[str] = iter(self.lines) if isinstance(failed, csv.Error) or not failed else iter(())
        error = failed if failed and not isinstance(failed, csv.Error) else None
        while waiting:
            row, count = None, 1
            try:
                row, count = self.next_row(waiting, more)
            except (OSError, UnicodeError) as wrong:
                error, more = wrong, iter(())
            if row is None:
                row = self.mended(waiting[0], line)
            if row is not None:
                rows.append(row)
                numbers.append(line)
            for _ in range(count):
                waiting.popleft()
            line += count
        return rows, numbers, error

    def next_row(self, waiting: deque[str], more: Iterator[str]) -> tuple[list[str] | None, int]:
        """Return the first row of some lines and how many lines it has; None if it cannot be right."""
        taken: list[str] = []
        most = _MOST_LINES if not self.failed else _MOST_SIGNS // 1024

        def lines() -> Iterator[str]:
            size = 0
            for line in chain(list(islice(waiting, most)), _adding(waiting, more)):
                taken.append(line)
                size += len(line)
                if len(taken) > most or (self.failed and size > _MOST_SIGNS):
                    return
                yield line

        try:
            row = next(iter(self.dialect.reader(lines())), [])
        except csv.Error:
            return None, 1
        is_right = len(taken) == 1 or not self.width or len(row) == self.width
        return (row, len(taken)) if is_right else (None, 1)

    def mended(self, line: str, number: int) -> list[str] | None:
        """Return the cells of a line that cannot be read as it stands, if they are as many as columns."""
        self.failed = True
        cells = self.dialect.mended(line, self.width) if self.dialect.quote else None
        if cells is None:
            message = "the row cannot be read: it has a stray quote"
            self.problems.add(number, message, "The row is left out. Inside a cell, write a quote twice.")
            return None
        message = "the row has a stray quote, which is read as text"
        hint = 'Write it twice in a quoted cell. If quotes mean nothing here, set quote = "" in the source.'
        self.problems.add(number, message, hint, "stray-quote")
        return cells


def _adding(waiting: deque[str], more: Iterator[str]) -> Iterator[str]:
    """Yield more lines, which wait as well."""
    for line in more:
        waiting.append(line)
        yield line


def _height(row: Sequence[str]) -> int:
    """Return how many lines a row has."""
    return 1 + sum(cell.count("\n") + cell.count("\r") - cell.count("\r\n") for cell in row)


def delimiter_of(lines: Sequence[str], unit: str, quote: str = '"') -> str:
    """Return what parts the cells of a table: the sign by which most of its first rows are as wide."""
    if ".tsv" in unit.lower() or ".tab" in unit.lower():
        return "\t"

    def fit(delimiter: str) -> tuple[float, int]:
        share, width = usual_width(lines, Dialect(delimiter, quote))
        return (share, width) if width > 1 else (0, 0)

    return max(DELIMITERS, key=fit)


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
