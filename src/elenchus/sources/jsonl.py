"""JSON Lines: an object on each line."""

from __future__ import annotations

from itertools import islice
from typing import TYPE_CHECKING, Any

from elenchus.errors import About
from elenchus.sources._encoding import has_bad_bytes, not_encoded, opened_text
from elenchus.sources._files import FileReader, scan_files
from elenchus.sources._json import plain_object, without_halves
from elenchus.sources._rows import BATCH, FewProblems, columns_of, rows_of
from elenchus.sources._simple import Unreadable

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path
    from typing import TextIO

    from elenchus.schema.edits import EntryEdit
    from elenchus.sources._files import FileContent
    from elenchus.sources._spec import Item, Scan, SourceSpec
    from elenchus.sources._splice import Splice

__all__ = ["SUFFIXES", "edited", "reader", "scan"]

SUFFIXES = (".jsonl", ".ndjson")
_LONGEST_LINE = 16 * 2**20  # characters


def scan(spec: SourceSpec, root: Path, _before: Scan | None) -> Scan:
    """Return the files of a source."""
    return scan_files(spec, root, SUFFIXES)


def reader(spec: SourceSpec, root: Path, _units: Sequence[str]) -> FileReader:
    """Return what reads them, line by line."""
    return FileReader(spec, root, _parse, most=None)


def edited(spec: SourceSpec, _unit: str, content: bytes, edits: Sequence[EntryEdit]) -> bytes:
    """Return a file in which objects have other values. Raises UneditableError."""
    from elenchus.schema.edits import UneditableError
    from elenchus.sources._json_edit import object_changed
    from elenchus.sources._splice import changed_text, line_starts, spliced

    def change(text: str) -> str:
        splices: list[Splice] = []
        for edit, at in line_starts(text, edits):
            begins = len(text[at:]) - len(text[at:].lstrip()) + at
            try:
                splices += object_changed(text, begins, edit.values, spec.habits.separator)
            except Unreadable as error:
                raise UneditableError(str(error), edit.line) from None
        return spliced(text, splices)

    return changed_text(content, spec, change)


def _parse(spec: SourceSpec, unit: str, content: FileContent) -> Iterator[Item]:
    """Yield the objects of a file as entries. Raises OSError."""
    problems = FewProblems(unit)
    text, encoding = opened_text(content, spec)
    with text:
        objects = _objects(spec, text, encoding, problems)
        while batch := list(islice(objects, BATCH)):
            columns = columns_of([found for _, found in batch], problems)
            yield from rows_of(spec, unit, columns, [line for line, _ in batch])
            yield from problems.told()
    yield from problems.told(at_end=True)


def _objects(
    spec: SourceSpec, text: TextIO, encoding: str, problems: FewProblems
) -> Iterator[tuple[int, dict[str, Any]]]:
    """Yield the objects of a file with their lines."""
    number = 0
    while line := text.readline(_LONGEST_LINE):
        number += 1
        if len(line) >= _LONGEST_LINE:
            problems.add(number, f"the line is longer than {_LONGEST_LINE // 2**20} MB", "It is left out.")
            while line and not line.endswith("\n"):
                line = text.readline(_LONGEST_LINE)
        elif has_bad_bytes(line):
            wrong, hint = not_encoded(spec, encoding)
            problems.add(
                number, f"the line {wrong}, so it is left out", hint, "wrong-encoding", About.ENCODING
            )
        elif not line.isspace():
            try:
                yield number, plain_object(without_halves(line))
            except Unreadable as error:
                problems.add(number, str(error), "The line is left out.")
