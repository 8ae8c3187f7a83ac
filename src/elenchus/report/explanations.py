"""Explanations as text: the funnel of a question, and the verdict on one entry."""

from __future__ import annotations

from textwrap import wrap
from typing import TYPE_CHECKING

from elenchus.pieces.commands import set_command
from elenchus.pieces.grid import Heading, grid
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.plan.explanation import Spent

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from elenchus.plan.explanation import Change, Explanation, Gate, Step, Tally, Verdict

__all__ = ["explanation", "timing", "verdict"]

_INDENT = "      "
_WIDEST = 100


def explanation(found: Explanation) -> Iterator[Piece]:
    """Yield the funnel of a question, its boundaries in time, and how its rows are arranged."""
    width = len(str(max(step.left for step in found.steps)))
    for step in found.steps:
        yield from _step_lines(step, width)
    yield Piece("\n")
    for line in found.arrangement:
        yield Piece(f"{line}\n")
    yield Piece(f"Asked as of {found.at}.\n", Role.FAINT)
    for boundary in found.boundaries:
        yield Piece(f"“{boundary.words}” ", Role.NAME)
        yield Piece(f"is from {boundary.start} up to {boundary.end}.\n")


def timing(steps: Sequence[Spent], width: int | None) -> Iterator[Piece]:
    """Yield the way to an answer: each step with the rows that it leaves and its time in microseconds."""
    headings = [Heading("step", flexible=True), Heading("rows", right=True), Heading("µs", right=True)]
    total = Spent("all", 0, sum(each.time for each in steps))
    rows = [(each.words, str(each.rows or ""), f"{each.time:.0f}") for each in (*steps, total)]
    for line in grid(headings, rows, width):
        yield from line


def _step_lines(step: Step, width: int) -> Iterator[Piece]:
    """Yield what a step leaves, and below it what it removed."""
    yield Piece(f"{step.left:>{width}}", Role.STRONG)
    yield Piece(f"  {printable(step.words)}")
    if step.removed:
        yield Piece(f"  −{step.removed}", Role.NOTICE)
    yield Piece("\n")
    for removed in step.examples:
        yield Piece(f"{_INDENT}without ", Role.FAINT)
        yield Piece(removed.id, Role.NAME)
        yield Piece(f"  {printable(removed.values)}\n" if removed.values else "\n", Role.FAINT)
    if step.removed > len(step.examples) > 0:
        yield Piece(f"{_INDENT}and {step.removed - len(step.examples)} more\n", Role.FAINT)
    yield from _remarks(step)


def _remarks(step: Step) -> Iterator[Piece]:
    """Yield what is remarkable about a step."""
    if step.by_absence:
        rows = "row passes" if step.by_absence == 1 else "rows pass"
        yield Piece(f"{_INDENT}{step.by_absence} {rows} only because a value is missing\n", Role.NOTICE)
    if step.as_text is not None:
        listed = f"compared as text it would wrongly leave: {' '.join(step.as_text) or 'nothing'}"
        for line in wrap(listed, _WIDEST, break_long_words=False, break_on_hyphens=False):
            yield Piece(f"{_INDENT}{line}\n", Role.NOTICE)
    if step.tally:
        yield from _tally_lines(step.tally)


def _tally_lines(tally: Tally) -> Iterator[Piece]:
    """Yield how rows add up over several terms."""
    counts = " + ".join(f"{name} {count}" for name, count in tally.counts)
    total = sum(count for _, count in tally.counts)
    yield Piece(f"{_INDENT}{counts} = {total}, of {tally.distinct} distinct\n", Role.FAINT)
    if tally.overlap:
        yield Piece(f"{_INDENT}more than once: {' '.join(tally.overlap)}\n", Role.FAINT)


def verdict(found: Verdict) -> Iterator[Piece]:
    """Yield whether an entry is listed and where, each condition, and what would list it."""
    yield Piece(found.id, Role.NAME)
    yield Piece(f"  {printable(found.name)}\n", Role.STRONG)
    if found.place:
        yield Piece(f"{found.place} · {found.state}\n", Role.FAINT)
    yield Piece("\n")
    for finding in found.findings:
        yield from _gate_line(finding)
    yield Piece("\n" if found.findings else "")
    yield from _outcome(found)


def _gate_line(finding: Gate) -> Iterator[Piece]:
    """Yield one condition with whether it holds."""
    mark, role = ("yes", Role.HINT) if finding.holds else ("no ", Role.ERROR)
    yield Piece(f"  {mark}  ", role)
    yield Piece(f"{'  ' * finding.depth}{printable(finding.words)}")
    yield Piece(f"  ({printable(finding.values)})\n" if finding.values else "\n", Role.FAINT)


def _outcome(found: Verdict) -> Iterator[Piece]:
    """Yield what becomes of the entry in the end."""
    if found.listed:
        where = f", in {', '.join(found.groups)}" if found.groups else ""
        page = f", on page {found.page}" if found.page else ""
        yield Piece("Listed", Role.HINT)
        yield Piece(f": {found.rank} of {found.of}{page}{where}.\n")
        return
    yield Piece("Not listed", Role.ERROR)
    rank = f", as {found.rank} of {found.of}," if found.rank else ""
    yield Piece(f": it matches{rank} but {found.cut}.\n" if found.matches and found.cut else ".\n")
    yield from _way_lines(found)


def _way_lines(found: Verdict) -> Iterator[Piece]:
    """Yield what would list an entry, or what it takes where no change is known that would."""
    for heading, ways in _headed(found):
        yield Piece(f"{heading}:\n")
        by_hand = [(change, change.edit.by_hand) for change in ways if change.edit and change.edit.by_hand]
        for change in ways:
            yield Piece(f"  {printable(change.words)}\n", Role.HINT)
            if by_hand and change is by_hand[-1][0]:  # all are of one entry, so that it is said once
                yield Piece(f"    by hand: {printable(by_hand[-1][1])}\n", Role.FAINT)
            if len(found.ways) > 1:
                yield from _command([change], "    ")
    if len(found.ways) == 1:
        yield from _command(found.ways[0], "  ")
    if found.ways and found.rank and not found.cut:
        yield Piece(f"It would stand as {found.rank} of {found.of}.\n", Role.FAINT)
    if found.needs:
        words = _WITHOUT_A_WAY if found.edits_tried else "It would be listed where all of this held"
        yield Piece(f"{words}:\n")
        for need in found.needs:
            yield Piece(f"  {printable(need)}\n", Role.HINT)


def _command(way: Sequence[Change], margin: str) -> Iterator[Piece]:
    """Yield the command that makes all changes of a way, where all of them are of the entry itself."""
    edits = [change.edit for change in way if change.edit]
    if len(edits) == len(way) and (command := set_command(edits)):
        yield Piece(f"{margin}{printable(command)}\n", Role.STRONG)


_WITHOUT_A_WAY = "No change of its own fields is known that would list it. It takes all of this"


def _headed(found: Verdict) -> Iterator[tuple[str, tuple[Change, ...]]]:
    """Yield the ways to list an entry under the words that say how many of them are needed."""
    if len(found.ways) == 1:
        count = "One change" if len(found.ways[0]) == 1 else "All of these changes together"
        yield f"{count} would list it", found.ways[0]
    elif found.ways:
        yield "One of these changes would list it", tuple(way[0] for way in found.ways)
