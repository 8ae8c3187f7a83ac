"""Many dates at once: what the days and times of a whole column are as instants."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Sequence
    from zoneinfo import ZoneInfo

    from numpy.typing import NDArray

__all__ = ["moments"]

_MOST_DAYS = 2**15  # whose bounds are kept: 90 years
_FEWEST = 64  # dates from which on it is worth the while
_WIDTH = 19  # characters of 2026-05-18T09:00:00
_DIGITS = np.array([0, 1, 2, 3, 5, 6, 8, 9])  # of the day
_CLOCK = {16: np.array([11, 12, 14, 15]), 19: np.array([11, 12, 14, 15, 17, 18])}  # of the time, by length
_SIGNS = {4: "-", 7: "-", 10: "T ", 13: ":", 16: ":"}
_SECOND, _MINUTE, _DAY = 1_000_000, 60_000_000, 86_400_000_000
_EPOCH = date(1970, 1, 1).toordinal()
_HALVES = tuple(timedelta(hours=hours) for hours in (0, 12, 24))
_MICROSECOND = timedelta(microseconds=1)
_FIRST, _LAST = date(2, 1, 1), date(9998, 12, 31)  # beyond them a zone can lead out of all years


def moments(values: Sequence[Any], zone: ZoneInfo) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Return the moments of dates written as 2026-05-18, 2026-05-18T09:00 or with seconds, and which are so.

    The first has four columns: the first instant, the same on the site's clocks, the end, and whether it is a
    whole day. What is written in another way, or lies on a day on which the clocks are changed, is left to
    :func:`elenchus.schema.convert.convert`.
    """
    found = np.zeros((len(values), 4), dtype=np.int64)
    if len(values) < _FEWEST:
        return found, np.zeros(len(values), np.bool_)
    chars = _characters(values)
    lengths: NDArray[np.int64] = np.count_nonzero(chars, axis=1)
    is_day = lengths == 10  # noqa: PLR2004 - characters of a day
    known: Any = is_day | (lengths == 16) | (lengths == _WIDTH)  # noqa: PLR2004
    known &= _are_digits(chars, _DIGITS)
    for at, signs in _SIGNS.items():
        is_apart: NDArray[np.bool_] = np.isin(chars[:, at], list(map(ord, signs)))
        known = np.logical_and(known, is_apart | (lengths <= at))
    local_day, is_there = _days(chars)
    known &= is_there
    clock = np.zeros(len(values), dtype=np.int64)
    for length, places in _CLOCK.items():
        of_length = known & (lengths == length)
        known &= ~of_length | _are_digits(chars, places)
        hour, minute = _number(chars, [11, 12]), _number(chars, [14, 15])
        second = _number(chars, [17, 18]) if length == _WIDTH else np.zeros_like(hour)
        known &= ~of_length | ((hour < 24) & (minute < 60) & (second < 60))  # noqa: PLR2004 - a clock's
        clock[of_length] = ((hour * 60 + minute) * 60 + second)[of_length] * _SECOND
    starts, ends, is_even = _bounds(local_day, known, zone)
    known &= is_even
    local = local_day * _DAY + clock
    found[:, 0] = starts + clock
    found[:, 1] = local
    found[:, 2] = np.where(is_day, ends, starts + clock + np.where(lengths == _WIDTH, _SECOND, _MINUTE))
    found[:, 3] = is_day
    return found, known


def _characters(values: Sequence[Any]) -> NDArray[np.uint32]:
    """Return the code points of some values, a row each; none of a text that is too long, or no text."""
    fitting = [value if isinstance(value, str) and len(value) <= _WIDTH else "" for value in values]
    return np.array(fitting, dtype=f"<U{_WIDTH}").view(np.uint32).reshape(len(values), _WIDTH)


def _are_digits(chars: NDArray[np.uint32], places: NDArray[Any]) -> NDArray[np.bool_]:
    """Return which rows have digits at some places."""
    wanted = chars[:, places]
    return np.asarray(np.all((wanted >= ord("0")) & (wanted <= ord("9")), axis=1))


def _number(chars: NDArray[np.uint32], places: list[int]) -> NDArray[np.int64]:
    """Return the numbers that the digits at some places make."""
    found = np.zeros(len(chars), dtype=np.int64)
    for place in places:
        found = found * 10 + chars[:, place].astype(np.int64) - ord("0")
    return found


def _days(chars: NDArray[np.uint32]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Return the days since 1970 that rows name, and which of them the calendar has."""
    year, month, day = (_number(chars, places) for places in ([0, 1, 2, 3], [5, 6], [8, 9]))
    is_there = (year >= _FIRST.year) & (year <= _LAST.year) & (month >= 1) & (month <= 12)  # noqa: PLR2004
    months = np.where(is_there, (year - 1970) * 12 + month - 1, 0)
    first = months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    after = (months + 1).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
    return first + day - 1, is_there & (day >= 1) & (day <= after - first)


def _bounds(
    days: NDArray[np.int64], known: NDArray[np.bool_], zone: ZoneInfo
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
    """Return the instants at which days begin and end, and on which no clock is changed."""
    distinct, places = np.unique(np.where(known, days, 0), return_inverse=True)
    table = np.array([_day(int(day), zone) for day in distinct], dtype=np.int64).reshape(-1, 3)
    return table[places, 0], table[places, 1], table[places, 2] == 1


@lru_cache(maxsize=_MOST_DAYS)
def _day(number: int, zone: ZoneInfo) -> tuple[int, int, bool]:
    """Return the instants at which a day begins and ends, and whether its clocks go evenly from 0 to 24."""
    midnight = datetime.fromordinal(number + _EPOCH).replace(tzinfo=zone)
    offset, *later = (zone.utcoffset(midnight + each) for each in _HALVES)
    start = number * _DAY - offset // _MICROSECOND if offset is not None else 0
    # Of a time that clocks skip or have twice, the offset is the one before: at noon it is another.
    return start, start + _DAY, all(each == offset for each in later)
