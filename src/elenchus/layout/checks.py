"""What checks find, and what their codes mean, as text."""

from __future__ import annotations

from itertools import groupby
from textwrap import wrap
from typing import TYPE_CHECKING, Any

from elenchus.checks.records import LEVELS
from elenchus.layout.pieces import Piece, Role, printable

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.checks.records import Record
    from elenchus.checks.run import Finding, Report

__all__ = ["about_code", "as_object", "findings"]

ROLES = {"error": Role.ERROR, "warning": Role.NOTICE, "note": Role.NAME}
WIDEST = 100


def findings(report: Report) -> Iterator[Piece]:
    """Yield the findings that count, level by level, then those that are accepted, and their numbers."""
    open_ones = [each for each in report.findings if not each.accepted]
    accepted = [each for each in report.findings if each.accepted]
    for level, found in groupby(open_ones, key=lambda each: each.level):
        listed = list(found)
        yield Piece(f"{level if len(listed) == 1 else level + 's'}\n", ROLES[level])
        for each in listed:
            yield from finding_lines(each)
        yield Piece("\n")
    if accepted:
        yield Piece("accepted\n", Role.FAINT)
        for each in accepted:
            yield from finding_lines(each)
        yield Piece("\n")
    yield Piece(f"{summary(report, len(accepted))}\n", Role.STRONG)


def finding_lines(finding: Finding) -> Iterator[Piece]:
    """Yield one finding: place, message, code, and what would mend it."""
    problem = finding.problem
    yield Piece("  ")
    if problem.place:
        yield Piece(f"{problem.place}: ", Role.NAME)
    message = printable(problem.message)
    yield Piece(f"{message[:1].upper()}{message[1:]}.")
    yield Piece(f"  [{problem.code}]\n", Role.FAINT)
    if finding.accepted:
        yield Piece(f"      because {printable(finding.accepted)}\n", Role.FAINT)
    elif problem.hint:
        for line in problem.hint.split("\n"):
            yield Piece(f"      {printable(line)}\n", Role.HINT)


def summary(report: Report, accepted: int) -> str:
    """Return how many findings there are."""
    counts = [(report.count(level), level) for level in LEVELS]
    parts = [f"{count} {level if count == 1 else level + 's'}" for count, level in counts if count]
    found = ", ".join(parts) or "nothing to mend"
    return found + (f" · {accepted} accepted" if accepted else "")


def as_object(report: Report) -> dict[str, Any]:
    """Return a report as an object for JSON."""
    listed = [
        {
            "code": each.problem.code,
            "level": each.level,
            "message": each.problem.message,
            "hint": each.problem.hint,
            "file": each.problem.place.file if each.problem.place else None,
            "line": (each.problem.place.line or None) if each.problem.place else None,
            "accepted": each.accepted or None,
        }
        for each in report.findings
    ]
    return {"counts": {level: report.count(level) for level in LEVELS}, "findings": listed}


def about_code(record: Record) -> Iterator[Piece]:
    """Yield what a code means, why it hurts and how to mend it."""
    yield Piece(record.code, Role.HEADING)
    yield Piece(f"  {record.level}, about {record.about}\n\n", Role.FAINT)
    for heading, text in (("means", record.means), ("hurts", record.hurts), ("mend", record.mend)):
        lines = wrap(" ".join(text.split()), WIDEST - 8)
        yield Piece(f"{heading:<8}", Role.STRONG)
        yield Piece("\n        ".join(lines) + "\n")
