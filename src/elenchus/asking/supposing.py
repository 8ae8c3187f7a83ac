"""A site as it will be: with some entries more that match a question and are newer than all others."""

from __future__ import annotations

from itertools import product
from typing import TYPE_CHECKING

from elenchus.errors import NoSuchName, NotSupported, Problem
from elenchus.frozen import replace
from elenchus.schema.identity import identity
from elenchus.schema.record import Raw, Record
from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.asking.query import Query
    from elenchus.site.site import Site

__all__ = ["with_more"]

_MOST = 1_000
_SECOND = 1_000_000
_FIXED = ("id", "slug", "date", "address")  # what each of them must have for itself


def with_more(query: Query, count: int) -> Query:
    """Return a query on its site with ``count`` more entries like the newest one that matches, and newer.

    They are dated now and have titles of their own. Where such entries would not match, because the question
    asks for another time or for a title, they have the date or the title of the one they are made from.
    Raises NoSuchName where no entry matches, or where no other one could: it tells what stands against it;
    NotSupported for tables.
    """
    plan, site = query.plan, query.site
    if site.is_of_tables:
        raise NotSupported("entries that are not there")
    if plan.subject.is_terms:
        raise _impossible("only entries can be added as if, and these rows are terms")
    matching = site.executor.matching(plan)  # the newest first
    if not matching:
        raise _impossible("no entry matches, so there is none to make others from", "Ask for what has one.")
    count, pattern = min(count, _MOST), matching[0]
    found = site
    for first, own_titles in product(_starts(site, pattern, count), (True, False)):
        found = site.with_entries(_copies(site, pattern, count, first, own_titles=own_titles))
        if set(_names(count)) <= set(found.executor.matching(plan)):
            return replace(query, site=found)
    verdict = found.executor.judge(plan, _names(count)[0])
    against = "; ".join(each.words for each in verdict.findings if not each.holds and not each.depth)
    message = f"no further entry could match: {against or verdict.cut or 'the question names its entries'}"
    raise _impossible(message, "Ask without that to see what more entries would do.")


def _impossible(message: str, hint: str = "") -> NoSuchName:
    """Return the error of entries that cannot be made up."""
    return NoSuchName([Problem("nothing-as-if", message, hint)])


def _starts(site: Site, pattern: str, count: int) -> Iterator[int]:
    """Yield the instants of the entries, each a second newer than the next: now, or its own."""
    yield site.clock.now - (count - 1) * _SECOND
    dated = int(site.dataset.entries.opens[site.dataset.row_of_id(pattern)])
    yield max(dated, 0) + _SECOND
    yield max(dated, 0)


def _copies(site: Site, pattern: str, count: int, moment: int, *, own_titles: bool) -> list[Record]:
    """Return entries like one, the last at an instant, each a second newer than the next."""
    record = site.content.record(pattern)
    kept = {key: raw for key, raw in record.values.items() if key not in _FIXED}
    found = []
    for number, made_id in enumerate(_names(count), start=1):
        date = from_instant(moment + (count - number) * _SECOND, site.clock.zone)
        values = {**kept, "id": Raw(made_id), "date": Raw(date.isoformat())}
        if own_titles:
            values["title"] = Raw(f"As if {number}")
        kind = identity(record).kind
        found.append(
            Record(record.place, kind, f"{identity(record).slug}-as-if-{number}", values, record.habits)
        )
    return found


def _names(count: int) -> list[str]:
    """Return the ids of the added entries, the newest first."""
    return [f"as-if-{number}" for number in range(1, count + 1)]
