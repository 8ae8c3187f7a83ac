"""A question in the making, as text: its lines with what each leaves, its answer, what its words say."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

from elenchus import forms
from elenchus.exploring.workbench import WORDS
from elenchus.frozen import replace
from elenchus.pieces.flowing import flowing
from elenchus.pieces.piece import Piece, Role, clipped, printable, width_of
from elenchus.pieces.problems import notice_lines, plain_problems, question_problems
from elenchus.report.editing import files_told
from elenchus.report.explanations import verdict

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from elenchus.exploring.keeping import Keeping
    from elenchus.exploring.looking import Look, SeenLine
    from elenchus.exploring.sketch import Sketch
    from elenchus.exploring.workbench import Said
    from elenchus.plan.answer import Answer

__all__ = ["answer_told", "flowed", "kept_told", "lines_told", "said_told", "written_told"]

_USAGE = 20  # columns


def lines_told(
    look: Look, width: int | None = None, chosen: int | None = None, now: Sketch | None = None
) -> Iterator[Piece]:
    """Yield the lines of a question, numbered, each with the rows that are left after it.

    Lines that are off have a dash in the place of their number's point, and are in parentheses. Those that
    the sketch which there is ``now`` has not are marked with a plus.
    """
    room = max((width_of(_text_of(line)) for line in look.lines), default=0)
    room = room if width is None else min(room, max(width - 24, 20))
    if not look.lines:
        yield Piece("   all entries\n", Role.FAINT)
    for number, line in enumerate(look.lines, start=1):
        is_new = now is not None and look.sketch.lines[number - 1] not in now.lines
        mark = "▸" if chosen == number - 1 else "+" if is_new else " "
        yield Piece(f"{mark}{number:>2}{'.' if line.is_on else '-'} ", Role.FAINT)
        yield from _line(line, room)
        yield from _beside(line, room)
        yield Piece("\n")
        for problem in line.problems:
            yield Piece(f"     {printable(problem.sentences)}\n", Role.NOTICE)


def _text_of(line: SeenLine) -> str:
    """Return a line as it is shown."""
    return printable(line.text) if line.is_on else f"({printable(line.text)})"


def _line(line: SeenLine, room: int) -> Iterator[Piece]:
    """Yield the text of a line; what is wrong in it has a role of its own."""
    text = clipped(_text_of(line), room)
    if not line.is_on:
        yield Piece(text, Role.FAINT)
        return
    spans = [problem.span for problem in line.problems if problem.span]
    if not spans or len(text) < len(line.text):
        yield Piece(text, Role.ERROR if line.problems else Role.STRONG)
        return
    at = 0
    for span in spans:
        if span.start >= at:
            yield Piece(text[at : span.start], Role.STRONG)
            yield Piece(text[span.start : span.end], Role.ERROR)
            at = span.end
    yield Piece(text[at:], Role.STRONG)


def _beside(line: SeenLine, room: int) -> Iterator[Piece]:
    """Yield what stands beside a line: the rows left after it, and what its dates mean."""
    gap = " " * (room - min(width_of(_text_of(line)), room))
    if line.left is not None:
        yield Piece(f"{gap} {line.left:>6} left", Role.NOTICE if line.left == 0 else Role.NAME)
    elif not line.is_on:
        yield Piece(f"{gap}    off", Role.FAINT)
    for boundary in line.boundaries:
        yield Piece(f"  {boundary.start} to {boundary.end}", Role.FAINT)


def answer_told(look: Look, width: int | None) -> Iterator[Piece]:
    """Yield the answer as a table, or what keeps the question from being asked."""
    if look.answer is None:
        yield from question_problems(look.sketch.written.text, look.problems)
        return
    yield from forms.form("table").write(replace(look.answer, notices=()), forms.Frame(width))
    if look.is_cut or look.has_more_groups:
        yield Piece(f"{_cut(look, look.answer)}\n", Role.FAINT)
    for notice in look.answer.notices:
        yield from flowing(list(notice_lines([notice])), width, 6)


def _cut(look: Look, answer: Answer) -> str:
    """Return what is not shown of an answer, as a sentence."""
    if answer.groups is None:
        return f"Only the first {len(answer.rows)} rows are shown here."
    if not look.has_more_groups:
        return "Only the first of each group are shown here."
    rows = ", and the first rows of each" if look.is_cut else ""
    return f"Only the first {len(answer.groups)} groups are shown here{rows}."


def flowed(pieces: Iterable[Piece], width: int) -> Iterator[Piece]:
    """Yield text whose lines are broken between words, so that each fits into a width."""
    line: list[Piece] = []
    for text, role in pieces:
        first, *more = text.split("\n")
        line.append(Piece(first, role))
        for part in more:
            margin = len(line[0].text) - len(line[0].text.lstrip())
            yield from flowing(line, width, margin + 2)
            line = [Piece(part, role)]
    if any(each.text for each in line):
        yield from flowing(line, width, 2)


def kept_told(kept: Keeping) -> Iterator[Piece]:
    """Yield what keeping a question would write."""
    if kept.is_idle:
        yield Piece(f"The listing {kept.name} asks just that already.\n", Role.FAINT)
        return
    before, after = ((each or b"").decode("utf-8-sig") for each in (kept.file.before, kept.file.after))
    yield from files_told([(kept.file.path, before, after)], whole=True)


def written_told(kept: Keeping) -> Iterator[Piece]:
    """Yield that a listing was written."""
    yield Piece(f"Written to {kept.file.path}; elenchus undo takes it back.\n", Role.HINT)


def said_told(said: Said, text: str, width: int | None) -> Iterator[Piece]:
    """Yield what came of a line that was entered."""
    if said.problems:
        if any(problem.span for problem in said.problems):
            yield from question_problems(text, said.problems)
        else:
            yield from plain_problems(said.problems)
    if said.verdict:
        yield from verdict(said.verdict)
    if said.chart:
        yield from forms.form("table").write(said.chart, forms.Frame(width))
    if said.copied:
        yield Piece(f"{printable(said.copied)}\n", Role.STRONG)
        yield Piece(f"elenchus ask {shlex.quote(said.copied)}\n", Role.FAINT)
    if said.keeping:
        yield from kept_told(said.keeping)
    if said.helps:
        yield Piece("Clauses change the question: and where …, limit 3, no where. Besides:\n", Role.FAINT)
        for word in WORDS.values():
            yield Piece(f"  {word.usage:<{_USAGE}}", Role.NAME)
            yield Piece(f"{word.does}\n")
