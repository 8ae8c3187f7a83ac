"""Which rows stand in more than one group, and in which: how counts of groups add up."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.pieces.piece import Piece, Role

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.plan.answer import Answer

__all__ = ["overlaps"]


def overlaps(answer: Answer) -> Iterator[Piece]:
    """Yield how the groups add up, then each row of several groups with their labels."""
    if answer.groups is None:
        yield Piece("There are no groups that could overlap: the question has no “group by”.\n", Role.NOTICE)
        return
    several = f"{len(answer.overlap)} in several groups"
    yield Piece(f"{answer.total} distinct, {answer.placements} in the groups together, {several}\n")
    for name, labels in answer.overlap.items():
        yield Piece(f"  {name}", Role.NAME)
        yield Piece(f": {', '.join(labels)}\n")
