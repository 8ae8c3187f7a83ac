"""Plans that differ only in values of comparisons, answered by one statement for all of them.

A statement is built for the first one. What the values of the others are is told by building their
comparisons alone, which have to come out the same but for values; the database then asks the statement for
each row of a small table of values. Whatever an answer asks besides (what cannot be seen, what is matched for
want of a value) is asked in the same way, once, when the first of them wants it.
"""

from __future__ import annotations

from functools import cached_property, partial
from operator import itemgetter
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.frozen import Working, knowing, member, replace
from elenchus.plan.walking import tests_in
from elenchus.tables.backend import Bound
from elenchus.tables.filling import EVERY_ROW, FoundRows, rows_between
from elenchus.tables.run import answer_of_tables
from elenchus.tables.shown import small_view
from elenchus.tables.stages import TableStages, holds

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ibis.expr import types as ir
    from numpy.typing import NDArray

    from elenchus.engine.view import View
    from elenchus.plan.answer import Answer
    from elenchus.plan.nodes import FieldRef, Plan, Test
    from elenchus.tables.backend import Compared
    from elenchus.tables.executor import TableEngine
    from elenchus.tables.scope import Scope

__all__ = ["answers_together"]

_MOST = 64  # plans of one statement
_MOST_FORMS = 4  # statements into which plans are parted by the forms of their comparisons


def answers_together(engine: TableEngine, plans: Sequence[Plan], question: str) -> list[Answer]:
    """Return the first pages of the answers to plans that differ in nothing but values of conditions."""
    found: dict[Plan, Answer] = {}
    for start in range(0, len(plans), _MOST):
        left = list(dict.fromkeys(plans[start : start + _MOST]))
        for _ in range(_MOST_FORMS):
            if len(left) < 2:  # noqa: PLR2004 - one is asked by itself
                break
            group = _Group(engine.found(left[0]), tuple(left))
            for number, plan in enumerate(group.fitting):
                found[plan] = answer_of_tables(plan, group.of(number), engine.clock, question)
            if left[0] not in found:
                break
            left = [plan for plan in left if plan not in found]
        found |= {plan: engine.run(plan, question) for plan in left}
    return [found[plan] for plan in plans]


