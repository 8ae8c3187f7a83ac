"""The rows of an answer as CSV (RFC 4180, lines ended by LF), with a header."""

from __future__ import annotations

import csv
import io
from typing import TYPE_CHECKING, Any

from elenchus.forms._record import Form
from elenchus.pieces.piece import Piece
from elenchus.values.several import in_one_text
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer

__all__ = ["FORM"]

_FORMULA = ("=", "+", "-", "@", "\t", "\r")  # what a spreadsheet begins a formula with, or skips before one


def _write(answer: Answer, _frame: Frame) -> Iterator[Piece]:
    """Yield a header and a line for each row of the page; several values have commas between them.

    With measures, a line for each group with its keys, its count and these; without groups, one line.

    Where the table is meant for spreadsheets, a text that one would take for a formula gets an apostrophe
    before it (OWASP, “CSV Injection”).
    """
    names = answer.fields
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    if answer.measures:
        writer.writerows(
            [_cell(value, formulas=answer.formulas) for value in line] for line in _measures(answer)
        )
        yield Piece(text.getvalue())
        return
    writer.writerow(names)
    writer.writerows(
        [_cell(row.values[name], formulas=answer.formulas) for name in names] for row in answer.rows
    )
    yield Piece(text.getvalue())


def _measures(answer: Answer) -> Iterator[tuple[Any, ...]]:
    """Yield the header and the lines of an answer with measures."""
    yield (*answer.grouped_by, "count", *(each.label for each in answer.measures))
    if answer.groups is None:
        yield (answer.total, *(each.value for each in answer.measures))
    for group in answer.groups or ():
        yield (*group.keys, group.count, *group.measures)


def _cell(value: Any, *, formulas: bool) -> str:
    """Return a value as the text of a cell, dates as ISO 8601; numbers below zero are no formulas."""
    values = value if isinstance(value, tuple) else () if value is None else (value,)
    text = (
        in_one_text([*map(as_text, values)], ",")
        if isinstance(value, tuple)
        else "".join(map(as_text, values))
    )
    is_text = any(isinstance(each, str) for each in values)
    return f"'{text}" if is_text and text.startswith(_FORMULA) and not formulas else text


FORM = Form(name="csv", label="CSV", media_type="text/csv", write=_write, ending=".csv")
