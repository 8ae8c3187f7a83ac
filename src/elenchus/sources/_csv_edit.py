"""Changing cells of a table in its text (RFC 4180): the other cells, and how they are written, stay."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.schema.edits import UneditableError
from elenchus.sources._keys import as_written
from elenchus.sources._splice import Splice, joined, line_starts, spliced
from elenchus.values.dialects import header_in, names_of_columns

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.schema.edits import EntryEdit, NewValue
    from elenchus.sources._spec import SourceSpec
    from elenchus.values.dialects import Dialect

__all__ = ["changed_table"]

_MOST_FIRST = 20  # rows in which the header is looked for


def changed_table(text: str, edits: Sequence[EntryEdit], spec: SourceSpec, dialect: Dialect) -> str:
    """Return a table in whose rows cells have other values. Raises UneditableError."""
    table = _CellTable(text, dialect, spec)
    edits = [edit._replace(values=as_written(edit.values, table.places)) for edit in edits]
    written = dict.fromkeys(name for edit in edits for name, new in edit.values.items() if new.values)
    added = [name for name in written if name not in table.places]
    places = {**table.places, **{name: table.width + at for at, name in enumerate(added)}}
    splices: list[Splice] = []
    changed: dict[int, EntryEdit] = {at: edit for edit, at in line_starts(text, edits)}
    for at, edit in changed.items():
        cells = list(table.cells(at))
        values = {places[name]: new for name, new in edit.values.items() if name in places}
        splices += table.changed(cells, values, table.width + len(added) if added else 0)
    if added:
        splices += table.widened(added, changed)
    return spliced(text, splices)


class _CellTable:
    """A table as text, with the places of its columns by their names."""

    def __init__(self, text: str, dialect: Dialect, spec: SourceSpec) -> None:
        self.text = text
        self.delimiter, self.quote = dialect
        self.separator = spec.habits.separator
        self.several: dict[int, str] = {}  # of each column, the first cell with several values
        sign, quote = re.escape(self.delimiter), re.escape(self.quote)
        # A cell in quotes, in which two of them are one, or without; then what ends it.
        in_quotes = rf"{quote}(?:[^{quote}]|{quote}{quote})*+{quote}|" if quote else ""
        self.cell = re.compile(rf"(?:{in_quotes}[^{sign}\r\n]*+)({sign}|\r\n|\n|\r|\Z)")
        self.header_rows = self._header(spec.header)
        first = list(self.cells(0)) if not spec.header and text else []
        rows = [[self.value(*cell) for cell in cells] for cells in self.header_rows]
        names = names_of_columns(rows, len(first))
        self.header = self.header_rows[-1] if self.header_rows else []
        self.width = len(names)
        self.places = {name: at for at, name in reversed(list(enumerate(names))) if name}

    def _header(self, count: int) -> list[list[tuple[int, int]]]:
        """Return the rows with the names of the columns: where each cell begins and ends."""
        at = 0
        rows: list[list[tuple[int, int]]] = []
        while at < len(self.text) and len(rows) < _MOST_FIRST:
            rows.append(list(self.cells(at)))
            at = self.next_row(rows[-1])
        first = header_in([[self.value(*cell) for cell in cells] for cells in rows])
        if count and first + count > len(rows):
            raise UneditableError("the table has no header", 1)
        return rows[first : first + count]

    def cells(self, at: int) -> Iterator[tuple[int, int]]:
        """Yield where the cells of the row at a place begin and end. Raises UneditableError."""
        while True:
            match = self.cell.match(self.text, at)
            if match is None:
                line = len(re.findall(r"\r\n|\n|\r", self.text[:at])) + 1
                raise UneditableError("a cell cannot be read", line)
            yield at, match.start(1)
            at = match.end()
            if match[1] != self.delimiter:
                return

    def next_row(self, cells: Sequence[tuple[int, int]]) -> int:
        """Return where the row behind some cells begins."""
        match = re.compile(r"\r\n|\n|\r|\Z").match(self.text, cells[-1][1])
        return max(match.end() if match else 0, cells[-1][1])

    def value(self, start: int, end: int) -> str:
        """Return the text of a cell."""
        written = self.text[start:end]
        is_quoted = self.quote and written.startswith(self.quote)
        return written[1:-1].replace(self.quote * 2, self.quote) if is_quoted else written

    def changed(
        self, cells: Sequence[tuple[int, int]], values: Mapping[int, NewValue], width: int
    ) -> Iterator[Splice]:
        """Yield what gives the cells of a row other values; one that is too short, or to be wider, grows."""
        width = max([width, *(at + 1 for at, new in values.items() if new.values)])
        for at, new in values.items():
            if at < len(cells):
                start, end = cells[at]
                yield Splice(start, end, self.written(new, self.text[start:end], at))
        if width > len(cells):
            end = cells[-1][1]
            more = (
                self.written(values[at], "", at) if at in values else "" for at in range(len(cells), width)
            )
            yield Splice(end, end, "".join(f"{self.delimiter}{text}" for text in more))

    def widened(self, names: Sequence[str], changed: Mapping[int, EntryEdit]) -> Iterator[Splice]:
        """Yield what adds columns to the header, and empty cells to the rows that do not change."""
        if not self.header:
            raise UneditableError("the table has no header in which a new column could be named", 1)
        for cells in self.header_rows[:-1]:
            yield Splice(cells[-1][1], cells[-1][1], self.delimiter * (self.width + len(names) - len(cells)))
        end, lacking = self.header[-1][1], self.delimiter * (self.width - len(self.header))
        added = "".join(f"{self.delimiter}{self.quoted(name, '')}" for name in names)
        yield Splice(end, end, lacking + added)
        at = self.next_row(self.header)
        while at < len(self.text):
            cells = list(self.cells(at))
            if at not in changed and len(cells) > 1:
                wanted = self.width + len(names) - len(cells)
                yield Splice(cells[-1][1], cells[-1][1], self.delimiter * wanted)
            at = self.next_row(cells)

    def written(self, new: NewValue, old: str, column: int) -> str:
        """Return a value as a cell: several as the cell has them, or others of its column."""
        if not new.values:
            return ""
        before = old.strip(self.quote or None)
        if len(new.values) > 1 and self.separator not in before:
            before = self.with_several(column)
        return self.quoted(joined(new.values, before, self.separator), old)

    def with_several(self, column: int) -> str:
        """Return the first cell of a column that has several values, empty if none has."""
        if column not in self.several:
            self.several[column] = self.first_with_several(column)
        return self.several[column]

    def first_with_several(self, column: int) -> str:
        """Return that cell, looked for in all rows."""
        at = self.next_row(self.header) if self.header else 0
        while at < len(self.text):
            cells = list(self.cells(at))
            text = self.value(*cells[column]) if column < len(cells) else ""
            if self.separator and self.separator in text:
                return text
            at = self.next_row(cells)
        return ""

    def quoted(self, text: str, old: str) -> str:
        """Return a text as a cell: in quotes where it needs them, or the one before had them."""
        signs = (self.delimiter, "\n", "\r", *self.quote)
        needs = any(sign in text for sign in signs) or text != text.strip()
        if not self.quote:
            if any(sign in text for sign in signs):
                raise UneditableError("its cells have no quotes, and the value needs them")
            return text
        is_quoted = needs or old.startswith(self.quote)
        return self.quote + text.replace(self.quote, self.quote * 2) + self.quote if is_quoted else text
