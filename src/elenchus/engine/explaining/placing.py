"""Where a row stands in an answer: before offset and limit, after them, and what passes it over."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.columns.column import Texts, single_of
from elenchus.engine.groups import grouped
from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Plan

__all__ = ["Standing", "nth_of_value", "placed"]


class Standing(Frozen):
    """The place of a row.

    ``rank`` counts from 1 before offset and limit among ``of`` rows, None where the row is not among them.
    ``nth`` is its place in the group where it stands first, from 0; ``cut`` says what passes it over.
    """

    matches: bool
    is_listed: bool
    rank: int | None = None
    of: int = 0
    after_offset: int = 0
    nth: int = 0
    cut: str = ""


def placed(plan: Plan, stages: Stages, row: int) -> Standing:
    """Return the place of a row in the answer to a plan, as far as it was worked out."""
    if stages.filled and row in stages.rows[len(stages.rows) - stages.filled :]:
        place = int(np.flatnonzero(stages.rows == row)[0]) + 1
        of = len(stages.ordered) + stages.filled
        return Standing(matches=True, is_listed=True, rank=place + plan.offset, of=of, after_offset=place)
    found = np.flatnonzero(stages.ordered == row)
    matches = bool(stages.matched[row] and not stages.repeated[row]) or bool(len(found))
    if not len(found):
        cut = ""
        if matches and plan.at_most:
            count, name = plan.at_most.count, plan.at_most.field.name
            cut = f"at most {count} of the same {name}, and as many stand before it"
        return Standing(matches, is_listed=False, of=len(stages.ordered), cut=cut)
    rank = int(found[0]) + 1
    after = rank - plan.offset
    cut, nth = "", 0
    if after <= 0:
        cut = f"offset {plan.offset} skips it"
    elif plan.limit is not None and after > plan.limit:
        cut = f"limit {plan.limit} ends before it"
    elif plan.groups:
        nth, cut = _in_groups(plan, stages, row)
    return Standing(matches, not cut, rank, len(stages.ordered), after, nth, cut)


def _in_groups(plan: Plan, stages: Stages, row: int) -> tuple[int, str]:
    """Return the first of the places that a row has in its groups, and what keeps it out of sight there.

    Where no group shows rows at all, the row is counted, and nothing keeps it out.
    """
    grouping = grouped(stages, plan)
    places = grouping.nth[stages.rows[grouping.place_of] == row]
    if not len(places):
        return 0, "it stands in none of the groups that are asked for"
    nth = int(places.min())
    if plan.per_group and nth >= plan.per_group:
        return nth, f"limit {plan.per_group} per group ends before it"
    return nth, ""


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
