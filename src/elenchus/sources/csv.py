"""Tables as text: CSV (RFC 4180) and its relatives, with cells parted by commas, tabs, ``;`` or ``|``."""

from __future__ import annotations

import csv
from collections import Counter
from itertools import chain
from typing import TYPE_CHECKING

from elenchus.errors import About
from elenchus.sources._csv_rows import TableRows
from elenchus.sources._encoding import has_bad_bytes, not_encoded, opened_text
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._rows import BATCH, FewProblems, rows_of
from elenchus.values.dialects import Dialect, delimiter_of, header_in, names_of_columns, usual_width
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path
    from typing import TextIO

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources._files import FileContent
    from elenchus.sources._spec import Item, Scan, SourceSpec

__all__ = ["SUFFIXES", "edited", "lines_of", "reader", "scan"]

SUFFIXES = (".csv", ".tsv", ".tab")
_LOOKED_AT = 2**16  # characters by which the delimiter is found
_LONGEST_CELL = 16 * 2**20  # characters
_MOST_COLUMNS = 10_000
_MOST_FOR_WIDTH = 50  # rows by which the width of a table without a header is found


def scan(spec: SourceSpec, root: Path, _before: Scan | None) -> Scan:
    """Return the tables of a source."""
    return scan_files(spec, root, SUFFIXES)


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> FileReader:
    """Return what reads them, row by row."""
    return FileReader(spec, root, _parse, most=None)


def edited(spec: SourceSpec, unit: str, content: bytes, edits: Sequence[EntryEdit]) -> bytes:
    """Return a table in which cells have other values; a new column comes last. Raises UneditableError."""
    from elenchus.sources._csv_edit import changed_table
    from elenchus.sources._splice import changed_text

    def change(text: str) -> str:
        start = text[:_LOOKED_AT].splitlines(keepends=True)
        return changed_table(text, edits, spec, _dialect(spec, start, unit))

    return changed_text(content, spec, change)


def lines_of(spec: SourceSpec, content: FileContent, most: int) -> tuple[list[str], bool]:
    """Return the first lines of a table, up to a number of characters, and whether all are in its encoding.

    Raises OSError.
    """
    csv.field_size_limit(_LONGEST_CELL)
    text, _ = opened_text(content, spec)
    lines: list[str] = []
    with text:
        for line in text:
            lines.append(line)
            most -= len(line)
            if most < 0:
                break
    return lines, not has_bad_bytes("".join(line for line in lines if not line.isascii()))


def _dialect(spec: SourceSpec, lines: Sequence[str], unit: str) -> Dialect:
    """Return how a table is written: as the source says, or as its first lines show."""
    return Dialect(spec.delimiter or delimiter_of(lines, unit, spec.quote), spec.quote)


def _parse(spec: SourceSpec, unit: str, content: FileContent) -> Iterator[Item]:
    """Yield the rows of a table as entries. Raises OSError."""
    csv.field_size_limit(_LONGEST_CELL)
    text, encoding = opened_text(content, spec)
    with text:
        yield from _Table(spec, unit, encoding).items(text)


