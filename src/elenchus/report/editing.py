"""What a change of content is: lines of files before and after, and what it does to listings and pages."""

from __future__ import annotations

import json
from datetime import datetime
from typing import TYPE_CHECKING, Any

from elenchus.comparing.lines import line_changes
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.report.changes import MOST, counted, difference_as_data, rest

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.comparing.differences import Difference
    from elenchus.editing.changing import ContentChange, TableChange
    from elenchus.editing.edits import Approval
    from elenchus.editing.terms import TermChange
    from elenchus.journal import MadeChange, Undone

__all__ = [
    "approval_told",
    "change_as_data",
    "change_told",
    "changes_listed",
    "files_told",
    "linked_told",
    "moved_told",
    "term_told",
    "to_undo_told",
    "undone_told",
    "unfinished_told",
]

_MOST_ROWS = 40
_WIDEST = 160  # characters of a line that are shown
_MILLION = 1_000_000


def change_told(change: ContentChange, *, whole: bool = False) -> Iterator[Piece]:
    """Yield the lines of files that change, before and after."""
    yield from files_told([(file.path, *change.texts(file)) for file in change.files], whole=whole)
    for table in change.tables:
        yield from _rows_told(table, whole=whole)
    entries = counted(len(change.entries), "entry", "entries")
    places = [counted(len(change.files), "file")] if change.files else []
    places += [f"the table {table.rows[0].table}" for table in change.tables]
    yield Piece(f"{entries} in {' and '.join(places)}.\n", Role.STRONG)


def approval_told(change: Approval, *, whole: bool = False) -> Iterator[Piece]:
    """Yield the lines that pending edits change."""
    files = [(file.path, _decoded(file.before), _decoded(file.after)) for file in change.files[::2]]
    yield from files_told(files, whole=whole)
    if change.rows.entries:
        yield from change_told(change.rows, whole=whole)
    yield Piece(f"{counted(change.count, 'edit')}.\n", Role.STRONG)


def _rows_told(table: TableChange, *, whole: bool) -> Iterator[Piece]:
    """Yield the rows of a database that change, value by value."""
    shown = table.rows if whole else table.rows[:_MOST_ROWS]
    for row in shown:
        where = ", ".join(f"{name} {value}" for name, value in row.where.items())
        yield Piece(printable(row.table), Role.NAME)
        yield Piece(f"  {printable(where)}\n", Role.FAINT)
        if not row.column:
            sign, role, word = (
                ("+", Role.HINT, "a new row") if row.before is None else ("-", Role.ERROR, "the row")
            )
            yield Piece(f"    {sign} {word}\n", role)
            continue
        for sign, role, value in (("-", Role.ERROR, row.before), ("+", Role.HINT, row.after)):
            if value is not None:
                yield Piece(f"    {sign} {printable(f'{row.column}: {_as_value(value)}')}\n", role)
    yield from rest(len(table.rows) - len(shown), "row")


def _as_value(value: object) -> str:
    """Return a value of a row as people read it: lists and objects as JSON has them."""
    return json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else str(value)


def term_told(change: TermChange, *, whole: bool = False) -> Iterator[Piece]:
    """Yield the lines of files that change with a term: first those that define and name it, then content."""
    others = [(each.path, _decoded(each.before), _decoded(each.after)) for each in change.others]
    yield from files_told(others, whole=True)
    yield from change_told(change.content, whole=whole)


def moved_told(pairs: Sequence[tuple[str, str]]) -> Iterator[Piece]:
    """Yield what to write so that old addresses lead on to new ones."""
    if pairs:
        yield Piece("\nTo lead on from the old addresses, write into elenchus.toml:\n", Role.FAINT)
        yield Piece("  [publish]\n  redirects = true\n  [publish.moved]\n", Role.HINT)
        for old, new in pairs:
            yield Piece(
                f"  {json.dumps(old, ensure_ascii=False)} = {json.dumps(new, ensure_ascii=False)}\n",
                Role.HINT,
            )


def _decoded(content: bytes | None) -> str:
    """Return the text of a definition file."""
    return (content or b"").decode("utf-8-sig", "replace")


def files_told(files: Sequence[tuple[str, str, str]], *, whole: bool) -> Iterator[Piece]:
    """Yield files with their lines that change, as many as are read at a glance."""
    shown = files if whole else files[:MOST]
    for path, before, after in shown:
        yield Piece(f"{printable(path)}\n", Role.NAME)
        for each in line_changes(before, after):
            yield from _lines("-", each.at, each.before, Role.ERROR)
            yield from _lines("+", each.now_at, each.after, Role.HINT)
    yield from rest(len(files) - len(shown), "file")


