"""An answer as Markdown to paste: a table, or a list of links under a heading for each group."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from elenchus.forms._measures import measure_texts, measured_lines
from elenchus.forms._record import Form
from elenchus.forms.table import columns
from elenchus.pieces.piece import Piece, printable
from elenchus.values.wording import spoken

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.forms._record import Frame
    from elenchus.plan.answer import Answer, Row
    from elenchus.values.addresses import Href

__all__ = ["FORM", "escaped", "linked"]

_SPECIAL = re.compile(r"([\\`*_\[\]<>|#~])")
_ADDRESS = re.compile(r"[\s()<>\\]")  # what would end the address of a link


def _write(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield a list where only titles are asked for, a table where the question names fields."""
    rows = {row.id: row for row in answer.rows}
    if answer.measures and not any(group.rows for group in answer.groups or ()):
        yield from _measures(answer)
    elif answer.groups is not None:
        for group in answer.groups:
            yield Piece(f"## {escaped(group.label)} ({group.count})\n\n")
            if group.measures:
                told = zip(answer.measures, measure_texts(answer, group.measures), strict=True)
                yield Piece(
                    ", ".join(f"{escaped(each.label)} {escaped(text)}" for each, text in told) + "\n\n"
                )
            for name in group.rows:
                yield Piece(f"- {_link(rows[name], frame)}\n")
            yield Piece("\n" if group.rows else "")
    elif answer.mentioned:
        yield from _table(answer, frame)
    else:
        for row in answer.rows:
            yield Piece(f"- {_link(row, frame)}\n")


def _measures(answer: Answer) -> Iterator[Piece]:
    """Yield a table of measures: a line for each group, and one for all rows."""
    of = [", ".join(answer.grouped_by)] if answer.groups is not None else []
    heads = [*of, "rows", *(each.label for each in answer.measures)]
    yield Piece(
        f"| {' | '.join(map(escaped, heads))} |\n|{'---|' * len(of)}{'---:|' * (len(heads) - len(of))}\n"
    )
    for label, count, values in measured_lines(answer):
        cells = [label, str(count), *measure_texts(answer, values)][1 - len(of) :]
        yield Piece(f"| {' | '.join(map(escaped, cells))} |\n")


def _table(answer: Answer, frame: Frame) -> Iterator[Piece]:
    """Yield a table with a column for each field that the question names."""
    title = "name" if answer.subject.is_terms else "title"
    names = [name for name in columns(answer) if name not in ("id", title)]
    yield Piece(f"| {' | '.join([title, *names])} |\n")
    yield Piece(f"|{'---|' * (len(names) + 1)}\n")
    for row in answer.rows:
        cells = [_link(row, frame), *(escaped(spoken(row.values[name])) for name in names)]
        yield Piece(f"| {' | '.join(cells)} |\n")


def _link(row: Row, frame: Frame) -> str:
    """Return the title of a row, as a link where it has an address."""
    title = escaped(str(row.values.get("title") or row.values.get("name") or row.id))
    return linked(title, frame.link_to(row))


def linked(title: str, href: Href) -> str:
    """Return text that is Markdown already, as a link where it leads somewhere."""
    if not href:
        return title
    return f"[{title}]({_ADDRESS.sub(lambda match: f'%{ord(match[0]):02X}', href)})"


def escaped(text: str) -> str:
    """Return a text that Markdown shows as it is, on one line."""
    return _SPECIAL.sub(r"\\\1", printable(text))


FORM = Form(name="markdown", label="Markdown", media_type="text/markdown", write=_write, ending=".md")
