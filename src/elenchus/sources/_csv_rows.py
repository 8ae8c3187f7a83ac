"""The rows of a table as text (RFC 4180): one that is wrong costs itself, and reading goes on behind it."""

from __future__ import annotations

import csv
from collections import deque
from itertools import accumulate, chain, islice
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from elenchus.sources._rows import FewProblems
    from elenchus.values.dialects import Dialect

__all__ = ["TableRows"]

_MOST_LINES = 10_000  # of one row
_MOST_SIGNS = 2**20  # of one row, once another could not be read


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
