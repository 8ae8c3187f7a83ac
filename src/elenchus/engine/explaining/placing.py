"""Where a row stands in an answer: before offset and limit, after them, and what passes it over."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Texts, single_of
from elenchus.engine.groups import grouped
from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Plan

__all__ = ["Standing", "nth_of_value", "place_in_groups", "placed", "standing"]


class Standing(Frozen):
    """The place of a row.

    ``rank`` counts from 1 before offset and limit among ``of`` rows, None where the row is not among them.
    ``nth`` is its place in the group where it stands first, from 0, and ``turn`` that of the first key of
    this group; ``cut`` says what passes it over.
    """

    matches: bool
    is_listed: bool
    rank: int | None = None
    of: int = 0
    after_offset: int = 0
    nth: int = 0
    cut: str = ""
    turn: int = 0
    fails: bool = False  # whether no group in which it stands meets the condition on groups


def placed(plan: Plan, stages: Stages, row: int) -> Standing:
    """Return the place of a row in the answer to a plan, as far as it was worked out."""
    if stages.filled and row in stages.rows[len(stages.rows) - stages.filled :]:
        place = int(np.flatnonzero(stages.rows == row)[0]) + 1
        of = len(stages.ordered) + stages.filled
        return Standing(matches=True, is_listed=True, rank=place + plan.offset, of=of, after_offset=place)
    found = np.flatnonzero(stages.ordered == row)
    matches = bool(stages.matched[row] and not stages.repeated[row])
    rank = int(found[0]) + 1 if len(found) else 0

    def in_groups() -> tuple[int, int] | None:
        grouping = grouped(stages, plan)
        mine = stages.rows[grouping.place_of] == row
        return place_in_groups(plan, grouping.turns[grouping.group_of[mine]], grouping.nth[mine])

    return standing(plan, rank, len(stages.ordered), matches=matches, place=in_groups)


def place_in_groups(
    plan: Plan, turns: NDArray[np.int64], places: NDArray[np.int64]
) -> tuple[int, int] | None:
    """Return the turn of the first key of a group, and the place there, of the placements of one row.

    They are those of the place that is shown most easily, of all of its ``places`` and their ``turns``. None
    where it stands in no group.
    """
    if not len(turns):
        return None
    shown = turns < plan.group_limit if plan.group_limit is not None else np.ones(len(turns), np.bool_)
    best = np.lexsort((turns, places)) if shown.any() else np.lexsort((places, turns))
    at = next((each for each in best.tolist() if shown[each]), int(best[0]))
    return int(turns[at]), int(places[at])


def standing(
    plan: Plan, rank: int, of: int, *, matches: bool, place: Callable[[], tuple[int, int] | None]
) -> Standing:
    """Return the place of a row that does not fill up, and which clause passes it over.

    ``rank`` counts from 1 before offset and limit, 0 where the row is not among those; ``place`` gives its
    place in groups, see :func:`place_in_groups`.
    """
    if not rank:
        cut = ""
        if matches and plan.at_most:
            count, name = plan.at_most.count, plan.at_most.field.name
            cut = f"at most {count} of the same {name}, and as many stand before it"
        return Standing(matches, is_listed=False, of=of, cut=cut)
    after, turn, number, cut, fails = rank - plan.offset, 0, 0, "", False
    if after <= 0:
        cut = f"offset {plan.offset} skips it"
    elif plan.limit is not None and after > plan.limit:
        cut = f"limit {plan.limit} ends before it"
    elif plan.groups:
        found = place()
        turn, number = found or (0, 0)
        fails = found is None and plan.having is not None
        if fails:
            cut = "each group in which it stands fails the condition after having"
        elif found is None:
            cut = "it stands in none of the groups that are asked for"
        elif plan.group_limit is not None and turn >= plan.group_limit:
            cut = f"limit {plan.group_limit} groups ends before those in which it stands"
        elif plan.per_group and number >= plan.per_group:  # where no group shows rows, it is counted at least
            cut = f"limit {plan.per_group} per group ends before it"
    return Standing(
        matches=True, is_listed=not cut, rank=rank, of=of, after_offset=after, nth=number, cut=cut, turn=turn,
        fails=fails,
    )  # fmt: skip


def nth_of_value(plan: Plan, stages: Stages, row: int) -> int:
    """Return how many rows up to a row, itself among them, have its value of the field that is kept varied.

    ``stages`` are those of the plan without “at most”.
    """
    if plan.at_most is None:
        return 0
    column = single_of(stages.selection.view.column(plan.at_most.field, plan.subject))
    keys = column.codes if isinstance(column, Texts) else column.keys
    before = stages.ordered[: int(np.flatnonzero(stages.ordered == row)[0]) + 1]
    return int(((keys[before] == keys[row]) & column.valid[before]).sum())
