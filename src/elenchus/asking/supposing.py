"""A site as it will be: with some entries more that match a question and are newer than all others."""

from __future__ import annotations

from itertools import product
from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.stages import select
from elenchus.engine.verdict import judge
from elenchus.errors import NoSuchName, Problem
from elenchus.table.identity import identity
from elenchus.table.record import Raw, Record
from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from elenchus.plan.nodes import Plan
    from elenchus.site.site import Site

__all__ = ["with_more"]

MOST = 1_000
SECOND = 1_000_000
FIXED = ("id", "slug", "date", "address")  # what each of them must have for itself


def with_more(site: Site, plan_on: Callable[[Site], Plan], count: int) -> Site:
    """Return the site with ``count`` more entries like the newest one that matches, and newer than it.

    ``plan_on`` returns the plan of the question on a site: plans hold the numbers of rows.
    They are dated now and have titles of their own. Where such entries would not match, because the question
    asks for another time or for a title, they have the date or the title of the one they are made from.
    Raises NoSuchName where no entry matches, or where no other one could: it tells what stands against it.
    """
    plan = plan_on(site)
    if plan.taxonomy:
        raise impossible("only entries can be added as if, and these rows are terms")
    rows = np.flatnonzero(select(plan, site.dataset, site.clock).matched)
    if not len(rows):
        raise impossible("no entry matches, so there is none to make others from", "Ask for what has one.")
    count, pattern = min(count, MOST), int(rows[0])  # rows are stored newest first
    found = site
    for first, own_titles in product(starts(site, pattern, count), (True, False)):
        found = site.with_entries(copies(site, pattern, count, first, own_titles=own_titles))
        matched = select(plan_on(found), found.dataset, found.clock).matched
        made = [row for name in names(count) for row in found.dataset.find_entry(name)]
        if len(made) == count and np.all(matched[made]):
            return found
    verdict = judge(plan_on(found), found.dataset, found.clock, found.dataset.find_entry(names(count)[0])[0])
    against = "; ".join(each.words for each in verdict.findings if not each.holds and not each.depth)
    message = f"no further entry could match: {against or verdict.cut or 'the question names its entries'}"
    raise impossible(message, "Ask without that to see what more entries would do.")


def impossible(message: str, hint: str = "") -> NoSuchName:
    """Return the error of entries that cannot be made up."""
    return NoSuchName([Problem("nothing-as-if", message, hint)])


def starts(site: Site, pattern: int, count: int) -> Iterator[int]:
    """Yield the instants of the entries, each a second newer than the next: now, or its own."""
    yield site.clock.now - (count - 1) * SECOND
    dated = int(site.dataset.entries.opens[pattern])
    yield max(dated, 0) + SECOND
    yield max(dated, 0)


def copies(site: Site, row: int, count: int, moment: int, *, own_titles: bool) -> list[Record]:
    """Return entries like the one of a row, the last at an instant, each a second newer than the next."""
    name = site.dataset.entries.ids[row]
    record = next(each for each in site.written[0] if identity(each).id == name)
    kept = {key: raw for key, raw in record.values.items() if key not in FIXED}
    found = []
    for number, made_id in enumerate(names(count), start=1):
        date = from_instant(moment + (count - number) * SECOND, site.clock.zone)
        values = {**kept, "id": Raw(made_id), "date": Raw(date.isoformat())}
        if own_titles:
            values["title"] = Raw(f"As if {number}")
        kind = site.dataset.kind_of(row)
        found.append(
            Record(record.place, kind, f"{identity(record).slug}-as-if-{number}", values, record.habits)
        )
    return found


def names(count: int) -> list[str]:
    """Return the ids of the added entries, the newest first."""
    return [f"as-if-{number}" for number in range(1, count + 1)]
