"""Dates as half-open intervals of instants.

An instant is a whole number of microseconds since 1970-01-01T00:00Z, before it negative. A date
literal stands for an interval at its own precision: ``2026-05`` is the whole month in the site's
zone. Days begin at local midnight, or at the first moment after it where a zone skips midnight.
"""

from __future__ import annotations

import calendar
import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta, timezone
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo

__all__ = [
    "Clock",
    "Interval",
    "date_label",
    "day_interval",
    "from_instant",
    "instant",
    "is_relative",
    "literal_interval",
    "local_microseconds",
    "relative_interval",
    "shift",
    "start_of",
    "units_between",
    "widened",
]

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
MICROSECOND = timedelta(microseconds=1)
UNITS = ("day", "week", "month", "year")

DAY_NAMES = {"yesterday": -1, "today": 0, "tomorrow": 1}
CALENDAR = re.compile(r"(this|last|next)\s+(week|month|year)", re.IGNORECASE)
ROLLING = re.compile(r"(last|next)\s+(\d{1,6})\s+(day|week|month|year)s?", re.IGNORECASE)
LITERAL = re.compile(
    r"(?P<year>\d{4})"
    r"(?:-W(?P<week>\d{2})(?:-(?P<weekday>[1-7]))?|-(?P<month>\d{2})(?:-(?P<day>\d{2})"
    r"(?:[T ](?P<hour>\d{1,2})(?::(?P<minute>\d{2})(?::(?P<second>\d{2})(?:\.(?P<fraction>\d{1,6}))?)?)?"
    r"\s?(?P<offset>Z|[+-]\d{2}:?\d{2})?)?)?)?",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Interval:
    """The instants from ``start`` up to, not including, ``end``, in microseconds since 1970 in UTC."""

    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Clock:
    """The one ``now`` of a run, with the zone in which its days begin and end."""

    now: int
    zone: ZoneInfo

    @property
    def today(self) -> date:
        """The calendar day of ``now`` in the site's zone."""
        return from_instant(self.now, self.zone).date()


def instant(moment: datetime) -> int:
    """Return an aware datetime as microseconds since 1970 in UTC."""
    return (moment - EPOCH) // MICROSECOND


def from_instant(value: int, zone: ZoneInfo) -> datetime:
    """Return the local datetime of an instant; the inverse of :func:`instant`."""
    return (EPOCH + value * MICROSECOND).astimezone(zone)


def local_microseconds(value: int, zone: ZoneInfo) -> int:
    """Return what the clocks of a zone show at an instant, in microseconds since 1970 on that clock."""
    return instant(from_instant(value, zone).replace(tzinfo=UTC))


def start_of(day: date, zone: ZoneInfo) -> int:
    """Return the instant at which a local day begins."""
    return instant(datetime.combine(day, time(), zone))


def days_interval(first: date, after: date, zone: ZoneInfo) -> Interval:
    """Return the interval from the start of ``first`` to the start of ``after``."""
    return Interval(start_of(first, zone), start_of(after, zone))


def day_interval(day: date, zone: ZoneInfo) -> Interval:
    """Return one local day, which may have 23 or 25 hours."""
    return days_interval(day, day + timedelta(days=1), zone)


def shift(day: date, count: int, unit: str) -> date:
    """Return the day moved by some units; months clamp to the last day that the month has."""
    if unit in ("day", "week"):
        return day + timedelta(days=count * (7 if unit == "week" else 1))
    months = day.year * 12 + day.month - 1 + count * (12 if unit == "year" else 1)
    year, month = divmod(months, 12)
    last = calendar.monthrange(year, month + 1)[1]
    return date(year, month + 1, min(day.day, last))


def unit_start(day: date, unit: str) -> date:
    """Return the first day of the ISO week, month or year that holds the day."""
    if unit == "week":
        return day - timedelta(days=day.isoweekday() - 1)
    return day.replace(day=1) if unit == "month" else day.replace(month=1, day=1)


def widened(interval: Interval, unit: str, zone: ZoneInfo) -> Interval:
    """Return an interval grown to whole days, weeks, months or years."""
    first = floor_day(from_instant(interval.start, zone).date(), unit)
    last = floor_day(from_instant(max(interval.start, interval.end - 1), zone).date(), unit)
    return days_interval(first, shift(last, 1, unit), zone)


def date_label(day: date, unit: str) -> str:
    """Return the ISO 8601 text of the day, week, month or year that begins with a day."""
    if unit == "week":
        year, week, _ = day.isocalendar()
        return f"{year:04}-W{week:02}"
    return day.isoformat()[: {"year": 4, "month": 7}.get(unit, 10)]


def units_between(first: str, last: str) -> list[str]:
    """Return the labels of all days, weeks, months or years from one label to another of the same unit."""
    unit = {4: "year", 7: "month", 8: "week", 10: "day"}[len(first)]
    day, found = first_day(first), [first]
    while found[-1] < last:
        day = shift(day, 1, unit)
        found.append(date_label(day, unit))
    return found


def first_day(label: str) -> date:
    """Return the first day of a unit by its label."""
    match = LITERAL.fullmatch(label)
    assert match is not None  # noqa: S101 - labels are written by date_label
    if match["week"]:
        return date.fromisocalendar(int(match["year"]), int(match["week"]), 1)
    return date(int(match["year"]), int(match["month"] or 1), int(match["day"] or 1))


def floor_day(day: date, unit: str) -> date:
    """Return the first day of the unit that holds a day."""
    return day if unit == "day" else unit_start(day, unit)


def is_relative(text: str) -> bool:
    """Say whether a text is spelled like a relative interval (``today``, ``last 30 days``)."""
    return text.lower() in DAY_NAMES or bool(CALENDAR.fullmatch(text) or ROLLING.fullmatch(text))


def relative_interval(text: str, clock: Clock) -> Interval | None:
    """Return the interval of ``today``, ``this week``, ``last 30 days`` …; None for other texts.

    Raises OverflowError when the interval would leave the years 1 to 9999.
    """
    today = clock.today
    if (offset := DAY_NAMES.get(text.lower())) is not None:
        return day_interval(today + timedelta(days=offset), clock.zone)
    if match := CALENDAR.fullmatch(text):
        step = {"last": -1, "this": 0, "next": 1}[match[1].lower()]
        first = shift(unit_start(today, match[2].lower()), step, match[2].lower())
        return days_interval(first, shift(first, 1, match[2].lower()), clock.zone)
    if match := ROLLING.fullmatch(text):
        return rolling_interval(match[1].lower(), int(match[2]), match[3].lower(), clock)
    return None


def rolling_interval(direction: str, count: int, unit: str, clock: Clock) -> Interval:
    """Return the N units that end with today, or begin with it; today belongs to both."""
    today, day = clock.today, timedelta(days=1)
    try:
        if direction == "last":
            return days_interval(shift(today, -count, unit) + day, today + day, clock.zone)
        return days_interval(today, shift(today, count, unit), clock.zone)
    except ValueError as error:
        raise OverflowError from error


def literal_interval(text: str, zone: ZoneInfo) -> Interval | None:
    """Return the interval of an ISO 8601 date at its own precision; None when it is no date.

    ``2026``, ``2026-05``, ``2026-W21``, ``2026-W21-4``, ``2026-05-18``, ``2026-05-18T09:00`` with or
    without an offset; a space may stand for the ``T``.
    """
    match = LITERAL.fullmatch(text.strip())
    if match is None:
        return None
    try:
        return moment_interval(match, zone) if match["hour"] else calendar_interval(match, zone)
    except (ValueError, OverflowError):
        return None


def calendar_interval(match: re.Match[str], zone: ZoneInfo) -> Interval:
    """Return the interval of a year, month, ISO week or day."""
    year = int(match["year"])
    if match["week"]:
        first = date.fromisocalendar(year, int(match["week"]), int(match["weekday"] or 1))
        unit = "day" if match["weekday"] else "week"
    else:
        first = date(year, int(match["month"] or 1), int(match["day"] or 1))
        unit = "day" if match["day"] else "month" if match["month"] else "year"
    return days_interval(first, shift(first, 1, unit), zone)


def moment_interval(match: re.Match[str], zone: ZoneInfo) -> Interval:
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
        tzinfo=offset_zone(match["offset"]) or zone,
    )
    if match["fraction"]:
        width = timedelta(microseconds=10 ** (6 - len(match["fraction"])))
    elif match["second"]:
        width = timedelta(seconds=1)
    else:
        width = timedelta(minutes=1) if match["minute"] else timedelta(hours=1)
    start = instant(local)
    return Interval(start, start + width // MICROSECOND)


def offset_zone(text: str | None) -> timezone | None:
    """Return the fixed zone of ``Z`` or ``+01:00``; None without an offset."""
    if text is None:
        return None
    if text.upper() == "Z":
        return UTC
    hours, minutes = int(text[1:3]), int(text[-2:])
    delta = timedelta(hours=hours, minutes=minutes)
    return timezone(-delta if text[0] == "-" else delta)
