"""Dates as half-open intervals of instants.

An instant is a whole number of microseconds since 1970-01-01T00:00Z, before it negative. A date
literal stands for an interval at its own precision: ``2026-05`` is the whole month in the site's
zone. Days begin at local midnight, or at the first moment after it where a zone skips midnight. A local
time that occurs twice means the first, one that is skipped the moment after the gap.

Local times lie in the years 0001 to 9999, both whole, in every zone. Python's own datetimes end a day
too early for that: the instant of 0001-01-01 lies in year 0 of UTC where a zone is ahead, and 9999-12-31
ends in year 10000. So the first and last days have branches of their own here, and nowhere else.
"""

from __future__ import annotations

import calendar
import re
from datetime import UTC, date, datetime, time, timedelta, timezone, tzinfo
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen
from elenchus.values.lazily import pattern

if TYPE_CHECKING:
    from collections.abc import Iterator
    from zoneinfo import ZoneInfo

__all__ = [
    "Clock",
    "Interval",
    "count_between",
    "date_label",
    "days_between",
    "from_instant",
    "instant",
    "is_relative",
    "literal_interval",
    "local_microseconds",
    "relative_interval",
    "stamp",
    "start_of",
    "to_minute",
    "unit_interval",
    "units_between",
    "widened",
]

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_NAIVE_EPOCH = datetime(1970, 1, 1)  # noqa: DTZ001 - what the clocks of a zone show
_MICROSECOND = timedelta(microseconds=1)
_SECOND_US = 1_000_000
_DAY_US = 86_400 * _SECOND_US
_LAST_DAY = date.max
_UNITS = ("day", "week", "month", "year")

_DAY_NAMES = {"yesterday": -1, "today": 0, "tomorrow": 1}
_CALENDAR = pattern(r"(this|last|next)\s+(week|month|year)", re.IGNORECASE)
_ROLLING = pattern(r"(last|next)\s+(\d{1,6})\s+(day|week|month|year)s?", re.IGNORECASE)
_LITERAL = pattern(
    r"(?P<year>\d{4})"
    r"(?:-W(?P<week>\d{2})(?:-(?P<weekday>[1-7]))?|-(?P<month>\d{2})(?:-(?P<day>\d{2})"
    r"(?:[T ](?P<hour>\d{1,2})(?::(?P<minute>\d{2})(?::(?P<second>\d{2})(?:\.(?P<fraction>\d{1,6}))?)?)?"
    r"\s?(?P<offset>Z|[+-]\d{2}:?\d{2})?)?)?)?",
    re.IGNORECASE,
)


class Interval(Frozen):
    """The instants from ``start`` up to, not including, ``end``, in microseconds since 1970 in UTC."""

    start: int
    end: int


class Clock(Frozen):
    """The one ``now`` of a run, with the zone in which its days begin and end."""

    now: int
    zone: ZoneInfo

    @property
    def today(self) -> date:
        """The calendar day of ``now`` in the site's zone."""
        return from_instant(self.now, self.zone).date()


def instant(moment: datetime) -> int:
    """Return an aware datetime as microseconds since 1970 in UTC."""
    return (moment - _EPOCH) // _MICROSECOND


def from_instant(value: int, zone: tzinfo) -> datetime:
    """Return the local datetime of an instant; the inverse of :func:`instant`.

    Raises OverflowError for instants that lie outside the years 0001 to 9999 of the zone.
    """
    try:
        return (_EPOCH + value * _MICROSECOND).astimezone(zone)
    except OverflowError:
        # Within a day of either end: the instant has no datetime in UTC, but it may have one here.
        edge = datetime.min if value < 0 else datetime.max  # noqa: DTZ901 - read by the zone itself
        offset = zone.utcoffset(edge) or timedelta()
        return (_NAIVE_EPOCH + (value * _MICROSECOND + offset)).replace(tzinfo=zone)


def local_microseconds(value: int, zone: tzinfo) -> int:
    """Return what the clocks of a zone show at an instant, in microseconds since 1970 on that clock."""
    return (from_instant(value, zone).replace(tzinfo=None) - _NAIVE_EPOCH) // _MICROSECOND


