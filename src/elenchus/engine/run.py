"""From a plan to an answer: from → visible → where → order → offset → limit → group → pages."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.decode import Values
from elenchus.engine.groups import MOST_GROUPS, grouped
from elenchus.engine.measuring import totals
from elenchus.engine.notices import StagesNoticed, notices
from elenchus.errors import NoSuchPage, Problem
from elenchus.frozen import replace
from elenchus.plan.answer import Answer, Group, Row
from elenchus.values.dates import from_instant
from elenchus.values.kept import cached_property
from elenchus.values.numbers import counting_number
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.engine.groups import Grouping
    from elenchus.engine.stages import Stages
    from elenchus.plan.answer import MeasureTotal
    from elenchus.plan.nodes import Plan
    from elenchus.values.dates import Clock

__all__ = ["SHOWN_OF_ENTRIES", "SHOWN_OF_TERMS", "Cut", "answer", "shown_of", "with_measures"]

SHOWN_OF_ENTRIES = ("id", "kind", "slug", "title", "date", "address")
SHOWN_OF_TERMS = ("id", "slug", "name", "path", "own", "with_below", "address")


def answer(
    plan: Plan,
    stages: Stages,
    clock: Clock,
    question: str,
    page: int | str = 1,
    *,
    in_public: bool = False,
) -> Answer:
    """Return one page of the answer to a plan from the steps by which it was found. Raises NoSuchPage.

    ``in_public`` keeps what is said beside the rows to what anybody may know.
    """
    grouping = grouped(stages, plan) if plan.groups else None
    if grouping:
        stages.note("groups, counted and put in order", len(grouping.counts))
    cut = Cut(plan, grouping, stages.total, page, stages.filled)
    view = stages.selection.view
    fields = (*view.shown(plan.subject, shown_of(plan)), *plan.fields, *plan.show)
    numbers = cut.rows(stages) if grouping else stages.between(*cut.bounds)
    values = Values(view, plan.subject, {field.name: field for field in fields}, numbers)
    found = cut.answer(
        question=question,
        clock=clock,
        matched=stages.kept_count,
        rows=tuple(map(Row, view.ids_of(plan.subject, numbers), values.each(), numbers.tolist())),
        ids=view.ids(plan.subject),
        noticed=notices(plan, StagesNoticed(plan, stages), in_public=in_public),
    )
    found = with_measures(found, totals(stages, plan.measures))
    stages.note("values, groups and notices of the page", len(numbers))
    return found


def with_measures(found: Answer, measures: tuple[MeasureTotal, ...]) -> Answer:
    """Return an answer with the measures of all its rows, and what is to be said of them."""
    if not measures:
        return found
    notices = [*found.notices]
    for field, missing in {each.field: each.missing for each in measures}.items():
        if missing:
            have = "has" if missing == 1 else "have"
            message = f"{missing} of {found.total} rows {have} no {field}"
            notices.append(Problem("nothing-to-measure", message, "They are left out of its measures."))
    if several := len(found.overlap):
        rows, verb = ("1 row stands", "counts") if several == 1 else (f"{several} rows stand", "count")
        message = f"{rows} in several groups and {verb} in each; the measures of all rows take each once"
        notices.append(Problem("measured-in-several", message))
    return replace(found, measures=measures, notices=tuple(notices))


def shown_of(plan: Plan) -> tuple[str, ...]:
    """Return the fields that every row of an answer has."""
    return SHOWN_OF_TERMS if plan.subject.is_terms else SHOWN_OF_ENTRIES


def _too_many(grouping: Grouping | None) -> tuple[Problem, ...]:
    """Return the notice of empty groups that are left out because there would be too many."""
    if grouping is None or not grouping.overflow:
        return ()
    message = f"“with empty” would make {grouping.overflow} groups, more than {MOST_GROUPS}"
    return (Problem("too-many-groups", message, "The empty ones are left out; group by fewer fields."),)


def _failing(grouping: Grouping | None) -> tuple[Problem, ...]:
    """Return the notice of groups that the condition on groups leaves out."""
    if grouping is None or not grouping.failing:
        return ()
    groups = "1 group fails" if grouping.failing == 1 else f"{grouping.failing} groups fail"
    return (Problem("failing-groups", f"{groups} the condition after having"),)


def _cut_off(plan: Plan, grouping: Grouping | None) -> tuple[Problem, ...]:
    """Return the notice of groups that a limit does not show: how many, and how often rows stand in them."""
    kept = grouping.kept(plan.group_limit) if grouping else 0
    if grouping is None or kept == len(grouping.codes):
        return ()
    values = int(grouping.turns[-1]) + 1 - (plan.group_limit or 0)
    count = int(grouping.counts[kept:].sum())
    rows = "1 row stands" if count == 1 else f"rows stand {count} times"
    noun, of = ("value", f" of {plan.groups[0].field.name}") if len(plan.groups) > 1 else ("group", "")
    groups = f"1 more {noun}{of} is" if values == 1 else f"{values} more {noun}s{of} are"
    message = f"{groups} not shown, in which {rows}"
    return (Problem("more-groups", message, f"limit {plan.group_limit} groups shows the first ones."),)


class _Overlaps(Mapping[str, tuple[str, ...]]):
    """The rows that stand in several groups, with the labels of these; worked out when one is looked at."""

    def __init__(self, grouping: Grouping, ids: Sequence[str]) -> None:
        self.grouping = grouping
        self.ids = ids

    @cached_property
    def labels(self) -> dict[str, tuple[str, ...]]:
        """The labels of the groups of each row, by its id."""
        grouping, rows = self.grouping, self.grouping.stages.rows
        groups, places = grouping.overlap
        found: dict[str, tuple[str, ...]] = {self.ids[row]: () for row in rows[np.unique(places)].tolist()}
        for row, number in zip(rows[places].tolist(), groups.tolist(), strict=True):
            found[self.ids[row]] += (grouping.label(number),)
        return found

    def __reduce__(self) -> tuple[type[dict[str, tuple[str, ...]]], tuple[dict[str, tuple[str, ...]]]]:
        """Travel as what it holds: an answer that is sent elsewhere takes no columns with it."""
        return dict, (self.labels,)

    def __len__(self) -> int:
        return self.grouping.several

    def __iter__(self) -> Iterator[str]:
        return iter(self.labels)

    def __getitem__(self, name: str) -> tuple[str, ...]:
        return self.labels[name]


class Cut:
    """One page of an answer: of its rows, or of their placements in groups. Raises NoSuchPage.

    There are ``total`` rows, the last ``filled`` of which fill up.
    """

    def __init__(
        self, plan: Plan, grouping: Grouping | None, total: int, page: int | str, filled: int = 0
    ) -> None:
        self.plan = plan
        self.grouping = grouping
        self.every = total
        self.filled = filled
        self.per_group = plan.per_group
        self.size = plan.per_page
        self.groups_kept = grouping.kept(plan.group_limit) if grouping else 0
        self.sizes = grouping.shown(self.groups_kept, plan.per_group) if grouping else None
        self.total = total if self.sizes is None else int(self.sizes.sum())
        self.pages = max(1, -(-self.total // self.size)) if self.size else 1
        self.page = _page_number(page, self.pages, self.size)
        self.first = (self.page - 1) * self.size if self.size else 0

    def answer(
        self,
        *,
        question: str,
        clock: Clock,
        matched: int,
        rows: tuple[Row, ...],
        ids: Sequence[str],
        noticed: Iterable[Problem],
    ) -> Answer:
        """Return the answer with this page; ``rows`` are those on it, ``ids`` those of the table."""
        plan, grouping = self.plan, self.grouping
        return Answer(
            question=question,
            matched=matched,
            total=self.every,
            offset=plan.offset,
            page=self.page,
            pages=self.pages,
            per_page=plan.per_page,
            rows=rows,
            at=from_instant(clock.now, clock.zone),
            subject=plan.subject,
            shown=shown_of(plan),
            mentioned=tuple(field.name for field in plan.fields),
            columns=tuple(field.name for field in plan.show),
            notices=(
                *plan.notices,
                *noticed,
                *_too_many(grouping),
                *_failing(grouping),
                *_cut_off(plan, grouping),
            ),
            groups=self.groups(grouping, ids) if grouping else None,
            grouped_by=tuple(key.field.name for key in plan.groups),
            placements=int(grouping.counts.sum()) if grouping else None,
            overlap=_Overlaps(grouping, ids) if grouping else {},
            unpublished=plan.unpublished,
            filled=self.filled,
        )

    @property
    def bounds(self) -> tuple[int, int]:
        """The places of the page among the rows, or among those of their placements that are shown."""
        return self.first, min(self.first + self.size, self.total) if self.size else self.total

    @cached_property
    def chosen(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The groups and places of the placements on the page."""
        if self.grouping is None or not self.total:
            return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
        return self.grouping.between(*self.bounds, self.groups_kept, self.per_group)

    @property
    def places(self) -> NDArray[np.int64]:
        """The places of the rows that stand in groups on the page, each once, as they come there."""
        found = self.chosen[1]
        _, first = np.unique(found, return_index=True)
        return found[np.sort(first)]

    def rows(self, stages: Stages) -> NDArray[np.intp]:
        """Return the rows that stand in groups on the page, each once."""
        # Where only counts are shown, nobody needs to know the order of the rows.
        return stages.rows[self.places] if self.total else np.zeros(0, dtype=np.intp)

    def groups(self, grouping: Grouping, ids: Sequence[str]) -> tuple[Group, ...]:
        """Return the groups of the page; ``ids`` are those of the table."""
        here: dict[int, list[str]] = {number: [] for number in self.numbers()}
        numbers, places = self.chosen
        placed = grouping.stages.rows[places] if len(places) else places
        for number, row in zip(numbers.tolist(), placed.tolist(), strict=True):
            here[number].append(ids[row])
        return tuple(self.group(grouping, number, names) for number, names in here.items())

    def numbers(self) -> list[int]:
        """Return the groups of the page: those with a row on it, and the empty ones behind those rows."""
        if not self.size or self.sizes is None:
            return list(range(self.groups_kept))
        ends = np.cumsum(self.sizes)
        starts = ends - self.sizes
        # A group without rows belongs to the page of the placement before it.
        firsts = np.where(starts < ends, starts, np.maximum(starts - 1, 0)) // self.size
        lasts = np.where(starts < ends, ends - 1, np.maximum(starts - 1, 0)) // self.size
        found: list[int] = np.flatnonzero((firsts < self.page) & (lasts >= self.page - 1)).tolist()
        return found

    def group(self, grouping: Grouping, number: int, rows: list[str]) -> Group:
        """Return one group."""
        _, count = grouping.told[number]
        shown = count if self.per_group is None else min(count, self.per_group)
        keys, label = grouping.named(number)
        measures = tuple(each[number] for each in grouping.measures)
        return Group(keys, label, count, shown, tuple(rows), measures)


def _page_number(page: int | str, pages: int, per_page: int | None) -> int:
    """Return the number of a page that exists. Raises NoSuchPage."""
    text = str(page)
    if 1 <= counting_number(text) <= pages:
        return counting_number(text)
    last = "there is only page 1" if pages == 1 else f"the last page is {pages}"
    hint = "" if per_page else "A question is cut into pages by “per page N”."
    raise NoSuchPage([Problem("no-such-page", f"there is no page {quoted(text)}: {last}", hint)])
