"""What people call groups, in the site's language: months, weekdays, years."""

from __future__ import annotations

from datetime import date, datetime, time
from functools import lru_cache

from elenchus.values.locales import locale_of

__all__ = ["date_label", "group_label"]

_MOST_KEPT = 4096  # labels of days and of times of the day, which come again on page after page


def date_label(value: date, language: str) -> str:
    """Return a day or an instant as people write it: “18 May 2026, 09:00” in British English."""
    if not isinstance(value, datetime):
        return _day_label(value, language)
    return f"{_day_label(value.date(), language)}, {_time_label(value.hour, value.minute, language)}"


@lru_cache(_MOST_KEPT)
def _day_label(value: date, language: str) -> str:
    """Return a day with the name of its month."""
    from babel.dates import format_date

    return str(format_date(value, "long", locale=locale_of(language)))


@lru_cache(_MOST_KEPT)
def _time_label(hour: int, minute: int, language: str) -> str:
    """Return a time of the day."""
    from babel.dates import format_time

    return str(format_time(time(hour, minute), "HH:mm", locale=locale_of(language)))


def group_label(field: str, key: object, label: str, language: str) -> str:
    """Return a group's label by the field that it groups by: “May 2026” for ``date.month`` and 2026-05.

    Source of the names and patterns: the Unicode Common Locale Data Repository, as Babel carries it.
    """
    part = field.rpartition(".")[2]
    if key is None:
        return label
    if part == "month":
        return _month_label(str(key), language)
    if part in ("day", "date") and len(str(key)) == len("2026-05-18"):
        return _day_label(date.fromisoformat(str(key)), language)
    if part in ("month_of_year", "weekday"):
        return _name_of(part, int(str(key)), language)
    return label


def _month_label(key: str, language: str) -> str:
    """Return a month with its year."""
    from babel.dates import format_skeleton

    year, month = key.split("-")
    found = str(format_skeleton("yMMMM", date(int(year), int(month), 1), locale=locale_of(language)))
    return found[:1].upper() + found[1:]


def _name_of(part: str, number: int, language: str) -> str:
    """Return the name of a month of the year, or of a weekday from 1 for Monday."""
    from babel.dates import get_day_names, get_month_names

    locale = locale_of(language)
    if part == "weekday":
        found = str(get_day_names("wide", "stand-alone", locale)[number - 1])
    else:
        found = str(get_month_names("wide", "stand-alone", locale)[number])
    return found[:1].upper() + found[1:]
