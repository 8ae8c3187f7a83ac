"""Which rows stand in more than one group, and in which: how counts of groups add up."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.pieces.piece import Piece, Role

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.asking.tallying import TermTally
    from elenchus.plan.answer import Answer

__all__ = ["overlaps", "tally_told"]


def tally_told(found: TermTally, *, whole: bool) -> Iterator[Piece]:
    """Yield how the counts of terms add up, then each entry under several of them, with these.

    Without ``whole`` in one line.
    """
    if not whole:
        several = f", {len(found.several)} under several" if found.several else ""
        entries = "1 distinct entry" if found.distinct == 1 else f"{found.distinct} distinct entries"
        yield Piece(f"own: {found.total} in all, {entries}{several}\n", Role.FAINT)
        return
    counts = " + ".join(f"{term} {count}" for term, count in found.counts) or "no term"
    yield Piece(f"{counts} = {found.total}, of {found.distinct} distinct entries")
    yield Piece(f", {len(found.several)} under several\n" if found.several else "\n")
    for name, terms in found.several.items():
        yield Piece(f"  {name}", Role.NAME)
        yield Piece(f"  {', '.join(terms)}\n")


def overlaps(answer: Answer) -> Iterator[Piece]:
    """Yield how the groups add up, then each row of several groups with their labels."""
    if answer.groups is None:
        yield Piece(
            "There is nothing that could overlap: there is no “group by”, and rows are no terms.\n",
            Role.NOTICE,
        )
        return
    several = f"{len(answer.overlap)} in several groups"
    yield Piece(f"{answer.total} distinct, {answer.placements} in the groups together, {several}\n")
    for name, labels in answer.overlap.items():
        yield Piece(f"  {name}", Role.NAME)
        yield Piece(f": {', '.join(labels)}\n")
