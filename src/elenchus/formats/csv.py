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

FORMULA = ("=", "+", "-", "@", "\t", "\r")  # what a spreadsheet begins a formula with, or skips before one


def write(answer: Answer, _width: int | None) -> Iterator[Piece]:
    """Yield a header and a line for each row of the page; several values are joined by ``|``.

    A text that a spreadsheet would take for a formula gets an apostrophe before it (OWASP, “CSV
    Injection”), unless the site says that formulas are wanted.
    """
    names = answer.fields
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(names)
    writer.writerows(
        [cell(row.values[name], formulas=answer.formulas) for name in names] for row in answer.rows
    )
    yield Piece(text.getvalue())


def cell(value: Any, *, formulas: bool) -> str:
    """Return a value as the text of a cell; numbers below zero are no formulas."""
    text = field(value)
    is_text = isinstance(value, str) or (isinstance(value, tuple) and any(isinstance(v, str) for v in value))
    return f"'{text}" if is_text and text.startswith(FORMULA) and not formulas else text


def field(value: Any) -> str:
    """Return a value as the text of a CSV field; dates as ISO 8601."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return "|".join(field(item) for item in value)
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
