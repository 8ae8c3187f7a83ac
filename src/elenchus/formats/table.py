"""An answer as a table for people."""

from __future__ import annotations

from datetime import date, datetime
from typing import TYPE_CHECKING, Any

from elenchus.layout.grid import Heading, grid
from elenchus.layout.pieces import Piece, Role

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer

__all__ = ["cell", "write"]


def write(answer: Answer, width: int | None) -> Iterator[Piece]:
    """Yield the rows with the fields that the question names, then the counts and the notices."""
    if answer.rows:
        names = columns(answer)
        rows = [[cell(row.values[name]) for name in names] for row in answer.rows]
        yield from grid([heading(answer, name) for name in names], rows, width)
        yield Piece("\n")
    yield from summary(answer)
    for notice in answer.notices:
        yield Piece("note: ", Role.NOTICE)
        yield Piece(f"{notice.message}. {notice.hint}".rstrip() + "\n")


def columns(answer: Answer) -> list[str]:
    """Return the names of the columns: id, title and date, the kind where ids do not tell it."""
    kinds = {row["kind"] for row in answer.rows}
    untold = len(kinds) > 1 and not all(row.id.startswith(f"{row['kind']}/") for row in answer.rows)
    first = ("id", "kind", "title", "date") if untold else ("id", "title", "date")
    return list(dict.fromkeys((*first, *answer.mentioned)))


def heading(answer: Answer, name: str) -> Heading:
    """Return the heading of a column."""
    numeric = any(isinstance(row.values[name], (int, float)) for row in answer.rows)
    numeric = numeric and not any(isinstance(row.values[name], bool) for row in answer.rows)
    role = {"id": Role.NAME, "title": Role.STRONG}.get(name, Role.PLAIN)
    return Heading(name, role, right=numeric, flexible=not numeric and name != "date")


def cell(value: Any) -> str:
    """Return a value as it stands in a cell; nothing for a missing one."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return value.strftime("%Y-%m-%d %H:%M")
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, float):
        return f"{value:g}" if abs(value) < 1e6 else str(value)  # noqa: PLR2004 - %g writes 1e+06 from there
    return ", ".join(cell(item) for item in value) if isinstance(value, tuple) else str(value)


def summary(answer: Answer) -> Iterator[Piece]:
    """Yield one line of counts and the time at which they hold."""
    noun = "entry" if answer.matched == 1 else "entries"
    parts = [f"{answer.matched} {noun}"]
    if answer.total != answer.matched:
        parts = [f"{answer.total} of {answer.matched} {noun}"]
    if answer.pages > 1:
        parts.append(f"page {answer.page} of {answer.pages}")
    zone = answer.at.tzinfo
    parts.append(f"as of {answer.at:%Y-%m-%d %H:%M} {zone}")
    yield Piece(" · ".join(parts) + "\n", Role.FAINT)
