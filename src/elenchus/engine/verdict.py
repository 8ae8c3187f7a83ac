"""What becomes of one entry: each condition with its value, its place, and what would list it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.explain import state_of, tests_in, value_words
from elenchus.engine.groups import grouped
from elenchus.engine.select import Selection
from elenchus.engine.stages import select, selection_of
from elenchus.engine.view import View
from elenchus.plan.nodes import AllOf, AnyOf, Negation
from elenchus.plan.words import condition_words, mend_words, parts
from elenchus.table.schema import CORE_FIELDS
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Iterator

    from numpy.typing import NDArray

    from elenchus.engine.stages import Stages
    from elenchus.plan.nodes import Condition, Plan
    from elenchus.table.dataset import Dataset
    from elenchus.values.dates import Clock

__all__ = ["Finding", "Verdict", "judge"]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is asked of the entry: in words, whether it holds, and the values that decide it.

    ``depth`` counts how far it stands inside other conditions; only those at 0 must all hold.
    """

    words: str
    holds: bool
    values: str = ""
    depth: int = 0


@dataclass(frozen=True, slots=True)
class Verdict:
    """What becomes of one row.

    ``rank`` counts from 1 before offset and limit, among ``of`` rows; for a row that does not match, it
    is the one that it would have as its other values are now.
    ``page`` is the one on which it stands, None when it is not listed or stands in groups. ``cut`` says
    what passes it over though it matches, or would if it matched. ``changes`` are what would list it, or
    let it match: one change, or several that are needed together when ``together`` says so.
    """

    id: str
    name: str
    place: str
    state: str
    listed: bool
    matches: bool
    findings: tuple[Finding, ...]
    rank: int | None = None
    of: int = 0
    page: int | None = None
    groups: tuple[str, ...] = ()
    cut: str = ""
    changes: tuple[str, ...] = ()
    together: bool = False


def judge(
    plan: Plan, data: Dataset, clock: Clock, row: int, *, without: NDArray[np.intp] | None = None
) -> Verdict:
    """Return what becomes of a row, an entry or a term, in the answer to a plan.

    ``without`` are rows that the answer leaves out, because they stand on its page already.
    """
    judged = selection_of(plan, data, clock, besides=row)
    gates = list(findings(plan, data, clock, row, judged))
    is_repeated = without is not None and row in without
    if without is not None:
        gates.append(Finding("does not stand on the page already", not is_repeated))
    failing = [finding for finding in gates if not finding.holds and not finding.depth]
    stages = select(plan, data, clock, without=without)
    leads = (
        row in plan.lead
        and not is_repeated
        and (plan.taxonomy != "" or bool(stages.selection.view.visible[row]))
    )
    filled = row in stages.rows[len(stages.rows) - stages.filled :]
    place = placed(plan, stages, row) if not failing or leads or filled else outlook(plan, data, clock, row)
    changes = mends(plan, data, clock, row, judged) if failing else place.mends(plan)
    if is_repeated:
        changes = (*changes, "let this section choose before the other, with a smaller priority")
    is_listed = ((not failing or leads) and not place.cut) or filled
    return Verdict(
        id=judged.view.ids(plan.taxonomy)[row],
        name=name_of(judged, row),
        place="" if plan.taxonomy else str(source_of(data, row)),
        state="" if plan.taxonomy else state_of(Selection(View(data, clock.now)), row),
        listed=is_listed,
        findings=tuple(gates),
        rank=place.rank,
        of=len(stages.ordered) + (stages.filled if filled else bool(failing) and not leads),
        matches=not failing or leads,
        page=page_of(plan, place) if is_listed else None,
        groups=groups_of(plan, stages, row) if is_listed else (),
        cut=place.cut,
        changes=changes,
        together=len(failing) > 1,
    )


def name_of(selection: Selection, row: int) -> str:
    """Return the title of an entry, or the name of a term."""
    if selection.taxonomy:
        return selection.view.data.taxonomies[selection.taxonomy].terms[row].name
    return selection.view.titles.item(row) or ""


def source_of(data: Dataset, row: int) -> object:
    """Return the file of an entry."""
    return data.entries.columns["source", CORE_FIELDS["source"].type].item(row)


def findings(plan: Plan, data: Dataset, clock: Clock, row: int, judged: Selection) -> Iterator[Finding]:
    """Yield all that is asked of a row, in the order of the pipeline."""
    if not plan.taxonomy:
        kind = data.kind_of(row)
        if len(plan.kinds) < len(data.kind_names) and not plan.source:
            names = either(data.kind_names[number] for number in plan.kinds)
            asked = kind in [data.kind_names[number] for number in plan.kinds]
            yield Finding(f"is of the kind {names}", asked, f"kind {kind}")
        if not plan.unpublished:
            state = state_of(Selection(View(data, clock.now)), row)
            yield Finding("is public", state == "public", state)
    if plan.source:
        among = bool(judged.among(plan.source)[row])
        yield Finding(f"is listed in {plan.source.name}", among)
    if plan.empty:
        yield Finding("all parameters that it needs are given", holds=False, values=plan.empty)
    for part in parts(plan.condition):
        yield from nested(part, row, judged, 0)