def _lines(sign: str, first: int, lines: Sequence[str], role: Role) -> Iterator[Piece]:
    """Yield lines with their numbers."""
    for number, line in enumerate(lines, start=first):
        shown = line if len(line) <= _WIDEST else f"{line[:_WIDEST]} …"
        yield Piece(f"{number:6} ", Role.FAINT)
        yield Piece(f"{sign} {printable(shown)}\n", role)


def change_as_data(change: ContentChange, effect: Difference, number: int | None) -> dict[str, Any]:
    """Return a change as JSON has it; ``number`` is that of the change that was made, None for none."""
    return {
        "entries": [
            {
                "id": entry.id,
                "file": change.path_of(entry),
                "fields": [
                    {"field": each.field, "before": list(each.before), "after": list(each.after)}
                    for each in entry.fields
                ],
            }
            for entry in change.entries
        ],
        "files": [file.path for file in change.files],
        **difference_as_data(effect),
        "change": number,
    }


def changes_listed(changes: Sequence[MadeChange], zone: ZoneInfo) -> Iterator[Piece]:
    """Yield the changes that can be undone, the last one first."""
    if not changes:
        yield Piece("Nothing can be undone: no change was made here.\n")
    for change in changes:
        yield Piece(f"{change.number:5}  {_made(change, zone)}  ", Role.FAINT)
        yield Piece(f"{_size(change):>10}  ")
        yield Piece(f"{printable(change.told)}\n", Role.NAME)


def to_undo_told(change: MadeChange, zone: ZoneInfo) -> Iterator[Piece]:
    """Yield which change undo takes back: when it was made, in what words, and its files."""
    yield Piece(f"The last change, of {_made(change, zone)}, in {_size(change)}: ")
    yield Piece(f"{printable(change.told)}\n", Role.NAME)
    shown = change.files[:MOST]
    for path, _, _ in shown:
        yield Piece(f"  {printable(path)}\n", Role.FAINT)
    if more := len(change.files) - len(shown):
        yield Piece(f"  … and {counted(more, 'more file')}\n", Role.FAINT)
    if not change.is_ours:
        yield Piece("It was not made by you in this folder: it came with the site.\n", Role.NOTICE)


def unfinished_told(change: MadeChange, *, is_finished: bool) -> Iterator[Piece]:
    """Yield that a run ended in the middle of a change, and what happens to that."""
    what = f"{printable(change.told)} ({_size(change)})"
    if is_finished:
        yield Piece(f"Finished the change that an earlier run had begun: {what}\n", Role.NOTICE)
        return
    yield Piece(f"A change of content is unfinished: {what}\n", Role.NOTICE)
    next_run = "The next command that changes content finishes it; " if change.is_ours else ""
    yield Piece(f"  {next_run}elenchus undo takes it back.\n", Role.HINT)


def linked_told(change: MadeChange) -> Iterator[Piece]:
    """Yield which files had other names that keep the old content."""
    for path in change.linked:
        told = f"  {printable(path)} had another name (a hard link), which keeps the old content.\n"
        yield Piece(told, Role.NOTICE)


def _made(change: MadeChange, zone: ZoneInfo) -> str:
    """Return when a change was made."""
    return f"{datetime.fromtimestamp(change.made / _MILLION, zone):%Y-%m-%d %H:%M}"


def _size(change: MadeChange) -> str:
    """Return how many files or rows a change has."""
    files = [counted(len(change.files), "file")] if change.files or not change.rows else []
    rows = [counted(len(change.rows), "row")] if change.rows else []
    return " and ".join([*files, *rows])


def undone_told(found: Undone) -> Iterator[Piece]:
    """Yield what was taken back, and which files were left as they are."""
    rows = len(found.change.rows)
    if rows:
        yield Piece(f"Undone in {counted(rows, 'row')}: {printable(found.change.told)}\n", Role.STRONG)
    if found.restored or not (rows or found.left):
        yield Piece(
            f"Undone in {counted(found.restored, 'file')}: {printable(found.change.told)}\n", Role.STRONG
        )
    if found.left:
        yield Piece("Left as they are, since they were changed since:\n", Role.NOTICE)
        for path in found.left:
            yield Piece(f"  ! {printable(path)}\n")
