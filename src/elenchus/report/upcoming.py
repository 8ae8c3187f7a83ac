"""What is to come, in words: by day, listing by listing."""

from __future__ import annotations

from itertools import groupby
from typing import TYPE_CHECKING, Any

from elenchus.comparing.calendar import happening
from elenchus.pieces.piece import Piece, Role, printable
from elenchus.report.changes import signed
from elenchus.values.dates import from_instant, stamp, to_minute

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence
    from zoneinfo import ZoneInfo

    from elenchus.comparing.upcoming import Coming
    from elenchus.values.dates import Clock

__all__ = ["upcoming_as_data", "upcoming_told"]


def upcoming_told(
    found: Sequence[Coming], titles: Mapping[str, str], clock: Clock, until: int, *, whole: bool = False
) -> Iterator[Piece]:
    """Yield what happens at each moment, listing by listing."""
    for at, changes in groupby(found, key=lambda each: to_minute(from_instant(each.at, clock.zone))):
        yield Piece(f"{at}\n", Role.HEADING)
        for coming in changes:
            change = coming.change
            counts = (
                f"{change.before} → {change.after}" if change.before != change.after else str(change.after)
            )
            yield Piece(f"  {printable(change.listing)}", Role.NAME)
            yield Piece(f"  {counts}\n", Role.FAINT)
            yield from signed(happening(coming, titles), "    ", whole=whole)
    now, end = (to_minute(from_instant(each, clock.zone)) for each in (clock.now, until))
    what = f"{len(found)} changes" if len(found) != 1 else "1 change"
    yield Piece(f"\n{what if found else 'Nothing changes'} by time alone", Role.STRONG)
    yield Piece(f" from {now} to {end} ({clock.zone.key})\n", Role.FAINT)


def upcoming_as_data(
    found: Sequence[Coming], titles: Mapping[str, str], zone: ZoneInfo
) -> list[dict[str, Any]]:
    """Return what is to come as JSON has it."""

    def told(name: str, coming: Coming, **places: int) -> dict[str, Any]:
        why = "appears" if name in coming.appear else "expires" if name in coming.expire else None
        return {"id": name, "title": titles.get(name), **places, **({"because": why} if why else {})}

    return [
        {
            "at": stamp(from_instant(each.at, zone)),
            "listing": each.change.listing,
            "before": each.change.before,
            "after": each.change.after,
            "enters": [told(name, each, at=at) for name, at in each.change.enters],
            "leaves": [told(name, each, was_at=at) for name, at in each.change.leaves],
            "moves": [told(name, each, was_at=old, at=new) for name, old, new in each.change.moves],
            "counts": [count._asdict() for count in each.counts],
        }
        for each in found
    ]