def nested(condition: Condition, row: int, judged: Selection, depth: int) -> Iterator[Finding]:
    """Yield a condition and those inside it."""
    holds = bool(judged.rows(condition)[row])
    if isinstance(condition, AnyOf | AllOf):
        word = "one of these holds" if isinstance(condition, AnyOf) else "all of these hold"
        yield Finding(word, holds, depth=depth)
        for part in condition.parts:
            yield from nested(part, row, judged, depth + 1)
    elif isinstance(condition, Negation) and isinstance(condition.part, AnyOf | AllOf | Negation):
        yield Finding("this does not hold", holds, depth=depth)
        yield from nested(condition.part, row, judged, depth + 1)
    else:
        fields = dict.fromkeys(test.field for test in tests_in(condition))
        values = "; ".join(value_words(judged, field, row) for field in fields)
        yield Finding(condition_words(condition), holds, values, depth)


@dataclass(frozen=True, slots=True)
class Place:
    """The place of a matching row before offset and limit, from 1, and what passes it over."""

    rank: int | None
    after_offset: int
    cut: str

    def mends(self, plan: Plan) -> tuple[str, ...]:
        """Return what would list a row that matches and is passed over."""
        if self.rank is None:
            return (f"raise “at most {plan.at_most.count}”",) if plan.at_most else ()
        if self.cut and self.after_offset <= 0:
            return (f"an offset of {self.rank - 1} or less",)
        return (f"a limit of {self.after_offset} or more",) if self.cut else ()


def placed(plan: Plan, stages: Stages, row: int) -> Place:
    """Return the place of a row that matches, or that fills the answer up."""
    if stages.filled and row in stages.rows[len(stages.rows) - stages.filled :]:
        place = int(np.flatnonzero(stages.rows == row)[0]) + 1
        return Place(place + plan.offset, place, "")
    found = np.flatnonzero(stages.ordered == row)
    if not len(found):
        if plan.at_most is None:
            return Place(None, 0, "")
        count, name = plan.at_most.count, plan.at_most.field.name
        return Place(None, 0, f"at most {count} of the same {name}, and as many stand before it")
    rank = int(found[0]) + 1
    after = rank - plan.offset
    cut = ""
    if after <= 0:
        cut = f"offset {plan.offset} skips it"
    elif plan.limit is not None and after > plan.limit:
        cut = f"limit {plan.limit} ends before it"
    return Place(rank, after, cut)


def page_of(plan: Plan, place: Place) -> int | None:
    """Return the page of a listed row; none where rows stand in groups."""
    if plan.groups or place.rank is None:
        return None
    return (place.after_offset - 1) // plan.per_page + 1 if plan.per_page else 1


def groups_of(plan: Plan, stages: Stages, row: int) -> tuple[str, ...]:
    """Return the labels of the groups in which a listed row stands."""
    if not plan.groups:
        return ()
    grouping = grouped(stages.selection, stages.rows, plan)
    numbers = grouping.group_of[stages.rows[grouping.place_of] == row].tolist()
    return tuple(grouping.labels[number] for number in numbers)


def mends(plan: Plan, data: Dataset, clock: Clock, row: int, judged: Selection) -> tuple[str, ...]:
    """Return what to change so that a row matches, and where it would then stand."""
    found = []
    if not plan.taxonomy:
        if int(data.entries.kinds[row]) not in plan.kinds and not plan.source:
            found.append(f"ask for {data.kind_of(row)} too: from …, {data.kind_of(row)}")
        state = state_of(Selection(View(data, clock.now)), row)
        if state != "public" and not plan.unpublished:
            found.append(publishing(state))
    if plan.source and not judged.among(plan.source)[row]:
        found.append(f"let {plan.source.name} list it")
    if plan.empty:
        found.append("give the parameters that are missing")
    failing = [part for part in parts(plan.condition) if not judged.rows(part)[row]]
    if plan.taxonomy:  # nobody sets what a term counts: tell what it takes
        return tuple(condition_words(part) for part in failing)
    found += [mend_words(part, lambda inner: bool(judged.rows(inner)[row])) for part in failing]
    return tuple(found)


def publishing(state: str) -> str:
    """Return what makes an entry of some state public."""
    if state.startswith("scheduled for"):
        return "set its date to now or earlier, or wait: it becomes public by itself"
    if state.startswith("expired"):
        return "take its expires away, or set it to a later date"
    if state.startswith("scheduled"):
        return "give it a date"
    return "publish it: set status to published"


def outlook(plan: Plan, data: Dataset, clock: Clock, row: int) -> Place:
    """Return the place that a row would have if it matched, as its other values are now."""
    return placed(plan, select(plan, data, clock, besides=row), row)
