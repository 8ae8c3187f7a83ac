"""The state of an entry of a dataset at an instant."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.schema.state import Hold, HoldKind, State
from elenchus.schema.types import CORE_FIELDS, STATUSES
from elenchus.values.dates import from_instant
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Iterator

    from elenchus.engine.columns.dataset import Dataset

__all__ = ["state_of"]

_HELD = {"draft": HoldKind.DRAFT, "withdrawn": HoldKind.WITHDRAWN}


def state_of(data: Dataset, now: int, row: int) -> State:
    """Return the state of an entry at an instant, every reason that keeps it back."""
    status = data.core("status").item(row)
    word = CORE_FIELDS["status"].type.choices[status] if status is not None else ""
    flag, beside = data.flags.get(row, ("", ""))
    words = word, fold(beside)
    return State(
        (
            *_by_status(data, row, word, flag, beside),
            *_by_date(data, now, row, is_scheduled="scheduled" in words),
            *_by_end(data, now, row),
        )
    )


def _by_status(data: Dataset, row: int, word: str, flag: str, beside: str) -> Iterator[Hold]:
    """Yield what the status says against an entry, and the flag that stands for it, with the one beside."""
    if written := data.misfit(row, "status"):
        yield Hold(HoldKind.UNKNOWN_STATUS, "status", written)
    elif word in _HELD:
        yield Hold(_HELD[word], flag or "status")
        if fold(beside) in _HELD:
            yield Hold(_HELD[fold(beside)], "status", is_second=True)
        elif beside and fold(beside) not in STATUSES:
            yield Hold(HoldKind.UNKNOWN_STATUS, "status", beside)


def _by_date(data: Dataset, now: int, row: int, *, is_scheduled: bool) -> Iterator[Hold]:
    """Yield what the date says against an entry: it lies ahead, is lacking, or cannot be read."""
    start = data.core("date").item(row)
    if written := data.misfit(row, "date"):
        yield Hold(HoldKind.UNREADABLE_DATE, "date", written)
    elif start is None and is_scheduled:
        yield Hold(HoldKind.UNDATED, "date")
    elif start is not None and start > now:
        yield Hold(HoldKind.SCHEDULED, "date", at=from_instant(start, data.zone))


def _by_end(data: Dataset, now: int, row: int) -> Iterator[Hold]:
    """Yield what the end says against an entry: it is over, or cannot be read."""
    end = int(data.entries.closes[row])
    if written := data.misfit(row, "expires"):
        yield Hold(HoldKind.UNREADABLE_END, "expires", written)
    elif end <= now:
        yield Hold(HoldKind.EXPIRED, "expires", at=from_instant(end, data.zone))
