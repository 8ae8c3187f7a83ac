"""The first executor: a dataset in memory at an instant, asked by plans."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from elenchus.engine.driving import meeting
from elenchus.engine.likeness import foremost_alike
from elenchus.engine.select import Selection
from elenchus.engine.stages import select
from elenchus.engine.view import View
from elenchus.engine.watch import Watch
from elenchus.frozen import Working, member, replace
from elenchus.plan.nodes import AllOf, SharesTerms
from elenchus.plan.walking import named_rows, parts
from elenchus.values.kept import Kept

if TYPE_CHECKING:
    from collections.abc import Sequence

    from numpy.typing import NDArray

    from elenchus.engine.columns.dataset import Dataset
    from elenchus.engine.stages import Stages
    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Explanation, Spent, Verdict
    from elenchus.plan.nodes import Condition, FieldRef, Plan
    from elenchus.schema.subject import Subject
    from elenchus.values.dates import Clock

__all__ = ["Engine"]

_MOST_KEPT = 48  # answers whose steps are kept, the last ones: a page asks for the same rows several times


class Engine(Working):
    """A dataset at the instant of a clock.

    All questions share two views: that of visitors, and that of those who may see what is not public. What
    they work out (masks, columns, counts of terms) is worked out once. It can be used by several threads.
    """

    data: Dataset
    clock: Clock
    views: dict[bool, View] = member(default_factory=dict)
    kept: Kept[Stages] = member(default_factory=lambda: Kept(_MOST_KEPT))

    def view(self, *, unpublished: bool = False) -> View:
        """Return what visitors may see, or all there is."""
        if unpublished not in self.views:
            self.views[unpublished] = View(self.data, self.clock.now, unpublished)
        return self.views[unpublished]

    def selection(self, plan: Plan, *, besides: int | None = None) -> Selection:
        """Return what the conditions of a plan are asked of, with the rows of the listings that it names.

        ``besides`` is an entry that is let in although it may not be seen.
        """
        view = self.view(unpublished=plan.unpublished)
        if besides is not None and plan.subject.is_entries and not view.visible[besides]:
            view = View(self.data, self.clock.now, plan.unpublished, besides)
        listed = {rows: self.select(rows.plan).rows for rows in dict.fromkeys(named_rows(plan))}
        return Selection(view, plan.subject, listed)

    def select(self, plan: Plan, without: NDArray[np.intp] | None = None) -> Stages:
        """Return the rows of a plan, with the steps on the way; ``without`` are rows to be left out."""
        key = (plan, None if without is None else without.tobytes())
        return self.kept.get(key, lambda: select(plan, self.selection(plan), without=without))

    def rows_of(self, subject: Subject, names: Sequence[str]) -> NDArray[np.intp]:
        """Return the rows of some ids, as far as there are any."""
        if subject.is_terms:
            numbers = {name: row for row, name in enumerate(self.view().ids(subject))}
            rows = [numbers.get(name, -1) for name in names]
        else:
            rows = list(map(self.data.row_of_id, names))
        return np.array([row for row in rows if row >= 0], dtype=np.intp)

    def left_out(self, plan: Plan, without: Sequence[str]) -> NDArray[np.intp] | None:
        """Return the rows that an answer leaves out; None where it leaves out none."""
        return self.rows_of(plan.subject, without) if without else None

    # As an executor

    def run(
        self,
        plan: Plan,
        question: str = "",
        page: int | str = 1,
        *,
        without: Sequence[str] = (),
        in_public: bool = False,
    ) -> Answer:
        """See :class:`Executor`."""
        from elenchus.engine.run import answer

        stages = self.select(plan, self.left_out(plan, without))
        return answer(plan, stages, self.clock, question, page, in_public=in_public)

    def together(
        self, plans: Sequence[Plan], question: str = "", *, without: Sequence[Sequence[str]] = ()
    ) -> list[Answer]:
        """See :class:`Executor`."""
        from elenchus.engine.run import answer

        if not plans:
            return []
        selection, written = self.selection(plans[0]), [parts(plan.condition) for plan in plans]
        shared = [part for at, part in enumerate(written[0]) if all(each[at] == part for each in written)]
        base = select(replace(plans[0], condition=AllOf(tuple(shared)) if shared else None), selection)
        rows = base.matched_rows
        left_out = [self.left_out(*each) for each in zip(plans, without or [()] * len(plans), strict=True)]
        every = [select(plan, selection, without=gone) for plan, gone in zip(plans, left_out, strict=True)]
        others = [[part for part in each if part not in shared] for each in written]
        likenesses = [own[0] for own in others if len(own) == 1 and isinstance(own[0], SharesTerms)]
        alike = None
        if len(likenesses) == len(plans):
            alike = foremost_alike(plans[0], selection, rows, likenesses, left_out)
        for at, (stages, own) in enumerate(zip(every, others, strict=True)):
            if alike:
                stages.know(alike[at])
            else:
                met = meeting(selection, AllOf(tuple(own)), rows, stages.note) if own else rows
                stages.__dict__["matched_rows"] = met
        return [answer(plan, stages, self.clock, question) for plan, stages in zip(plans, every, strict=True)]

    def ids(self, plan: Plan, *, without: Sequence[str] = ()) -> list[str]:
        """See :class:`Executor`."""
        return self.named(plan, self.select(plan, self.left_out(plan, without)).rows)

    def count(self, plan: Plan, *, without: Sequence[str] = ()) -> int:
        """See :class:`Executor`."""
        return self.select(plan, self.left_out(plan, without)).total

    def matching(self, plan: Plan) -> list[str]:
        """See :class:`Executor`."""
        return self.named(plan, self.select(plan).matched_rows.rows)

    def repeated(self, plan: Plan, without: Sequence[str]) -> list[str]:
        """See :class:`Executor`."""
        return self.named(plan, np.flatnonzero(self.select(plan, self.left_out(plan, without)).repeated))

    def parted(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[list[str]]:
        """See :class:`Executor`."""
        stages = self.select(plan, self.left_out(plan, without))
        masks = (stages.selection.rows(each) for each in conditions)
        return [self.named(plan, stages.rows[mask[stages.rows]]) for mask in masks]

    def counts(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[int]:
        """See :class:`Executor`."""
        stages = self.select(plan, self.left_out(plan, without))
        return [int(stages.selection.rows(each)[stages.rows].sum()) for each in conditions]

    def explain(self, plan: Plan, question: str = "", *, without: Sequence[str] = ()) -> Explanation:
        """See :class:`Executor`."""
        from elenchus.engine.explaining.explain import explain

        return explain(plan, self.select(plan, self.left_out(plan, without)), self.clock, question)

    def timed(self, plan: Plan, page: int | str = 1) -> list[Spent]:
        """See :class:`Executor`."""
        from elenchus.engine.run import answer

        watch = Watch()
        answer(plan, select(plan, self.selection(plan), watch=watch), self.clock, "", page)
        return watch.spent

    def entries_of(self, kinds: Sequence[str]) -> list[tuple[str, str]]:
        """See :class:`Executor`."""
        view = self.view()
        return [
            (name, view.titles.item(row) or name)
            for row, name in enumerate(self.data.entries.ids)
            if view.visible[row] and (not kinds or self.data.kind_of(row) in kinds)
        ]

    def hidden_terms(self, taxonomy: str) -> frozenset[int]:
        """See :class:`Executor`."""
        return self.view().hidden_terms(taxonomy)

    def values(self, subject: Subject, name: str, fields: Sequence[FieldRef]) -> list[Any]:
        """See :class:`Executor`."""
        from elenchus.engine.decode import decode

        [row] = self.rows_of(subject, [name]).tolist()
        return [decode(self.view(), field, row, subject) for field in fields]

    def judge(self, plan: Plan, name: str, *, without: Sequence[str] = ()) -> Verdict:
        """See :class:`Executor`."""
        from elenchus.engine.explaining.verdict import judge

        row = int(self.rows_of(plan.subject, [name])[0])
        return judge(self, plan, row, without=self.left_out(plan, without))

    def named(self, plan: Plan, rows: NDArray[np.intp]) -> list[str]:
        """Return the ids of some rows."""
        return self.view().ids_of(plan.subject, rows)
