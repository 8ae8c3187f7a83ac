"""What listings will gain and lose by time alone: entries that appear or expire, windows of days that move.

Nothing is tried at regular moments. The instants at which an answer can change are known: where entries
become public or cease to be, where local days begin for questions that name days, and where dates begin and
end for questions that name now. Between two of them it is the same.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from elenchus.asking.query import Query
from elenchus.comparing.changes import ListingChange, listing_changes
from elenchus.comparing.showing import Showing, name_with, sample_for
from elenchus.engine.columns.column import Dates, Lists
from elenchus.frozen import Frozen, Working, replace
from elenchus.pages.survey import Survey
from elenchus.plan.nodes import Counted, FieldRef, Part, Stepped, Test, Via
from elenchus.plan.walking import at_instant, fields_in, is_now, named_rows, tests_in, walk
from elenchus.schema.types import Type
from elenchus.values.dates import days_between, from_instant, start_of
from elenchus.values.kept import Kept, cached_property

if TYPE_CHECKING:
    from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
    from datetime import date

    from numpy.typing import NDArray

    from elenchus.plan.nodes import Plan
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["Coming", "CountChange", "titles_in", "upcoming"]


# Microseconds beside the beginning or the end of a date at which a comparison with now may turn over.
_AROUND = (-1, 0, 1)
_BESIDE = (-2, -1, 0)  # the same counted from the last of them
_FEWEST_KEPT = 8  # sites, each at an instant
_MOST_FLAGS_KEPT = 100_000_000  # in all of them: each has one for every entry, whether it is public then
_COUNTS = ("own", "with_below")  # fields of terms
_ONE_WAY = frozenset({"<", ">", "<=", ">="})


class Coming(Frozen):
    """What becomes of a listing at an instant (microseconds since 1970).

    ``appear`` and ``expire`` are the entries that become public then, or cease to be, by their ids.
    ``counts`` are numbers that it shows and that become others: of its groups, or in a field of its terms.
    """

    at: int
    change: ListingChange
    appear: frozenset[str] = frozenset()
    expire: frozenset[str] = frozenset()
    counts: tuple[CountChange, ...] = ()


class CountChange(NamedTuple):
    """A number that a listing shows, by what it counts: what it was, and what it becomes; 0 for none."""

    label: str
    before: int
    after: int


def upcoming(
    site: Site, until: int, names: Sequence[str] = (), tick: Callable[[], None] = lambda: None
) -> list[Coming]:
    """Return what becomes of listings after the site's now, up to an instant, in the order of time.

    ``names`` are the listings that are wanted; if there are none, these are all listings, and the questions
    that stand in single pages. Those that cannot be asked are left out. ``tick`` is called for each listing.
    """
    future = _Future(site, until)
    found: list[Coming] = []
    for listing in (site.library.get(name) for name in names or site.library.names):
        given = sample_for(future.survey, listing)
        if given is not None:  # of one that asks about the row of a page nothing can be told alone
            usual = list(_Course(future, listing, given).changes())
            told = {_essence(each) for each in usual}
            found += usual
            for other in _choices(listing, given):
                changes = _Course(future, listing, other).changes()
                found += [each for each in changes if _essence(each) not in told]
        tick()
    for label, listing, given in [] if names else _own_questions(future.survey):
        found += _Course(future, listing, given, label).changes()
    return sorted(found, key=lambda each: (each.at, each.change.listing))


def _own_questions(survey: Survey) -> Iterator[tuple[str, Listing, Mapping[str, Sequence[str]]]]:
    """Yield the questions that stand in pages of their own: what each is called, and its values."""
    for page in survey.placed:
        if page.page.here or page.page.rule.private:
            continue
        for section in page.sections:
            if section.rule.ask and section.query:
                name = section.rule.listing or section.rule.title or section.name
                yield f"{name} on /{page.page.address}", section.query.listing, section.query.given


def _choices(listing: Listing, given: Mapping[str, Sequence[str]]) -> Iterator[dict[str, Sequence[str]]]:
    """Yield values as a visitor can choose them: each declared choice of rows, beside those usually given."""
    for name, (rule, _) in listing.parameters.items():
        if name in listing.parameter_names:
            for choice in (*rule.choices, *rule.conditions):
                if list(given.get(name, rule.default)) != [choice]:
                    yield {**given, name: [choice]}


def _essence(coming: Coming) -> tuple[int, frozenset[str], frozenset[str]]:
    """Return what is told of a change already, when the same happens to another choice of the listing."""
    change = coming.change
    entered, left = (frozenset(name for name, _ in each) for each in (change.enters, change.leaves))
    return coming.at, entered, left


def titles_in(site: Site, found: Sequence[Coming]) -> dict[str, str]:
    """Return the titles of the entries that changes name."""
    named: dict[str, None] = {}
    for change in (each.change for each in found):
        named |= dict.fromkeys(name for name, _ in (*change.enters, *change.leaves))
        named |= dict.fromkeys(name for name, _, _ in change.moves)
    return Showing(site).titles(named)


class _Future(Working):
    """A site and the time that is looked at: after its now, up to an instant."""

    site: Site
    until: int

    @cached_property
    def survey(self) -> Survey:
        """What gives listings values with which they can be asked."""
        return Survey(self.site)

    @cached_property
    def sites(self) -> Kept[Site]:
        """The site at the instants at which something was asked last: each knows what is public then."""
        return Kept(max(_FEWEST_KEPT, _MOST_FLAGS_KEPT // max(len(self.site.dataset.entries), 1)))

    def at(self, instant: int) -> Site:
        """Return the site at an instant; its content is that of now."""
        return self.sites.get(instant, lambda: self.site.at(instant))

    def ahead(self, instants: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return those instants that lie ahead, each once."""
        return np.unique(instants[(instants > self.site.clock.now) & (instants <= self.until)])

    @cached_property
    def rows_at(self) -> dict[int, list[int]]:
        """The rows that become public at an instant or cease to be, by that."""
        entries = self.site.dataset.entries
        found: dict[int, list[int]] = {}
        for instants in (entries.opens, entries.closes):
            is_ahead = (instants > self.site.clock.now) & (instants <= self.until)
            for row in np.flatnonzero(is_ahead).tolist():
                found.setdefault(int(instants[row]), []).append(row)
        return found

    @cached_property
    def days(self) -> list[int]:
        """The instants at which local days begin."""
        zone = self.site.clock.zone
        last = from_instant(self.until, zone).date()
        days = list(days_between(self.site.clock.today, last, "day"))[1:]
        return [at for day in days if (at := start_of(day, zone)) <= self.until]

    def moments(self, fields: Collection[str], beside: Sequence[int]) -> list[int]:
        """Return the instants at which dates of some fields begin or end, or so many microseconds beside."""
        found = [np.zeros(0, dtype=np.int64)]
        for (name, _), column in self.site.dataset.entries.columns.items():
            dates = column.elements if isinstance(column, Lists) else column
            if isinstance(dates, Dates) and name in fields:
                found += [dates.keys[dates.valid], dates.ends[dates.valid]]
        edges = np.unique(np.concatenate(found))
        return [int(each) for each in self.ahead(np.concatenate([edges + at for at in beside])).tolist()]