class _Table:
    """A table that is being read."""

    def __init__(self, spec: SourceSpec, unit: str, encoding: str) -> None:
        self.spec = spec
        self.unit = unit
        self.encoding = encoding
        self.problems = FewProblems(unit)
        self.last: tuple[list[list[str]], list[int]] = [], []  # rows that may be totals

    def items(self, text: TextIO) -> Iterator[Item]:
        """Yield the rows as entries, and what is wrong with some of them."""
        before: list[str] = []
        try:
            size = 0
            for line in text:
                before.append(line)
                size += len(line)
                if size > _LOOKED_AT:
                    break
            dialect = _dialect(self.spec, before, self.unit)
            _, width = usual_width(before, dialect)
            rows = TableRows(chain(before, text), dialect, self.problems, width)
            yield from self.batches(rows)
        except UnicodeError:
            wrong, hint = not_encoded(self.spec, self.encoding)
            self.problems.add(0, f"the file {wrong}", hint, "wrong-encoding", About.ENCODING)
        yield from self.problems.told(at_end=True)

    def batches(self, rows: TableRows) -> Iterator[Item]:
        """Yield the rows below the header, some thousands at a time."""
        header: dict[int, str] = {}
        for found, numbers, failed in rows.batches(BATCH):
            taken, lines = found, numbers
            if not header:
                at, names = self.names(taken)
                header = self.header(names, lines[at - 1] if 0 < at <= len(lines) else 1)
                if not header:
                    break
                taken, lines = taken[at:], lines[at:]
                rows.width = len(names)
            taken, lines = self.without_totals(taken, lines)
            if taken:
                full, at_lines = self.sound(taken, lines, rows.width)
                cells = list(zip(*full, strict=True))
                columns = {name: cells[place] for place, name in header.items()} if full else {}
                yield from rows_of(self.spec, self.unit, columns, at_lines) if full else ()
            yield from self.problems.told()
            if failed:
                raise failed

    def names(self, rows: Sequence[list[str]]) -> tuple[int, list[str]]:
        """Return how many rows there are down to the names of the columns, and these."""
        first, count = header_in(rows), self.spec.header
        width = max(map(len, rows[first : first + _MOST_FOR_WIDTH]), default=0)
        return first + count, names_of_columns(rows[first : first + count], width)

    def header(self, names: Sequence[str], line: int) -> dict[int, str]:
        """Return the names of the columns by their places, each name once."""
        if has_bad_bytes("".join(names)):
            wrong, hint = not_encoded(self.spec, self.encoding)
            message = f"the first row {wrong}, so nothing is read"
            self.problems.add(line, message, hint, "wrong-encoding", About.ENCODING)
            return {}
        if len(names) > _MOST_COLUMNS:
            message = f"the table has more than {_MOST_COLUMNS} columns"
            self.problems.add(line, message, "Nothing of it is read.")
            return {}
        for name, count in Counter(filter(None, names)).items():
            if count > 1:
                hint = "The first one is read."
                self.problems.add(line, f"{count} columns are called {quoted(name)}", hint, "same-column")
        first = {name: at for at, name in reversed(list(enumerate(names))) if name}
        return {at: name for name, at in sorted(first.items(), key=lambda pair: pair[1])}

    def without_totals(
        self, rows: list[list[str]], lines: Sequence[int]
    ) -> tuple[list[list[str]], Sequence[int]]:
        """Return rows without the last ones so far, which are no entries if no others follow."""
        count = self.spec.footer
        if not count:
            return rows, lines
        filled = [(row, line) for row, line in zip(rows, lines, strict=True) if any(row)]
        rows = [*self.last[0], *(row for row, _ in filled)]
        lines = [*self.last[1], *(line for _, line in filled)]
        self.last = rows[-count:], lines[-count:]
        return rows[:-count], lines[:-count]

    def sound(
        self, rows: Sequence[list[str]], lines: Sequence[int], width: int
    ) -> tuple[Sequence[list[str]], Sequence[int]]:
        """Return the rows that can be read, all as wide as the table, with their lines."""
        is_even = set(map(len, rows)) == {width} and all(map(any, rows))
        if is_even and not has_bad_bytes("".join(map("".join, rows))):
            return rows, lines
        found: list[list[str]] = []
        at: list[int] = []
        for row, line in zip(rows, lines, strict=True):
            if not any(row):
                continue
            if len(row) != width:
                if any(cell.strip() for cell in row[width:]):
                    message = f"the row has {len(row)} cells, and the table {width} columns"
                    hint = (
                        "What stands beyond them is left out: put a text with the separator in it in quotes."
                    )
                    self.problems.add(line, message, hint, "ragged-row")
                row = [*row[:width], *[""] * (width - len(row))]  # noqa: PLW2901
            if has_bad_bytes("".join(row)):
                wrong, hint = not_encoded(self.spec, self.encoding)
                self.problems.add(
                    line, f"the row {wrong}, so it is left out", hint, "wrong-encoding", About.ENCODING
                )
                continue
            found.append(row)
            at.append(line)
        return found, at
