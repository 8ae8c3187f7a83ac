"""The second executor: tables of a database at an instant, asked by plans."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

from elenchus.engine.decode import decode
from elenchus.frozen import Working
from elenchus.plan.explanation import Spent
from elenchus.tables.columns import Scope
from elenchus.tables.filling import FoundRows
from elenchus.tables.shown import no_entries, small_view
from elenchus.tables.stages import TableStages, columns_of, mask_of
from elenchus.tables.terms import TermsEngine

if TYPE_CHECKING:
    from collections.abc import Sequence

    from elenchus.engine.executor import Engine
    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Explanation, Verdict
    from elenchus.plan.nodes import Condition, FieldRef, Plan
    from elenchus.schema.subject import Subject
    from elenchus.tables.data import TableData
    from elenchus.values.dates import Clock

__all__ = ["TableEngine"]


class TableEngine(Working):
    """The tables of a site at the instant of a clock."""

    data: TableData
    clock: Clock

    @cached_property
    def terms(self) -> Engine:
        """What answers questions for terms."""
        scope = Scope(self.data, self.clock.now)
        return TermsEngine(no_entries(scope), self.clock, scope=scope)

    def found(self, plan: Plan, without: Sequence[str] = ()) -> FoundRows:
        """Return what a plan finds, with values of statements of its own."""
        scope = Scope(self.data, self.clock.now, plan.unpublished, columns=columns_of(self.data, plan))
        return FoundRows(TableStages(scope, plan, tuple(without)))

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
        if plan.subject.is_terms:
            return self.terms.run(plan, question, page, without=without, in_public=in_public)
        from elenchus.tables.run import answer_of_tables

        return answer_of_tables(
            plan, self.found(plan, without), self.clock, question, page, in_public=in_public
        )

    def together(self, plans: Sequence[Plan], question: str = "") -> list[Answer]:
        """See :class:`Executor`."""
        return [self.run(plan, question) for plan in plans]

    def ids(self, plan: Plan, *, without: Sequence[str] = ()) -> list[str]:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.ids(plan, without=without)
        found = self.found(plan, without)
        return found.between(0, found.total)

    def count(self, plan: Plan, *, without: Sequence[str] = ()) -> int:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.count(plan, without=without)
        return self.found(plan, without).total

    def matching(self, plan: Plan) -> list[str]:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.matching(plan)
        stages = self.found(plan).stages
        rows = stages.entries.filter(stages.matched).select("id")
        return [name for (name,) in self.data.rows(rows, stages.scope.values)]

    def repeated(self, plan: Plan, without: Sequence[str]) -> list[str]:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.repeated(plan, without)
        stages = self.found(plan, without).stages
        rows = stages.entries.filter(stages.matched & stages.left_out).select("id")
        return [name for (name,) in self.data.rows(rows, stages.scope.values)]

    def parted(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[list[str]]:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.parted(plan, conditions, without=without)
        lists = []
        ids = self.ids(plan, without=without)
        for each in conditions:
            stages = self.found(plan).stages
            rows = stages.entries.filter(mask_of(stages.scope, stages.entries, each)).select("id")
            meeting = {name for (name,) in self.data.rows(rows, stages.scope.values)}
            lists.append([name for name in ids if name in meeting])
        return lists

    def explain(self, plan: Plan, question: str = "", *, without: Sequence[str] = ()) -> Explanation:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.explain(plan, question, without=without)
        from elenchus.tables.explaining import explain_tables

        return explain_tables(self.found(plan, without), self.clock, question)

    def timed(self, plan: Plan, page: int | str = 1) -> list[Spent]:
        """See :class:`Executor`: each statement is a step."""
        backend = self.data.backend
        before, backend.told = backend.told, []
        try:
            self.run(plan, page=page)
            return [Spent(each.says, each.rows, each.time) for each in backend.told]
        finally:
            backend.told = before

    def entries_of(self, kind: str) -> list[tuple[str, str]]:
        """See :class:`Executor`."""
        scope = Scope(self.data, self.clock.now)
        entries = scope.seen
        wanted = entries.filter(entries.kind == scope.values.text(kind)) if kind else entries
        start = wanted.date__start
        rows = wanted.order_by([start.isnull(), start.desc(), wanted.id]).select("id", "title")
        told = self.data.rows(rows, scope.values, "the entries that can be chosen")
        return [(name, title or name) for name, title in told]

    def hidden_terms(self, taxonomy: str) -> frozenset[int]:
        """See :class:`Executor`."""
        return self.data.hidden_terms(taxonomy, self.clock.now)

    def values(self, subject: Subject, name: str, fields: Sequence[FieldRef]) -> list[Any]:
        """See :class:`Executor`."""
        if subject.is_terms:
            return self.terms.values(subject, name, fields)
        view = small_view(Scope(self.data, self.clock.now), [name], fields)
        return [decode(view, field, 0, subject) for field in fields]

    def judge(self, plan: Plan, name: str, *, without: Sequence[str] = ()) -> Verdict:
        """See :class:`Executor`."""
        if plan.subject.is_terms:
            return self.terms.judge(plan, name, without=without)
        from elenchus.tables.explaining import judge_tables

        return judge_tables(self.found(plan, without), name)