class _Course:
    """How the answer of one listing changes with time."""

    def __init__(
        self, future: _Future, listing: Listing, given: Mapping[str, Sequence[str]], label: str = ""
    ) -> None:
        self.future = future
        self.listing = listing
        self.label = label
        self.given = given
        self.met: dict[Plan, frozenset[str] | None] = {}
        self.watch: set[str] = set()
        self.plans: dict[date, Plan | None] = {}

    def plan(self, instant: int) -> Plan | None:
        """Return the plan at an instant, None where it cannot be asked, as check tells.

        Of one day all are the same but for now.
        """
        site = self.future.at(instant)
        day = site.clock.today
        if day not in self.plans:
            # A site of its own: that tells what the first question it is asked depends on.
            query = Query(self.future.site.at(instant), self.listing, self.given)
            self.plans[day] = query.plan if query.is_askable else None
            self.watch |= query.site.watch
        plan = self.plans[day]
        return at_instant(plan, instant) if plan and "instant" in self.watch else plan

    def ids(self, plan: Plan | None, instant: int) -> list[str]:
        """Return the ids of its rows at an instant."""
        return self.future.at(instant).executor.ids(plan) if plan else []

    def counts(self, plan: Plan | None, instant: int) -> dict[str, int]:
        """Return the numbers that it shows beside its rows at an instant, by what they count."""
        shown = [field.name for field in (*plan.fields, *plan.show) if field.name in _COUNTS] if plan else []
        if plan is None or not (plan.groups or (plan.subject.is_terms and shown)):
            return {}
        answer = self.future.at(instant).executor.run(replace(plan, per_page=None))
        found = {group.label: group.count for group in answer.groups or ()}
        for row in answer.rows if plan.subject.is_terms else ():
            found |= {f"{row['name']} {name}": row[name] for name in dict.fromkeys(shown)}
        return found

    def changes(self) -> Iterator[Coming]:
        """Yield what becomes of it."""
        at = self.future.site.clock.now
        plan = self.plan(at)
        if not plan:
            return
        ids, counts = self.ids(plan, at), self.counts(plan, at)
        for instant in self.instants():
            then = self.plan(instant)
            if then == plan and not self.is_touched(plan, instant):
                continue
            found, counted = self.ids(then, instant), self.counts(then, instant)
            changes = list(self.between(at, instant, (ids, found))) if found != ids else []
            if told := _count_changes(counts, counted):
                if not changes or changes[-1].at != instant:
                    same = ListingChange("", self.name, len(ids), len(found), (), (), ())
                    changes.append(Coming(instant, same))
                changes[-1] = replace(changes[-1], counts=told)
            yield from changes
            at, plan, ids, counts = instant, then, found, counted

    @property
    def name(self) -> str:
        """What it is called, with the values that it is asked with."""
        return self.label or name_with(self.listing, self.given)

    def between(self, before: int, last: int, ends: tuple[list[str], list[str]]) -> Iterator[Coming]:
        """Yield what becomes of it from one instant to another, at the first of those side by side."""
        name, ids = f" {self.name}", ends[0]
        for beside in _BESIDE if "instant" in self.watch else _BESIDE[-1:]:
            instant = last + beside
            if instant > before:
                found = ends[1] if instant == last else self.ids(self.plan(instant), instant)
                for change in listing_changes({name: ids}, {name: found}):
                    yield self.coming(instant, change)
                ids = found

    def instants(self) -> list[int]:
        """Return the instants at which its answer can change, in order, the last of those side by side."""
        found = set(self.future.rows_at)
        if self.watch:
            found |= set(self.future.days)
        if "instant" in self.watch:
            found |= set(self.future.moments(self.fields, _AROUND if self.meets_now else _AROUND[-1:]))
        return sorted(found)

    @property
    def meets_now(self) -> bool:
        """Say whether a date is to be now, so that an answer can hold for one instant only.

        Before and after now are turned over once at each edge: the last instant there tells whether they are.
        """
        plans = [plan for plan in self.plans.values() if plan]
        tests = [each for plan in plans for each in _tests_of(plan) if any(map(is_now, each.values))]
        return any(each.operator not in _ONE_WAY for each in tests)

    @property
    def fields(self) -> set[str]:
        """The fields whose dates are compared with now, or with anything else."""
        plans = [plan for plan in self.plans.values() if plan]
        return {each.name for plan in plans for each in _fields_of(plan) if each.type.type.is_date}

    def is_touched(self, plan: Plan | None, instant: int) -> bool:
        """Say whether an entry that becomes public at an instant, or ceases to be, can change the answer."""
        rows = self.future.rows_at.get(instant)
        if not rows or plan is None:
            return bool(rows)
        met = self.matching(plan)
        ids = self.future.site.dataset.entries.ids
        return met is None or any(ids[row] in met for row in rows)

    def matching(self, plan: Plan) -> frozenset[str] | None:
        """Return the entries that meet the conditions of a plan, public or not.

        None where it depends on others than themselves whether they do.
        """
        if plan not in self.met:
            self.met[plan] = self.asked_of_all(plan) if _is_plain(plan) else None
        return self.met[plan]

    def asked_of_all(self, plan: Plan) -> frozenset[str]:
        """Return the entries that meet the conditions of a plan, public or not."""
        bare = replace(
            plan, unpublished=True, lead=(), at_most=None, groups=(), group_limit=None, per_group=None,
            offset=0, limit=None, per_page=None, notices=(),
        )  # fmt: skip
        return frozenset(self.future.site.executor.ids(bare))

    def coming(self, instant: int, change: ListingChange) -> Coming:
        """Return a change with what brings it about."""
        entries = self.future.site.dataset.entries
        rows = self.future.rows_at.get(instant, [])
        opened = frozenset(entries.ids[row] for row in rows if entries.opens[row] == instant)
        closed = frozenset(entries.ids[row] for row in rows if entries.closes[row] == instant)
        enters = {name for name, _ in change.enters}
        leaves = {name for name, _ in change.leaves}
        return Coming(instant, change, opened & enters, closed & leaves)