def _resolved(local: datetime) -> int:
    """Return the instant of a local time; of one that the zone skips, the moment after the gap."""
    found = instant(local)
    before, after = (local.replace(fold=fold).utcoffset() for fold in (0, 1))
    if before is None or after is None or before >= after:  # no gap: it occurs once, or twice
        return found
    # The clocks jump between the readings with the new and with the old offset: bisect to the second.
    low, high = (found - (after - before) // _MICROSECOND) // _SECOND_US, -(-found // _SECOND_US)
    while high - low > 1:
        middle = (low + high) // 2
        if from_instant(middle * _SECOND_US, local.tzinfo or UTC).utcoffset() == before:
            low = middle
        else:
            high = middle
    return high * _SECOND_US


def start_of(day: date, zone: ZoneInfo) -> int:
    """Return the instant at which a local day begins."""
    return _resolved(datetime.combine(day, time(), zone))


def _end_of(first: date, unit: str, zone: ZoneInfo) -> int:
    """Return the instant at which the day, week, month or year that begins with a day is over."""
    try:
        return start_of(_shift(first, 1, unit), zone)
    except (OverflowError, ValueError):  # the last of all years has an end, too
        return start_of(_LAST_DAY, zone) + _DAY_US


def unit_interval(first: date, unit: str, zone: ZoneInfo) -> Interval:
    """Return the day, week, month or year that begins with a day; a day may have 23 or 25 hours."""
    return Interval(start_of(first, zone), _end_of(first, unit, zone))


def _shift(day: date, count: int, unit: str) -> date:
    """Return the day moved by some units; months clamp to the last day that the month has."""
    if unit in ("day", "week"):
        return day + timedelta(days=count * (7 if unit == "week" else 1))
    months = day.year * 12 + day.month - 1 + count * (12 if unit == "year" else 1)
    year, month = divmod(months, 12)
    last = calendar.monthrange(year, month + 1)[1]
    return date(year, month + 1, min(day.day, last))


def _unit_start(day: date, unit: str) -> date:
    """Return the first day of the ISO week, month or year that holds the day."""
    if unit == "week":
        return day - timedelta(days=day.isoweekday() - 1)
    return day.replace(day=1) if unit == "month" else day.replace(month=1, day=1)


def widened(interval: Interval, unit: str, zone: ZoneInfo) -> Interval:
    """Return an interval grown to whole days, weeks, months or years."""
    first = _floor_day(from_instant(interval.start, zone).date(), unit)
    last = _floor_day(from_instant(max(interval.start, interval.end - 1), zone).date(), unit)
    return Interval(start_of(first, zone), _end_of(last, unit, zone))


def to_minute(value: datetime) -> str:
    """Return an instant as people read it: ``2026-05-18 09:00``, the year with four digits."""
    return value.isoformat(" ", "minutes")[:16]


def stamp(value: datetime) -> str:
    """Return an instant as RFC 3339 and HTML have it, to the second.

    Old local times have offsets with seconds, which neither knows; those instants are given in UTC.
    """
    offset = value.utcoffset()
    if offset is not None and offset % timedelta(minutes=1):
        try:
            value = value.astimezone(UTC)
        except OverflowError:  # the first day of year 1: the offset is what can give way
            value = value.replace(tzinfo=timezone(offset // timedelta(minutes=1) * timedelta(minutes=1)))
    return value.isoformat(timespec="seconds")


def date_label(day: date, unit: str) -> str:
    """Return the ISO 8601 text of the day, week, month or year that begins with a day."""
    if unit == "week":
        year, week, _ = day.isocalendar()
        return f"{year:04}-W{week:02}"
    return day.isoformat()[: {"year": 4, "month": 7}.get(unit, 10)]


def units_between(first: str, last: str) -> list[str]:
    """Return the labels of all days, weeks, months or years from one label to another of the same unit."""
    unit = {4: "year", 7: "month", 8: "week", 10: "day"}[len(first)]
    return [date_label(day, unit) for day in days_between(_first_day(first), _first_day(last), unit)]


def days_between(first: date, last: date, unit: str) -> Iterator[date]:
    """Yield the first days of all units from the one that begins with a day up to another day."""
    while first <= last:
        yield first
        try:
            first = _shift(first, 1, unit)
        except (OverflowError, ValueError):  # year 9999 is the last
            return


def count_between(first: date, last: date, unit: str) -> int:
    """Return how many units :func:`days_between` yields."""
    if unit in ("day", "week"):
        return (last - first).days // (7 if unit == "week" else 1) + 1
    years = last.year - first.year
    return years + 1 if unit == "year" else years * 12 + last.month - first.month + 1


def _first_day(label: str) -> date:
    """Return the first day of a unit by its label."""
    match = _LITERAL.fullmatch(label)
    if match is None:
        raise ValueError(label)
    if match["week"]:
        return date.fromisocalendar(int(match["year"]), int(match["week"]), 1)
    return date(int(match["year"]), int(match["month"] or 1), int(match["day"] or 1))


def _floor_day(day: date, unit: str) -> date:
    """Return the first day of the unit that holds a day."""
    return day if unit == "day" else _unit_start(day, unit)


def is_relative(text: str) -> bool:
    """Say whether a text is spelled like a relative interval (``today``, ``last 30 days``)."""
    return text.lower() in _DAY_NAMES or bool(_CALENDAR.fullmatch(text) or _ROLLING.fullmatch(text))


def relative_interval(text: str, clock: Clock) -> Interval | None:
    """Return the interval of ``today``, ``this week``, ``last 30 days`` …; None for other texts.

    Raises OverflowError when the interval would leave the years 1 to 9999.
    """
    today, zone = clock.today, clock.zone
    if (offset := _DAY_NAMES.get(text.lower())) is not None:
        return unit_interval(_moved(today, offset, "day"), "day", zone)
    if match := _CALENDAR.fullmatch(text):
        unit = match[2].lower()
        step = {"last": -1, "this": 0, "next": 1}[match[1].lower()]
        return unit_interval(_moved(_unit_start(today, unit), step, unit), unit, zone)
    if match := _ROLLING.fullmatch(text):
        return _rolling_interval(match[1].lower(), int(match[2]), match[3].lower(), clock)
    return None


def _moved(day: date, count: int, unit: str) -> date:
    """Return a day moved by some units. Raises OverflowError where that leaves the calendar."""
    try:
        return _shift(day, count, unit)
    except ValueError as error:
        raise OverflowError from error


def _rolling_interval(direction: str, count: int, unit: str, clock: Clock) -> Interval:
    """Return the N units that end with today, or begin with it; today belongs to both."""
    today, zone = clock.today, clock.zone
    if direction == "last":
        before = _moved(today, -count, unit)
        return Interval(_end_of(before, "day", zone), _end_of(today, "day", zone))
    return Interval(start_of(today, zone), start_of(_moved(today, count, unit), zone))


def literal_interval(text: str, zone: ZoneInfo) -> Interval | None:
    """Return the interval of an ISO 8601 date at its own precision; None when it is no date.

    ``2026``, ``2026-05``, ``2026-W21``, ``2026-W21-4``, ``2026-05-18``, ``2026-05-18T09:00`` with or
    without an offset; a space may stand for the ``T``.
    """
    match = _LITERAL.fullmatch(text.strip())
    if match is None:
        return None
    try:
        found = _moment_interval(match, zone) if match["hour"] else _calendar_interval(match, zone)
        from_instant(found.start, zone)  # with an offset, it may be a local time of year 0 or 10000
    except (ValueError, OverflowError):
        return None
    return found


def _calendar_interval(match: re.Match[str], zone: ZoneInfo) -> Interval:
    """Return the interval of a year, month, ISO week or day."""
    year = int(match["year"])
    if match["week"]:
        first = date.fromisocalendar(year, int(match["week"]), int(match["weekday"] or 1))
        unit = "day" if match["weekday"] else "week"
    else:
        first = date(year, int(match["month"] or 1), int(match["day"] or 1))
        unit = "day" if match["day"] else "month" if match["month"] else "year"
    return unit_interval(first, unit, zone)


def _moment_interval(match: re.Match[str], zone: ZoneInfo) -> Interval:
    """Return the hour, minute, second or fraction that a time of day names."""
    fraction = (match["fraction"] or "").ljust(6, "0")
    local = datetime(
        int(match["year"]),
        int(match["month"]),
        int(match["day"]),
        int(match["hour"]),
        int(match["minute"] or 0),
        int(match["second"] or 0),
        int(fraction or 0),
        tzinfo=_offset_zone(match["offset"]) or zone,
    )
    if match["fraction"]:
        width = timedelta(microseconds=10 ** (6 - len(match["fraction"])))
    elif match["second"]:
        width = timedelta(seconds=1)
    else:
        width = timedelta(minutes=1) if match["minute"] else timedelta(hours=1)
    start = _resolved(local)
    return Interval(start, start + width // _MICROSECOND)


def _offset_zone(text: str | None) -> timezone | None:
    """Return the fixed zone of ``Z`` or ``+01:00``; None without an offset."""
    if text is None:
        return None
    if text.upper() == "Z":
        return UTC
    hours, minutes = int(text[1:3]), int(text[-2:])
    delta = timedelta(hours=hours, minutes=minutes)
    return timezone(-delta if text[0] == "-" else delta)
