"""What checks find, and what their codes mean, as text."""

from __future__ import annotations

from collections import Counter
from itertools import groupby
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from elenchus.checks.records import LEVELS
from elenchus.errors import Edit, OwnName
from elenchus.pieces.commands import set_command
from elenchus.pieces.flowing import flowing
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.pieces.problems import problem_object
from elenchus.report.changes import counted
from elenchus.report.editing import change_told, files_told

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from elenchus.checks.fixing import Fixing
    from elenchus.checks.records import CodeRecord
    from elenchus.checks.run import Finding, Report

__all__ = ["about_code", "all_codes", "as_object", "findings", "fixing_told"]

_ROLES = {"error": Role.ERROR, "warning": Role.NOTICE, "note": Role.NAME}
_WIDEST = 100
_MOST_OF_A_CODE = 5  # findings of one code that are all told
_FIRST_OF_A_CODE = 3
_INDENT = 6  # columns before a hint


def findings(report: Report, width: int | None, *, whole: bool = False) -> Iterator[Piece]:
    """Yield the findings that count, level by level, then those that are accepted, and their numbers.

    Of many with one code the first are told, unless the ``whole`` report is wanted.
    """
    open_ones = [each for each in report.findings if not each.accepted]
    accepted = [each for each in report.findings if each.accepted]
    for level, found in groupby(open_ones, key=lambda each: each.level):
        listed = list(found)
        yield Piece(f"{level if len(listed) == 1 else level + 's'}\n", _ROLES[level])
        counts = Counter(each.problem.code for each in listed)
        told: Counter[str] = Counter()
        for each in listed:
            code = each.problem.code
            told[code] += 1
            if whole or counts[code] <= _MOST_OF_A_CODE or told[code] <= _FIRST_OF_A_CODE:
                yield from _finding_lines(each, width)
        for code, count in counts.items():
            if not whole and count > _MOST_OF_A_CODE:
                more = f"  … and {count - _FIRST_OF_A_CODE:,} more {code}; --in-full shows all\n"
                yield Piece(more, Role.FAINT)
        yield Piece("\n")
    if accepted:
        yield Piece("accepted\n", Role.FAINT)
        for each in accepted:
            yield from _finding_lines(each, width)
        yield Piece("\n")
    yield Piece(f"{_summary(report, len(accepted))}\n", Role.STRONG)


def _finding_lines(finding: Finding, width: int | None) -> Iterator[Piece]:
    """Yield one finding: place, message, code, and what would fix it."""
    problem = finding.problem
    place = [Piece(f"{problem.place}: ", Role.NAME)] if problem.place else []
    message = Piece(f"{printable(problem.message)}.")
    yield from flowing(
        [Piece("  "), *place, message, Piece(f"  [{problem.code}]", Role.FAINT)], width, _INDENT
    )
    beside = f"because {finding.accepted}" if finding.accepted else problem.hint
    role = Role.FAINT if finding.accepted else Role.HINT
    for line in beside.split("\n") if beside else ():
        yield from flowing([Piece(" " * _INDENT), Piece(printable(line), role)], width, _INDENT)
    if isinstance(problem.cure, Edit) and not finding.accepted:
        yield from _cure_lines(problem.cure, width)
    elif isinstance(problem.cure, OwnName) and not finding.accepted:
        yield Piece(f"{' ' * _INDENT}elenchus check --fix\n", Role.STRONG)


def _cure_lines(cure: Edit, width: int | None) -> Iterator[Piece]:
    """Yield the command that puts something right, or why that is to be done by hand."""
    if cure.by_hand:
        told = Piece(f"by hand: {printable(cure.by_hand)}", Role.FAINT)
        yield from flowing([Piece(" " * _INDENT), told], width, _INDENT)
    else:
        yield Piece(f"{' ' * _INDENT}{printable(set_command([cure]))}\n", Role.STRONG)


def _summary(report: Report, accepted: int) -> str:
    """Return how many findings there are."""
    counts = [(report.count(level), level) for level in LEVELS]
    parts = [f"{count} {level if count == 1 else level + 's'}" for count, level in counts if count]
    found = ", ".join(parts) or "nothing to fix"
    return found + (f" · {accepted} accepted" if accepted else "")


def as_object(report: Report) -> dict[str, Any]:
    """Return a report as an object for JSON."""
    listed = [
        {**problem_object(each.problem), "level": each.level, "accepted": each.accepted or None}
        for each in report.findings
    ]
    return {"counts": {level: report.count(level) for level in LEVELS}, "findings": listed}


def fixing_told(change: Fixing) -> Iterator[Piece]:
    """Yield the lines that would put findings right, and those findings that nothing certain does."""
    if not change.files:
        yield Piece("Nothing can be put right with certainty.\n", Role.FAINT)
    files = [(file.path, _text(file.before), _text(file.after)) for file in change.definitions]
    yield from files_told(files, whole=True)
    if change.content:
        yield from change_told(change.content)
    if change.files:
        yield Piece(f"{counted(len(change.cured), 'finding')} put right by that.\n", Role.STRONG)
    for problem in change.left:
        where = f"{problem.place}: " if problem.place else ""
        yield Piece(f"by hand: {printable(where + problem.sentences)}\n", Role.FAINT)


def _text(content: bytes | None) -> str:
    """Return the text of a file of definitions."""
    return (content or b"").decode("utf-8-sig", "replace")


def all_codes(records: Iterable[CodeRecord], width: int | None) -> Iterator[Piece]:
    """Yield all codes by what they are about, each with its level and what it means."""
    for about, listed in groupby(records, key=lambda each: each.about):
        yield Piece(f"{about}\n", Role.HEADING)
        for each in listed:
            told = [Piece(f"  {each.code}", Role.NAME), Piece(f"  {each.level}  ", _ROLES[each.level])]
            yield from flowing([*told, Piece(" ".join(each.means.split()))], width, _INDENT)
        yield Piece("\n")
    yield Piece("elenchus check --about CODE tells why it hurts, and how to fix it.\n", Role.FAINT)


def about_code(record: CodeRecord) -> Iterator[Piece]:
    """Yield what a code means, why it hurts and how to fix it."""
    yield Piece(record.code, Role.HEADING)
    yield Piece(f"  {record.level}, about {record.about}\n\n", Role.FAINT)
    for heading, text in (("means", record.means), ("hurts", record.hurts), ("fix", record.fix)):
        lines = wrap(" ".join(text.split()), _WIDEST - 8)
        yield Piece(f"{heading:<8}", Role.STRONG)
        yield Piece("\n        ".join(lines) + "\n")