def _count_changes(before: Mapping[str, int], after: Mapping[str, int]) -> tuple[CountChange, ...]:
    """Return the numbers that become others."""
    both = {label: (before.get(label, 0), after.get(label, 0)) for label in (*before, *after)}
    return tuple(CountChange(label, *pair) for label, pair in both.items() if pair[0] != pair[1])


def _tests_of(plan: Plan) -> Iterator[Test]:
    """Yield the comparisons of a plan and of those that its rows come from."""
    yield from tests_in(plan.condition)
    for rows in named_rows(plan):
        yield from _tests_of(rows.plan)


def _fields_of(plan: Plan) -> Iterator[FieldRef]:
    """Yield the fields that the conditions of a plan compare, and those on the way to them."""
    for field in fields_in(plan.condition):
        yield from _steps(field)
    for rows in named_rows(plan):
        yield from _fields_of(rows.plan)


def _steps(field: FieldRef) -> Iterator[FieldRef]:
    """Yield a field and those that it is made of."""
    yield field
    match field.source:
        case Via():
            yield from (*_steps(field.source.first), *_steps(field.source.then))
        case Part() | Stepped():
            yield from _steps(field.source.of)
        case Counted():
            yield from _steps(field.source.field)


def _is_plain(plan: Plan) -> bool:
    """Say whether it depends on an entry alone whether it is among the rows of a plan, before limits."""
    if not plan.subject.is_entries or plan.source or plan.fill:
        return False
    tests = list(walk(plan.condition))
    return all(isinstance(each, Test) and _is_own(each.field) for each in tests if hasattr(each, "span"))


def _is_own(field: FieldRef) -> bool:
    """Say whether a field stands in the entry itself, and names no other."""
    return field.type.type is not Type.ENTRY and not isinstance(field.source, Via | Counted)
