"""Plans that differ only in values of comparisons, answered by one statement for all of them.

A statement is built for the first one. What the values of the others are is told by building their
comparisons alone, which have to come out the same but for values; the database then asks the statement for
each row of a small table of values. Whatever an answer asks besides (what cannot be seen, what is matched for
want of a value, what each group has) is asked in the same way, once, when the first of them wants it.

What each of them leaves out, because it stands on its page already, are values as well: each has as many as
the one with the most, the others some that no row has.
"""

from __future__ import annotations

from functools import partial
from itertools import chain
from operator import itemgetter
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from elenchus.frozen import Working, knowing, member, replace
from elenchus.plan.walking import tests_in
from elenchus.tables.backend import Bound
from elenchus.tables.filling import EVERY_ROW, FoundRows, rows_between
from elenchus.tables.groups import keys_of
from elenchus.tables.run import answer_of_tables
from elenchus.tables.shown import small_view
from elenchus.tables.stages import TableStages, holds
from elenchus.values.kept import cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from ibis.expr import types as ir
    from numpy.typing import NDArray

    from elenchus.engine.run import Cut
    from elenchus.engine.view import View
    from elenchus.plan.answer import Answer
    from elenchus.plan.nodes import FieldRef, Plan, Test
    from elenchus.tables.backend import Compared
    from elenchus.tables.executor import TableEngine
    from elenchus.tables.groups import TableKey
    from elenchus.tables.scope import Scope

__all__ = ["answers_together"]

_MOST = 64  # plans of one statement
_MOST_VALUES = 16_384  # that they leave out, all of them together; a statement has each twice, at most 65,535
_NO_ROW = ""  # what no id is
_MOST_FORMS = 4  # statements into which plans are parted by the forms of their comparisons


