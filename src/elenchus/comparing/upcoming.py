"""What listings will gain and lose by time alone: entries that appear or expire, windows of days that move.

Nothing is tried at regular moments. The instants at which an answer can change are known: where entries
become public or cease to be, where local days begin for questions that name days, and where dates begin and
end for questions that name now. Between two of them it is the same.
"""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from elenchus.asking.query import Query
from elenchus.checks.survey import Survey
from elenchus.comparing.changes import ListingChange, listing_changes
from elenchus.comparing.showing import Showing
from elenchus.engine.columns.column import Dates, Lists
from elenchus.errors import ElenchusError
from elenchus.frozen import Frozen, Working, replace
from elenchus.plan.nodes import Counted, FieldRef, Test, Via
from elenchus.plan.walking import walk
from elenchus.schema.types import Type
from elenchus.values.dates import days_between, from_instant, start_of

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

    from numpy.typing import NDArray

    from elenchus.plan.nodes import Plan
    from elenchus.site.inheritance import Listing
    from elenchus.site.site import Site

__all__ = ["Coming", "titles_in", "upcoming"]


class Coming(Frozen):
    """What becomes of a listing at an instant (microseconds since 1970).

    ``appear`` and ``expire`` are the entries that become public then, or cease to be, by their ids.
    """

    at: int
    change: ListingChange
    appear: frozenset[str]
    expire: frozenset[str]


def upcoming(
    site: Site, until: int, names: Sequence[str] = (), tick: Callable[[], None] = lambda: None
) -> list[Coming]:
    """Return what becomes of listings after the site's now, up to an instant, in the order of time.

    ``names`` are the listings that are wanted, all if empty; those that cannot be asked are left out.
    ``tick`` is called for each listing.
    """
    future = _Future(site, until)
    found: list[Coming] = []
    for name in names or site.library.names:
        found += _Course(future, site.library.get(name)).changes()
        tick()
    return sorted(found, key=lambda each: (each.at, each.change.listing))


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
    def sites(self) -> dict[int, Site]:
        """The site at the instants at which something was asked."""
        return {}

    def at(self, instant: int) -> Site:
        """Return the site at an instant; its content is that of now."""
        if instant not in self.sites:
            self.sites[instant] = self.site.at(instant)
        return self.sites[instant]

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

    @cached_property
    def moments(self) -> list[int]:
        """The instants at which a date of content begins or ends, before and after each."""
        found = [np.zeros(0, dtype=np.int64)]
        for column in self.site.dataset.entries.columns.values():
            dates = column.elements if isinstance(column, Lists) else column
            if isinstance(dates, Dates):
                edges = np.concatenate((dates.keys[dates.valid], dates.ends[dates.valid]))
                found += [edges - 1, edges, edges + 1]
        return [int(each) for each in self.ahead(np.concatenate(found)).tolist()]


class _Course:
    """How the answer of one listing changes with time."""

    def __init__(self, future: _Future, listing: Listing) -> None:
        self.future = future
        self.listing = listing
        self.given = future.survey.sample(listing)
        self.met: dict[Plan, frozenset[str] | None] = {}

    def query(self, instant: int) -> Query:
        """Return the listing as a question at an instant."""
        return Query(self.future.at(instant), self.listing, self.given)

    def changes(self) -> Iterator[Coming]:
        """Yield what becomes of it."""
        now = self.future.site.clock.now
        # A site of its own, so that what its questions depend on is told of this listing alone.
        alone = Query(self.future.site.at(now), self.listing, self.given)
        plan, ids = _asked(alone)
        name = f" {self.listing.name}"
        for instant in self.instants(alone.site.watch):
            query = self.query(instant)
            if plan and query.is_askable and query.plan == plan and not self.is_touched(plan, instant):
                continue
            before = ids
            plan, ids = _asked(query)
            for change in listing_changes({name: before}, {name: ids}):
                yield self.coming(instant, change)

    def instants(self, watch: set[str]) -> list[int]:
        """Return the instants at which its answer can change."""
        found = set(self.future.rows_at)
        if watch:
            found |= set(self.future.days)
        if "instant" in watch:
            found |= set(self.future.moments)
        return sorted(found)

    def is_touched(self, plan: Plan, instant: int) -> bool:
        """Say whether an entry that becomes public at an instant, or ceases to be, can change the answer."""
        rows = self.future.rows_at.get(instant)
        if not rows:
            return False
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
            plan, unpublished=True, lead=(), at_most=None, groups=(), per_group=None,
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


def _asked(query: Query) -> tuple[Plan | None, list[str]]:
    """Return the plan of a question and the ids of its rows; none where it cannot be asked, as check tells.

    A term that only entries have which are not public yet cannot be named before they are.
    """
    try:
        return query.plan, query.ids()
    except ElenchusError:
        return None, []


def _is_plain(plan: Plan) -> bool:
    """Say whether it depends on an entry alone whether it is among the rows of a plan, before limits."""
    if not plan.subject.is_entries or plan.source or plan.fill:
        return False
    tests = list(walk(plan.condition))
    return all(isinstance(each, Test) and _is_own(each.field) for each in tests if hasattr(each, "span"))


def _is_own(field: FieldRef) -> bool:
    """Say whether a field stands in the entry itself, and names no other."""
    return field.type.type is not Type.ENTRY and not isinstance(field.source, Via | Counted)
