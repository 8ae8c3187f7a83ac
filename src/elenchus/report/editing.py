"""What a change of content is: lines of files before and after, and what it does to listings and pages."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from elenchus.comparing.lines import line_changes
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.report.changes import MOST, counted, difference_as_data, rest

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.comparing.differences import Difference
    from elenchus.editing.changing import ContentChange
    from elenchus.journal import MadeChange, Undone

__all__ = ["change_as_data", "change_told", "changes_listed", "undone_told"]

_WIDEST = 160  # characters of a line that are shown
_MILLION = 1_000_000


def change_told(change: ContentChange, *, whole: bool = False) -> Iterator[Piece]:
    """Yield the lines of files that change, before and after."""
    files = change.files if whole else change.files[:MOST]
    for file in files:
        yield Piece(f"{printable(file.path)}\n", Role.NAME)
        for each in line_changes(*change.texts(file)):
            yield from _lines("-", each.at, each.before, Role.ERROR)
            yield from _lines("+", each.now_at, each.after, Role.HINT)
    yield from rest(len(change.files) - len(files), "file")
    entries = counted(len(change.entries), "entry", "entries")
    yield Piece(f"{entries} in {counted(len(change.files), 'file')}.\n", Role.STRONG)


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
        made = datetime.fromtimestamp(change.made / _MILLION, zone)
        yield Piece(f"{change.number:5}  {made:%Y-%m-%d %H:%M}  ", Role.FAINT)
        yield Piece(f"{counted(len(change.files) or len(change.rows), 'file'):>10}  ")
        yield Piece(f"{printable(change.told)}\n", Role.NAME)


def undone_told(found: Undone) -> Iterator[Piece]:
    """Yield what was taken back, and which files were left as they are."""
    back = len(found.change.files) - len(found.left)
    if back:
        yield Piece(f"Undone in {counted(back, 'file')}: {printable(found.change.told)}\n", Role.STRONG)
    if found.left:
        yield Piece("Left as they are, since they were changed since:\n", Role.NOTICE)
        for path in found.left:
            yield Piece(f"  ! {printable(path)}\n")
