"""How many entries a site has, how many of them the public sees, and what keeps the others back."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from elenchus.checks.records import entries_lost
from elenchus.schema.types import STATUSES
from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from collections.abc import Mapping
    from datetime import datetime

    from numpy.typing import NDArray

    from elenchus.site.site import Site

__all__ = ["Ahead", "Census", "census"]

_NEVER = 2**63 - 1


class Ahead(NamedTuple):
    """Entries that the public sees later: their number, from when the first, from when the last."""

    number: int
    first: datetime
    last: datetime


class Census(NamedTuple):
    """What became of what sources hold: ``found`` is all of it.

    ``held`` has what keeps entries back for good, in words, with how many; ``wrong`` are those of them that a
    problem keeps back. ``ahead`` are those with a date to come, ``over`` is how many have expired.
    """

    found: int
    public: int
    held: Mapping[str, int]
    wrong: int
    ahead: Ahead | None
    over: int


def census(site: Site, kind: str = "") -> Census:
    """Return how many entries of a site, or of one kind, are public now, and what keeps the others back."""
    data, view = site.dataset, site.engine.view()
    mine = np.ones(len(data.entries), np.bool_)
    if kind:
        mine = data.entries.kinds == data.kind_names.index(kind)
    public = view.visible & mine
    opens, closes = data.entries.opens, data.entries.closes
    over = mine & ~public & (closes <= view.now)
    waits = mine & ~public & ~over & (opens > view.now) & (opens < _NEVER)
    left = mine & ~public & ~over & ~waits
    held = _held(site, left)
    wrong = held.get(_UNKNOWN, 0) + held.get(_UNREADABLE, 0)
    lost = 0
    if not kind:
        lost = sum(map(entries_lost, data.problems))
        if lost:
            held[_LEFT_OUT] = lost
            wrong += lost
    ahead = None
    if waits.any():
        first, last = int(opens[waits].min()), int(opens[waits].max())
        ahead = Ahead(int(waits.sum()), from_instant(first, data.zone), from_instant(last, data.zone))
    return Census(int(mine.sum()) + lost, int(public.sum()), held, wrong, ahead, int(over.sum()))


_UNKNOWN = "with an unknown status"
_UNREADABLE = "with an unreadable date"
_UNDATED = "scheduled without a date"
_LEFT_OUT = "unreadable or with a duplicate slug or id"


def _held(site: Site, left: NDArray[np.bool_]) -> dict[str, int]:
    """Return what keeps some entries back: the first reason of each."""
    data = site.dataset
    found: Counter[str] = Counter()
    unknown = {row for row, field in data.misfits_by_row if field == "status"}
    unreadable = {row for row, field in data.misfits_by_row if field in ("date", "expires")}
    statuses = data.statuses
    drafts = statuses.valid & (statuses.keys == STATUSES.index("draft"))
    withdrawn = statuses.valid & (statuses.keys == STATUSES.index("withdrawn"))
    rows = np.flatnonzero(left & ~drafts & ~withdrawn).tolist()
    if count := int((left & drafts).sum()):
        found["draft"] = count
    if count := int((left & withdrawn).sum()):
        found["withdrawn"] = count
    for row in rows:
        found[_UNKNOWN if row in unknown else _UNREADABLE if row in unreadable else _UNDATED] += 1
    return dict(found)
