"""The second executor: tables of a database at an instant, asked by plans."""

from __future__ import annotations

from functools import wraps
from typing import TYPE_CHECKING, Any, Concatenate, ParamSpec, TypeVar

from elenchus.engine.decode import decode
from elenchus.frozen import Working, member
from elenchus.plan.explanation import Spent
from elenchus.plan.walking import likenesses_in
from elenchus.tables.expressions import newest_first
from elenchus.tables.filling import FoundRows
from elenchus.tables.scope import Scope
from elenchus.tables.shown import no_entries, small_view
from elenchus.tables.stages import TableStages, columns_of
from elenchus.tables.terms import TermsEngine
from elenchus.values.kept import Kept, cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from elenchus.engine.executor import Engine
    from elenchus.plan.answer import Answer
    from elenchus.plan.explanation import Explanation, Verdict
    from elenchus.plan.nodes import Condition, FieldRef, Plan
    from elenchus.schema.subject import Subject
    from elenchus.tables.data import TableData
    from elenchus.values.dates import Clock

__all__ = ["TableEngine"]


_MOST_KEPT = 2_000  # answers that are kept, the last ones: pages ask for the same, and check before publish
_MOST_LISTS = 128  # of all ids of an answer
_MOST_MASKS = 50  # conditions whose rows are told by one statement
_Rest = ParamSpec("_Rest")
_Found = TypeVar("_Found")


def _of_entries(
    method: Callable[Concatenate[TableEngine, Plan, _Rest], _Found],
) -> Callable[Concatenate[TableEngine, Plan, _Rest], _Found]:
    """Let a method have plans for entries only; those for terms go to what has terms in memory."""

    @wraps(method)
    def chosen(self: TableEngine, plan: Plan, /, *args: _Rest.args, **kwargs: _Rest.kwargs) -> _Found:
        if plan.subject.is_terms:
            found: _Found = getattr(self.terms, method.__name__)(plan, *args, **kwargs)
            return found
        return method(self, plan, *args, **kwargs)

    return chosen


class TableEngine(Working):
    """The tables of a site at the instant of a clock."""

    data: TableData
    clock: Clock
    kept: Kept[Any] = member(default_factory=lambda: Kept(_MOST_KEPT))
    lists: Kept[Any] = member(default_factory=lambda: Kept(_MOST_LISTS))

    @cached_property
    def terms(self) -> Engine:
        """What answers questions for terms."""
        scope = Scope(self.data, self.clock.now)
        return TermsEngine(no_entries(scope), self.clock, scope=scope)

    def found(
        self, plan: Plan, without: Sequence[str] = (), *, besides: Sequence[Condition] = ()
    ) -> FoundRows:
        """Return what a plan finds, with values of statements of its own; ``besides`` is asked of it, too."""
        columns = columns_of(self.data, plan, besides)
        scope = Scope(self.data, self.clock.now, plan.unpublished, columns=columns)
        return FoundRows(TableStages(scope, plan, tuple(without)))

    @_of_entries
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
        from elenchus.tables.run import answer_of_tables

        def made() -> Answer:
            found = self.found(plan, without)
            answer = answer_of_tables(plan, found, self.clock, question, page, in_public=in_public)
            if answer.pages == 1 and answer.groups is None:
                ids = [row.id for row in answer.rows]
                _ = self.lists.get(("ids", plan, tuple(without)), lambda: ids)
            return answer

        found: Answer = self.kept.get(("answer", plan, question, page, tuple(without), in_public), made)
        return found

    def together(
        self, plans: Sequence[Plan], question: str = "", *, without: Sequence[Sequence[str]] = ()
    ) -> list[Answer]:
        """See :class:`Executor`."""
        from elenchus.tables.together import answers_together

        without = without or [()] * len(plans)
        likenesses = {tuple(likenesses_in(plan.condition)) for plan in plans}
        if len(likenesses) > 1:  # what an entry shares with others is part of a statement, and no value of it
            return [self.run(plan, question, without=each) for plan, each in zip(plans, without, strict=True)]
        return answers_together(self, plans, without, question) if plans else []

    @_of_entries
    def ids(self, plan: Plan, *, without: Sequence[str] = ()) -> list[str]:
        """See :class:`Executor`."""
        return list(self.lists.get(("ids", plan, tuple(without)), lambda: self.found(plan, without).ids))

    @_of_entries
    def count(self, plan: Plan, *, without: Sequence[str] = ()) -> int:
        """See :class:`Executor`."""
        return int(self.kept.get(("count", plan, tuple(without)), lambda: self.found(plan, without).total))

    @_of_entries
    def matching(self, plan: Plan) -> list[str]:
        """See :class:`Executor`."""
        stages = self.found(plan).stages
        return stages.ids(stages.matched)

    @_of_entries
    def repeated(self, plan: Plan, without: Sequence[str]) -> list[str]:
        """See :class:`Executor`."""
        stages = self.found(plan, without).stages
        return stages.ids(stages.matched & stages.left_out)

    @_of_entries
    def parted(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[list[str]]:
        """See :class:`Executor`."""
        ids, lists = self.ids(plan, without=without), list[list[str]]()
        for first in range(0, len(conditions), _MOST_MASKS):
            some = tuple(conditions[first : first + _MOST_MASKS])
            # Who meets them is the same for all plans, and forms on many pages offer the same values.
            meeting = self.lists.get(
                ("masks", plan.unpublished, some),
                lambda some=some: self.found(plan, besides=some).meeting(some),  # type: ignore[misc]
            )
            lists += [[name for name in ids if name in meeting[at]] for at in range(len(some))]
        return lists

    def counts(
        self, plan: Plan, conditions: Sequence[Condition], *, without: Sequence[str] = ()
    ) -> list[int]:
        """See :class:`Executor`."""
        return [len(ids) for ids in self.parted(plan, conditions, without=without)]

    @_of_entries
    def explain(self, plan: Plan, question: str = "", *, without: Sequence[str] = ()) -> Explanation:
        """See :class:`Executor`."""
        from elenchus.tables.explaining import explain_tables

        return explain_tables(self.found(plan, without), self.clock, question)

    def timed(self, plan: Plan, page: int | str = 1) -> list[Spent]:
        """See :class:`Executor`: each statement is a step."""
        from elenchus.tables.opening import recorded

        with recorded(self.data) as (told, _):
            type(self)(self.data, self.clock).run(plan, page=page)  # which has kept nothing
        return [Spent(each.says, each.rows, each.time * 1e6) for each in told]

    def entries_of(self, kinds: Sequence[str]) -> list[tuple[str, str]]:
        """See :class:`Executor`."""
        scope = Scope(self.data, self.clock.now)
        entries = scope.seen
        wanted = entries.filter(scope.values.among(entries.kind, kinds)) if kinds else entries
        rows = wanted.order_by(newest_first(wanted)).select("id", "title")
        told = scope.rows(rows, "the entries that can be chosen")
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

    @_of_entries
    def judge(self, plan: Plan, name: str, *, without: Sequence[str] = ()) -> Verdict:
        """See :class:`Executor`."""
        from elenchus.tables.explaining import judge_tables

        return judge_tables(self.found(plan, without), name, lambda other: self.found(other, without))
