"""What becomes of one entry: each condition with its value, its place, and what would list it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from elenchus.engine.cures import Workshop
from elenchus.engine.explain import tests_in, value_words
from elenchus.engine.groups import grouped
from elenchus.engine.placing import placed
from elenchus.engine.remedies import Remedies
from elenchus.engine.stages import select, selection_of
from elenchus.engine.state import state_of
from elenchus.plan.nodes import AllOf, AnyOf, Negation
from elenchus.plan.words import condition_words, parts
from elenchus.table.schema import CORE_FIELDS
from elenchus.values.texts import either

if TYPE_CHECKING:
    from collections.abc import Iterator

    import numpy as np
    from numpy.typing import NDArray

    from elenchus.engine.cures import Way
    from elenchus.engine.placing import Place
    from elenchus.engine.select import Selection
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

    ``rank`` counts from 1 before offset and limit, among ``of`` rows; for a row that is not listed, it is
    the one that it would have after the first of the ways, or has where it matches.
    ``page`` is the one on which it stands, None when it is not listed or stands in groups. ``cut`` says
    what passes it over though it matches. ``ways`` are what would list it: each has one change, or several
    that are needed together, and was tried. ``needs`` tell what is asked of it where no way is known.
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
    ways: tuple[Way, ...] = ()
    needs: tuple[str, ...] = ()


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
    stages = select(plan, data, clock, without=without)
    place = placed(plan, stages, row)
    failing = [finding for finding in gates if not finding.holds and not finding.depth]
    ways: tuple[Way, ...] = ()
    then = place
    if not place.is_listed and not plan.taxonomy:
        remedies = Remedies(plan, clock, Workshop(judged, row), without)
        ways = remedies.ways()
        then = remedies.after(ways[0]) if ways else place
    return Verdict(
        id=judged.view.ids(plan.taxonomy)[row],
        name=name_of(judged, row),
        place="" if plan.taxonomy else str(source_of(data, row)),
        state="" if plan.taxonomy else str(state_of(data, clock.now, row)),
        listed=place.is_listed,
        matches=place.matches,
        findings=tuple(gates),
        rank=place.rank or then.rank,
        of=place.of if place.rank else then.of,
        page=page_of(plan, place) if place.is_listed else None,
        groups=groups_of(plan, stages, row) if place.is_listed else (),
        cut=place.cut,
        ways=ways,
        needs=tuple(finding.words for finding in failing) if not (ways or place.is_listed) else (),
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
            state = state_of(data, clock.now, row)
            yield Finding("is public", state.is_public, str(state))
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
