"""Problems as text: what is wrong, where, and what would help."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import Edit, KeyEdit, OwnName, Replacement, Respelling
from elenchus.pieces.commands import set_command
from elenchus.pieces.piece import Piece, Role, printable, width_of

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from elenchus.errors import Cure, Problem, Span

__all__ = ["content_problems", "notice_lines", "plain_problems", "problem_object", "question_problems"]

_INDENT = "    "
_WINDOW = 100  # columns of a long line that are shown around a caret
_FEW = 3  # content problems shown beside an answer


def problem_object(problem: Problem) -> dict[str, Any]:
    """Return a problem as an object for JSON; what would put it right among it, where that is known."""
    place = problem.place
    return {
        "code": problem.code,
        "message": problem.message,
        "hint": problem.hint,
        "file": place.file if place else None,
        "line": (place.line or None) if place else None,
        "near": list(problem.near),
        "cure": _cure_object(problem.cure),
    }


def _cure_object(cure: Cure | None) -> dict[str, Any] | None:
    """Return what would put something right: an edit of an entry, or other words in a part of a question."""
    match cure:
        case Edit():
            told = {"entry": cure.entry, "field": cure.field, "operator": cure.operator, "value": cure.value}
            return {**told, "command": set_command([cure]) or None, "by_hand": cure.by_hand or None}
        case KeyEdit():
            return {"entry": cure.entry, "wrong": cure.wrong, "right": cure.right}
        case OwnName():
            return {"wrong": cure.what, "entries": len(cure.records)}
        case Respelling():
            return {"wrong": cure.wrong, "right": cure.right}
        case Replacement():
            return {"start": cure.span.start, "end": cure.span.end, "text": cure.text}
        case None:
            return None


def question_problems(text: str, problems: Sequence[Problem]) -> Iterator[Piece]:
    """Yield each problem with its line of the question and a caret under the place."""
    for number, problem in enumerate(problems):
        if number:
            yield Piece("\n")
        if problem.place:
            yield Piece(f"{problem.place}: ", Role.NAME)
        yield from _sentence(problem)
        if problem.span:
            yield from _caret(text, problem.span)
        yield from _hint(problem)


def plain_problems(problems: Sequence[Problem]) -> Iterator[Piece]:
    """Yield each problem with its file and line where it has them."""
    for problem in problems:
        if problem.place:
            yield Piece(f"{problem.place}: ", Role.NAME)
        yield from _sentence(problem)
        yield from _hint(problem)


def content_problems(problems: Sequence[Problem], *, everything: bool = False) -> Iterator[Piece]:
    """Yield how many problems the content has, and the first few, one a line."""
    if not problems:
        return
    count = "1 problem" if len(problems) == 1 else f"{len(problems)} problems"
    yield Piece("\n")
    yield Piece(f"{count} in the content, which did not stop the answer:\n", Role.NOTICE)
    shown = problems if everything or len(problems) <= _FEW + 1 else problems[:_FEW]
    for problem in shown:
        yield Piece("  ")
        yield Piece(f"{problem.place}: ", Role.NAME)
        yield Piece(printable(problem.sentences) + "\n")
    if len(shown) < len(problems):
        yield Piece(f"  … and {len(problems) - len(shown)} more; --problems shows them all\n", Role.FAINT)


def notice_lines(notices: Iterable[Problem]) -> Iterator[Piece]:
    """Yield each notice of an answer on a line of its own."""
    for notice in notices:
        yield Piece("note: ", Role.NOTICE)
        yield Piece(printable(notice.sentences) + "\n")


def _sentence(problem: Problem) -> Iterator[Piece]:
    """Yield what is wrong as a sentence, with its code."""
    message = printable(problem.message)
    yield Piece(f"{message[:1].upper()}{message[1:]}.", Role.ERROR)
    yield Piece(f"  [{problem.code}]\n", Role.FAINT)


def _hint(problem: Problem) -> Iterator[Piece]:
    """Yield what would help."""
    for line in problem.hint.split("\n") if problem.hint else ():
        yield Piece(f"{_INDENT}{printable(line)}\n", Role.HINT)


def _caret(text: str, span: Span) -> Iterator[Piece]:
    """Yield the line of the question on which a span begins, and carets under it."""
    start = text.rfind("\n", 0, span.start) + 1
    end = text.find("\n", span.start)
    line = text[start : end if end >= 0 else len(text)]
    first, last = span.start - start, max(span.start + 1, min(span.end, start + len(line))) - start
    fits = len(line) <= _WINDOW or first < _WINDOW // 2
    before, cut = (line[:first], "") if fits else (line[first - _WINDOW // 3 : first], "…")
    marked, after = line[first:last][:_WINDOW], line[last:]
    room = max(0, _WINDOW - len(before) - len(marked))
    tail = after if len(after) <= room else f"{after[:room]}…"
    yield Piece(f"{_INDENT}{cut}{printable(before + marked + tail)}\n", Role.STRONG)
    width = max(1, width_of(printable(marked)))
    yield Piece(f"{_INDENT}{' ' * width_of(cut + printable(before))}{'^' * width}\n", Role.ERROR)
