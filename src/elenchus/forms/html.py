"""An answer as a piece of HTML to paste: a table, or a list of links under a heading for each group."""

from __future__ import annotations

from datetime import date, datetime
from html import escape
from typing import TYPE_CHECKING, Any

from elenchus.forms._measures import measure_texts, measured_lines
from elenchus.forms._record import Form
from elenchus.forms.table import columns
from elenchus.pieces.piece import Piece
from elenchus.values.dates import stamp
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer, Row

__all__ = ["FORM"]


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield a list where only titles are asked for, a table where the question names fields."""
    rows = {row.id: row for row in answer.rows}
    if answer.measures and not any(group.rows for group in answer.groups or ()):
        yield from _measures(answer)
    elif answer.groups is not None:
        for group in answer.groups:
            yield Piece(f"<h3>{escape(group.label)} ({group.count})</h3>\n")
            if group.measures:
                told = zip(answer.measures, measure_texts(answer, group.measures), strict=True)
                yield Piece(f"<p>{', '.join(escape(f'{each.label} {text}') for each, text in told)}</p>\n")
            yield from _titles([rows[name] for name in group.rows], frame)
    elif answer.mentioned or answer.columns:
        yield from _table(answer, frame)
    else:
        yield from _titles(answer.rows, frame)


def _measures(answer: Answer) -> Iterator[Piece]:
    """Yield a table of measures: a line for each group, and one for all rows."""
    is_grouped = answer.groups is not None
    heads = [
        *([", ".join(answer.grouped_by)] if is_grouped else []),
        "rows",
        *(each.label for each in answer.measures),
    ]
    cells = "".join(f'<th scope="col">{escape(head)}</th>' for head in heads)
    yield Piece(f"<table>\n<thead>\n<tr>{cells}</tr>\n</thead>\n<tbody>\n")
    for label, count, values in measured_lines(answer):
        first = f'<th scope="row">{escape(label)}</th>' if is_grouped else ""
        cells = "".join(f"<td>{escape(text)}</td>" for text in (str(count), *measure_texts(answer, values)))
        yield Piece(f"<tr>{first}{cells}</tr>\n")
    yield Piece("</tbody>\n</table>\n")


def _titles(rows: Sequence[Row], frame: Frame) -> Iterator[Piece]:
    """Yield rows as a list of links."""
    if rows:
        items = "".join(f"<li>{_link(row, frame)}</li>\n" for row in rows)
        yield Piece(f"<ul>\n{items}</ul>\n")


def _table(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield a table with a column for each field that is shown."""
    title = "name" if answer.subject.is_terms else "title"
    names = [name for name in columns(answer) if name not in ("id", title)]
    heads = "".join(f'<th scope="col">{escape(name)}</th>' for name in (title, *names))
    yield Piece(f"<table>\n<thead>\n<tr>{heads}</tr>\n</thead>\n<tbody>\n")
    for row in answer.rows:
        cells = "".join(f"<td>{_cell(row.values[name])}</td>" for name in names)
        yield Piece(f'<tr><th scope="row">{_link(row, frame)}</th>{cells}</tr>\n')
    yield Piece("</tbody>\n</table>\n")


def _cell(value: Any) -> str:
    """Return a value as HTML, dates with what machines read."""
    if isinstance(value, date):
        machine = stamp(value) if isinstance(value, datetime) else value.isoformat()
        return f'<time datetime="{machine}">{escape(spoken(value))}</time>'
    return escape(spoken(value))


def _link(row: Row, frame: Frame) -> str:
    """Return the title of a row, as a link where it has an address."""
    title = escape(str(row.values.get("title") or row.values.get("name") or row.id))
    address = frame.link_to(row)
    return f'<a href="{escape(address)}">{title}</a>' if address else title


FORM = Form(name="html", label="HTML", media_type="text/html", write=_write, ending=".part.html")
