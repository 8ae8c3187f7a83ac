"""The rows of an answer as CSV (RFC 4180, lines ended by LF), with a header."""

from __future__ import annotations

import csv
import io
from typing import TYPE_CHECKING, Any

from elenchus.layout.pieces import Piece

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.answer import Answer

__all__ = ["write"]


def write(answer: Answer, _width: int | None) -> Iterator[Piece]:
    """Yield a header and a line for each row of the page; several values are joined by ``|``."""
    names = answer.fields
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(names)
    writer.writerows([field(row.values[name]) for name in names] for row in answer.rows)
    yield Piece(text.getvalue())


def field(value: Any) -> str:
    """Return a value as the text of a CSV field; dates as ISO 8601."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return "|".join(field(item) for item in value)
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
