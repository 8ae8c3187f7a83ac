"""A site as it will be: with some entries more that match a question and are newer than all others."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from elenchus.engine.stages import select
from elenchus.errors import NoSuchName, Problem
from elenchus.table.identity import identity
from elenchus.table.record import Raw, Record
from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.plan.nodes import Plan
    from elenchus.site.site import Site

__all__ = ["pretended"]

OWN = ("id", "slug", "title", "date", "status", "expires", "pinned", "address")
MOST = 1_000


def pretended(site: Site, plan_on: Callable[[Site], Plan], count: int) -> Site:
    """Return the site with ``count`` more entries like the newest one that matches, and newer than it.

    ``plan_on`` returns the plan of the question on a site: plans hold the numbers of rows.
    They are dated now. Where such an entry would not match, because the question asks for another time,
    they have the date of the one they are made from. Raises NoSuchName where no entry matches.
    """
    plan = plan_on(site)
    if plan.taxonomy:
        message = "only entries can be pretended, and these rows are terms"
        raise NoSuchName([Problem("nothing-to-pretend", message)])
    rows = np.flatnonzero(select(plan, site.dataset, site.clock).matched)
    if not len(rows):
        message = "no entry matches, so there is none to make others from"
        raise NoSuchName([Problem("nothing-to-pretend", message, "Ask for what has at least one entry.")])
    count, pattern = min(count, MOST), int(rows[0])  # rows are stored newest first
    second, dated = 1_000_000, int(site.dataset.entries.opens[pattern])
    found = site
    for first in (site.clock.now - (count - 1) * second, max(dated, 0) + second):
        found = site.with_entries(copies(site, pattern, count, first))
        matched = select(plan_on(found), found.dataset, found.clock).matched
        made = [row for name in names(count) for row in found.dataset.find_entry(name)]
        if np.all(matched[made]):
            break
    return found


def copies(site: Site, row: int, count: int, moment: int) -> list[Record]:
    """Return entries like the one of a row, the last at an instant, each a second newer than the next."""
    name = site.dataset.entries.ids[row]
    record = next(each for each in site.written[0] if identity(each).id == name)
    kept = {key: raw for key, raw in record.values.items() if key not in OWN}
    found = []
    for number, pretended_id in enumerate(names(count), start=1):
        date = from_instant(moment + (count - number) * 1_000_000, site.clock.zone)
        values = {
            **kept,
            "id": Raw(pretended_id),
            "title": Raw(f"Pretended {number}"),
            "date": Raw(date.isoformat()),
        }
        found.append(Record(record.place, record.kind, pretended_id, values))
    return found


def names(count: int) -> list[str]:
    """Return the ids of pretended entries, the newest first."""
    return [f"pretended-{number}" for number in range(1, count + 1)]