class _Group(Working):
    """Plans that differ in values, with what is found of the first; those of its form are asked with it."""

    first: FoundRows
    plans: tuple[Plan, ...]
    kept: dict[Any, list[list[tuple[Any, ...]]]] = member(default_factory=dict)
    kept_pages: dict[tuple[FieldRef, ...], _Shown] = member(default_factory=dict)

    @cached_property
    def tests(self) -> list[list[Test]]:
        """The comparisons of each plan."""
        return [list(tests_in(plan.condition)) for plan in self.plans]

    @cached_property
    def varying(self) -> list[int]:
        """The numbers of those comparisons that are not the same in all plans."""
        return [at for at, test in enumerate(self.tests[0]) if any(each[at] != test for each in self.tests)]

    @cached_property
    def values(self) -> list[list[list[Any] | None]]:
        """The values of each plan for each comparison that varies; None where it takes another form."""
        _ = self.scope.seen, self.first.stages.kept  # what comparisons share, and the comparisons
        begun = {at: self.compared(at) for at in self.varying}
        return [[self.values_of(each, tests[at]) for at, each in begun.items()] for tests in self.tests]

    def compared(self, at: int) -> Compared:
        """Return a comparison of the first plan as it was built first."""
        test = self.tests[0][at]
        return next(each for each in self.scope.values.compared if each.test is test)

    def values_of(self, begun: Compared, test: Test) -> list[Any] | None:
        """Return the values of another comparison in the place of one; None where it takes another form."""
        bound = Bound(begun.first, begun.tables)
        scope = knowing(replace(self.scope, values=bound), seen=self.scope.seen)
        mask = holds(scope, begun.entries, test)
        return bound.values[begun.first :] if mask.op() == begun.mask.op() else None

    @property
    def scope(self) -> Scope:
        """The tables as all of them may see them."""
        return self.first.stages.scope

    @property
    def can_be_asked(self) -> bool:
        """Say whether questions such as these can be asked together at all."""
        plan = self.plans[0]
        cannot = plan.groups or plan.fill or plan.empty or plan.subject.is_terms
        return not cannot and self.scope.data.backend.joins_each

    @cached_property
    def fitting(self) -> list[Plan]:
        """The plans that take the form of the first one, and that itself; none where there are no others."""
        if not self.can_be_asked:
            return []
        found = [plan for plan, values in zip(self.plans, self.values, strict=True) if None not in values]
        return found if len(found) > 1 else []

    def of(self, number: int) -> FoundRows:
        """Return what one of the fitting plans finds."""
        return _FoundTogether(TableStages(self.scope, self.fitting[number]), self, number)

    def told(self, says: str, build: Callable[..., ir.Table], *args: Any) -> list[list[tuple[Any, ...]]]:
        """Return the rows of a relation for each of the fitting plans."""
        if (says, args) not in self.kept:
            relation, backend = build(self.first, *args), self.scope.data.backend
            self.kept[says, args] = backend.rows_of_each(relation, self.scope.values, self.signs(), says)
        return self.kept[says, args]

    def signs(self) -> list[dict[int, Any]]:
        """Return the values of each fitting plan by the signs that stand for them in what was built."""
        found: list[dict[int, Any]] = [{} for _ in self.fitting]
        fitting = [each for each in self.values if None not in each]
        place_of = {id(self.tests[0][at]): place for place, at in enumerate(self.varying)}
        for begun in self.scope.values.compared:
            place = place_of.get(id(begun.test))
            if place is None:
                continue
            signs = range(begun.first + 1, begun.first + 1 + len(begun.values))
            for mine, values in zip(found, fitting, strict=True):
                mine.update(zip(signs, values[place] or (), strict=True))
        return found

    @cached_property
    def most(self) -> int | None:
        """How many rows the first page of each plan has at most."""
        sizes = (self.plans[0].limit, self.plans[0].per_page)
        return min((each for each in sizes if each is not None), default=None)

    def shown(self, fields: Sequence[FieldRef]) -> _Shown:
        """Return the rows of the first page of each fitting plan."""
        key = tuple(fields)
        if key not in self.kept_pages:
            self.kept_pages[key] = self.fetched(key)
        return self.kept_pages[key]

    def fetched(self, fields: Sequence[FieldRef]) -> _Shown:
        """Return the rows of the first page of each fitting plan, with all that some fields need of them."""
        rows: list[list[tuple[Any, ...]]] = []

        def fetch(columns: Sequence[str]) -> list[tuple[Any, ...]]:
            told = self.told(EVERY_ROW, partial(rows_between, numbered=True), 0, self.most, tuple(columns))
            rows.extend(sorted(each, key=itemgetter(0)) for each in told)
            return list({row[1]: row[1 : 1 + len(columns)] for each in rows for row in each}.values())

        view = small_view(self.scope, (), fields, fetch=fetch)
        return _Shown(rows, view, {name: at for at, name in enumerate(view.data.entries.ids)})


class _Shown(NamedTuple):
    """The rows of the first pages of plans: place, id, columns, how many in all; and a view that has them."""

    rows: list[list[tuple[Any, ...]]]
    view: View
    places: dict[str, int]


class _FoundTogether(FoundRows):
    """What one of several plans finds that are asked together."""

    group: _Group
    number: int

    def told(self, says: str, build: Callable[..., ir.Table], *args: Any) -> list[tuple[Any, ...]]:
        """See :class:`FoundRows`."""
        return self.group.told(says, build, *args)[self.number]

    def shown(
        self,
        fields: Sequence[FieldRef],
        page: int | str = 1,  # noqa: ARG002 - the first is meant
    ) -> tuple[list[str], View, NDArray[np.intp]]:
        """See :class:`FoundRows`."""
        every, view, places = self.group.shown(fields)
        rows = every[self.number]
        if self.group.most != 0:
            self.know_every(rows, 0, self.group.most)
        names = [row[1] for row in rows]
        return names, view, np.array([places[name] for name in names], dtype=np.intp)