def answers_together(
    engine: TableEngine, plans: Sequence[Plan], without: Sequence[Sequence[str]], question: str
) -> list[Answer]:
    """Return the first pages of the answers to plans that differ in nothing but values of conditions.

    ``without`` has for each the rows that it leaves out.
    """
    asked = [_PlanWithout(*each) for each in zip(plans, map(tuple, without), strict=True)]
    longest = max(len(each.without) for each in asked)
    at_once = min(_MOST, max(1, _MOST_VALUES // max(1, longest)))
    found: dict[_PlanWithout, Answer] = {}
    for start in range(0, len(asked), at_once):
        left = list(dict.fromkeys(asked[start : start + at_once]))
        for _ in range(_MOST_FORMS):
            if len(left) < 2:  # noqa: PLR2004 - one is asked by itself
                break
            padded = _padded([each.without for each in left])
            group = _Group(engine.found(left[0].plan, padded[0]), tuple(left), padded)
            for each, rows in zip(group.fitting, group.found, strict=True):
                found[each] = answer_of_tables(each.plan, rows, engine.clock, question)
            if left[0] not in found:
                break
            left = [each for each in left if each not in found]
        found |= {each: engine.run(each.plan, question, without=each.without) for each in left}
    return [found[each] for each in asked]


class _PlanWithout(NamedTuple):
    """A plan, and the rows that its answer leaves out."""

    plan: Plan
    without: tuple[str, ...]


def _padded(lists: Sequence[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """Return lists of ids, all as long as the longest."""
    longest = max(map(len, lists))
    return [(*each, *[_NO_ROW] * (longest - len(each))) for each in lists]


class _Group(Working):
    """Plans that differ in values, with what is found of the first; those of its form are asked with it.

    ``without`` are the rows that each leaves out, of all as many.
    """

    first: FoundRows
    every: tuple[_PlanWithout, ...]
    without: Sequence[tuple[str, ...]]
    kept: dict[Any, list[list[tuple[Any, ...]]]] = member(default_factory=dict)
    kept_pages: dict[tuple[FieldRef, ...], _Shown] = member(default_factory=dict)
    kept_views: dict[tuple[FieldRef, ...], tuple[View, dict[str, int]]] = member(default_factory=dict)

    @cached_property
    def tests(self) -> list[list[Test]]:
        """The comparisons of each plan."""
        return [list(tests_in(each.plan.condition)) for each in self.every]

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
        plan = self.every[0].plan
        return not (plan.empty or plan.subject.is_terms) and self.scope.data.backend.joins_each

    @cached_property
    def fitting(self) -> list[_PlanWithout]:
        """The plans that take the form of the first one, and that itself; none where there are no others."""
        if not self.can_be_asked:
            return []
        found = [self.every[at] for at in self.fitting_places]
        return found if len(found) > 1 else []

    @cached_property
    def fitting_places(self) -> list[int]:
        """Which of all plans they are."""
        return [at for at, values in enumerate(self.values) if None not in values]

    @cached_property
    def found(self) -> list[FoundRows]:
        """What each of the fitting plans finds."""
        return [
            _FoundTogether(TableStages(self.scope, each.plan, each.without), self, number)
            for number, each in enumerate(self.fitting)
        ]

    def told(self, says: str, build: Callable[..., ir.Table], *args: Any) -> list[list[tuple[Any, ...]]]:
        """Return the rows of a relation for each of the fitting plans."""
        if (says, args) not in self.kept:
            relation, backend = build(self.first, *args), self.scope.data.backend
            self.kept[says, args] = backend.rows_of_each(relation, self.scope.values, self.signs(), says)
        return self.kept[says, args]

    def signs(self) -> list[dict[int, Any]]:
        """Return the values of each fitting plan by the signs that stand for them in what was built."""
        found: list[dict[int, Any]] = [{} for _ in self.fitting]
        fitting = [self.values[at] for at in self.fitting_places]
        for behind in self.scope.values.leaving_out:
            for mine, at in zip(found, self.fitting_places, strict=True):
                mine.update(enumerate(self.without[at], start=behind + 1))
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
        plan = self.every[0].plan
        sizes = (plan.limit, plan.per_page)
        return min((each for each in sizes if each is not None), default=None)

    def shown(self, fields: Sequence[FieldRef]) -> _Shown:
        """Return the rows of the first page of each fitting plan."""
        key = tuple(fields)
        if key not in self.kept_pages:
            self.kept_pages[key] = self.fetched(key)
        return self.kept_pages[key]

    @cached_property
    def keys(self) -> list[TableKey]:
        """The keys of groups with what all plans have of them."""
        return keys_of(self.first.stages, chain.from_iterable(each.group_counts for each in self.found))

    def view(self, fields: Sequence[FieldRef]) -> tuple[View, dict[str, int]]:
        """Return a view of what stands in groups, or is filled up, on the first pages; and where in it."""
        key = tuple(fields)
        if key not in self.kept_views:
            names = list(dict.fromkeys(name for each in self.found for name in each.page(1)[1]))
            places = {name: at for at, name in enumerate(names)}
            self.kept_views[key] = small_view(self.scope, names, fields), places
        return self.kept_views[key]

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

    @cached_property
    def keys(self) -> list[TableKey]:
        """See :class:`FoundRows`."""
        return self.group.keys

    def asked_of_groups(self, *_: Any) -> tuple[None, int | None]:
        """See :class:`FoundRows`: what is asked for has to be the same for all, and enough for each."""
        sizes = [each for each in (self.plan.per_group, self.plan.per_page) if each is not None]
        return None, min(sizes, default=None)

    @cached_property
    def first_page(self) -> tuple[Cut, list[str]]:
        """The first page of what stands in groups or is filled up, with the ids of its rows."""
        return super().page(1)

    def page(self, page: int | str) -> tuple[Cut, list[str]]:  # noqa: ARG002 - the first is meant
        """See :class:`FoundRows`."""
        return self.first_page

    def between(self, first: int, last: int) -> list[str]:
        """See :class:`FoundRows`."""
        rows = self.told(EVERY_ROW, partial(rows_between, numbered=True), 0, self.plan.limit, ("id",))
        own = [name for _, name, *_ in sorted(rows)][: self.own] if self.own else []
        return [*own, *self.more][first:last]

    def viewed(self, _: Sequence[str], fields: Sequence[FieldRef]) -> tuple[View, NDArray[np.intp]]:
        """See :class:`FoundRows`."""
        view, places = self.group.view(fields)
        return view, np.array([places[name] for name in self.first_page[1]], dtype=np.intp)

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
