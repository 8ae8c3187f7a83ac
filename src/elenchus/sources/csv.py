"""Tables as text: CSV (RFC 4180) and its relatives, with cells parted by commas, tabs, ``;`` or ``|``."""

from __future__ import annotations

import csv
from collections import Counter
from itertools import accumulate, chain, islice
from typing import TYPE_CHECKING

from elenchus.errors import About
from elenchus.sources._encoding import has_bad_bytes, not_encoded, opened_text
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._rows import BATCH, FewProblems, rows_of
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path
    from typing import TextIO

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources import Item, Scan, SourceSpec
    from elenchus.sources._files import FileContent

__all__ = ["SUFFIXES", "edited", "reader", "scan"]

SUFFIXES = (".csv", ".tsv", ".tab")
_DELIMITERS = (",", "\t", ";", "|")
_LOOKED_AT = 2**16  # characters by which the delimiter is found
_MOST_ROWS = 50
_LONGEST_CELL = 16 * 2**20  # characters
_MOST_COLUMNS = 10_000


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
        delimiter = spec.delimiter or _delimiter_of(start, unit)
        return changed_table(text, edits, delimiter, spec.habits.separator)

    return changed_text(content, spec, change)


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
            delimiter = self.spec.delimiter or _delimiter_of(before, self.unit)
            rows = csv.reader(chain(before, text), delimiter=delimiter, strict=True)
            header = self.header(rows)
            if header:
                yield from self.batches(rows, header)
        except csv.Error as error:
            self.problems.add(rows.line_num, f"this is not valid CSV: {error}", "The rest is left out.")
        except UnicodeError:
            wrong, hint = not_encoded(self.spec, self.encoding)
            self.problems.add(0, f"the file {wrong}", hint, "wrong-encoding", About.ENCODING)
        yield from self.problems.told(at_end=True)

    def header(self, rows: Iterator[list[str]]) -> dict[int, str]:
        """Return the names of the columns by their places: those of the first row that is not blank."""
        for row in rows:
            names = [cell.strip() for cell in row]
            if not any(names):
                continue
            line = rows.line_num  # type: ignore[attr-defined]  # a reader has it
            if has_bad_bytes("".join(names)):
                wrong, hint = not_encoded(self.spec, self.encoding)
                message = f"the first row {wrong}, so nothing is read"
                self.problems.add(line, message, hint, "wrong-encoding", About.ENCODING)
                return {}
            if len(names) > _MOST_COLUMNS:
                self.problems.add(
                    line, f"the table has more than {_MOST_COLUMNS} columns", "Nothing of it is read."
                )
                return {}
            for name, count in Counter(filter(None, names)).items():
                if count > 1:
                    hint = "The first one is read."
                    self.problems.add(line, f"{count} columns are called {quoted(name)}", hint, "same-column")
            first = {name: at for at, name in reversed(list(enumerate(names))) if name}
            return {at: name for name, at in sorted(first.items(), key=lambda pair: pair[1])}
        return {}

    def batches(self, rows: Iterator[list[str]], header: dict[int, str]) -> Iterator[Item]:
        """Yield the rows below the header, some thousands at a time."""
        width = max(header) + 1
        while True:
            first = rows.line_num  # type: ignore[attr-defined]
            taken, lines, failed = self.take(rows, first)
            if taken:
                full, at = self.sound(taken, lines, width)
                cells = list(zip(*full, strict=True))
                columns = {name: cells[place] for place, name in header.items()} if full else {}
                yield from rows_of(self.spec, self.unit, columns, at) if full else ()
            yield from self.problems.told()
            if failed:
                raise failed
            if len(taken) < BATCH:
                return

    def take(
        self, rows: Iterator[list[str]], first: int
    ) -> tuple[list[list[str]], Sequence[int], Exception | None]:
        """Return the next rows with their lines, and the error that ended them."""
        taken: list[list[str]] = []
        failed = None
        try:
            taken.extend(islice(rows, BATCH))
        except (csv.Error, OSError, UnicodeError) as error:
            failed = error
        last = rows.line_num  # type: ignore[attr-defined]
        lines: Sequence[int] = range(first + 1, first + 1 + len(taken))
        if failed or last - first != len(taken):  # some cells have line ends in them
            heights = [1 + sum(max(map(cell.count, "\r\n")) for cell in row) for row in taken]
            lines = [first + 1 + above for above in accumulate(heights, initial=0)][:-1]
        return taken, lines, failed

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


def _delimiter_of(lines: Sequence[str], unit: str) -> str:
    """Return what parts the cells of a table: the sign by which its first rows have as many as the header."""
    if ".tsv" in unit.lower() or ".tab" in unit.lower():
        return "\t"

    def fit(delimiter: str) -> tuple[float, int]:
        try:
            rows = [row for row in islice(csv.reader(lines, delimiter=delimiter), _MOST_ROWS) if any(row)]
        except csv.Error:
            return 0, 0
        width = len(rows[0]) if rows else 0
        same = sum(len(row) == width for row in rows)
        return (same / len(rows), width) if width > 1 else (0, 0)

    return max(_DELIMITERS, key=fit)
