"""Dates written by a pattern such as ``dd/MM/y`` or ``d MMMM y``, read as ISO 8601 has them.

Patterns are those of Unicode Technical Standard #35, part 4, “Date Field Symbol Table”, as far as they name
the parts of a calendar day and of a time; months and days of the week have the names of a language. A month
or a year without a day is its first one.
"""

from __future__ import annotations

import re
from datetime import UTC, date, datetime
from functools import cache
from typing import TYPE_CHECKING, Protocol
from zoneinfo import ZoneInfo

from elenchus.values.lazily import pattern
from elenchus.values.texts import fold

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence

__all__ = ["EPOCH", "date_reader", "in_zone", "usual_date", "wrong_pattern"]

EPOCH = "epoch"  # instead of a pattern: seconds since 1970, or thousandths of them
_TOKEN = pattern(r"'((?:[^']|'')*)'|(y+|M+|L+|d+|E+|H+|h+|a+|m+|s+|S+|Z+|[xX]+)|([a-zA-Z]+)|(.)", re.DOTALL)
_NUMBERS = {"M": "month", "L": "month", "d": "day", "H": "hour", "h": "half", "m": "minute", "s": "second"}
_NAMED = 3  # letters of a month or a day of the week from which on it is a word
_TURN = 70  # two digits from which on a year is one of the last century
_LOCAL = pattern(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?")  # a time without a zone
_LARGEST = 10**11  # seconds: what is larger are thousandths


def wrong_pattern(pattern: str) -> str:
    """Return what is wrong with a pattern of dates; nothing where it can be read."""
    if pattern == EPOCH:
        return ""
    letters = set()
    for _, field, unknown, _ in _TOKEN.findall(pattern):
        if unknown:
            return f"nothing is called {unknown[0]} there"
        letters.add(field[:1])
    if "y" not in letters:
        return "it has no year (y)"
    if "d" in letters and not letters & {"M", "L"}:
        return "it has no month (M)"
    return ""


@cache
def date_reader(patterns: Sequence[str], language: str) -> Callable[[str], str]:
    """Return what reads a date by the first pattern that fits, as ISO 8601; nothing where none does."""
    readers = [_by_epoch if pattern == EPOCH else _by_pattern(pattern, language) for pattern in patterns]

    def read(text: str) -> str:
        return next((found for reader in readers if (found := reader(text.strip()))), "")

    return read


class _DatesWritten(Protocol):
    """How a source writes dates: by patterns, in the words of a language, in a zone."""

    @property
    def dates(self) -> Sequence[str]:
        """The patterns."""

    @property
    def language(self) -> str:
        """The language."""

    @property
    def zone(self) -> str:
        """The zone of times that say none; nothing for that of the site."""


def usual_date(habits: _DatesWritten) -> Callable[[str], str]:
    """Return what gives a date of a source as ISO 8601, or as it is if nothing is known of it."""
    read = date_reader(habits.dates, habits.language)
    zone = ZoneInfo(habits.zone) if habits.zone else None

    def usual(text: str) -> str:
        found = read(text) or text
        return (in_zone(found, zone) if zone else "") or found

    return usual


def in_zone(text: str, zone: ZoneInfo) -> str:
    """Return a time of ISO 8601 that says no zone as one of a zone; nothing for what is none."""
    if not _LOCAL.fullmatch(text.strip()):
        return ""
    try:
        return datetime.fromisoformat(text.strip()).replace(tzinfo=zone).isoformat()
    except ValueError:
        return ""


def _by_epoch(text: str) -> str:
    """Read seconds since 1970."""
    try:
        number = float(text)
        seconds = number / 1000 if abs(number) >= _LARGEST else number
        return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="seconds")
    except (ValueError, OverflowError, OSError):
        return ""


def _by_pattern(pattern: str, language: str) -> Callable[[str], str]:
    """Return what reads dates by one pattern."""
    found, names = re.compile("".join(_expressions(pattern, language)), re.IGNORECASE), _months(language)

    def read(text: str) -> str:
        match = found.fullmatch(fold(text))
        return _as_iso(match.groupdict(), names) if match else ""

    return read


def _expressions(pattern: str, language: str) -> Iterator[str]:
    """Yield a regular expression for each part of a pattern."""
    for literal, field, _, other in _TOKEN.findall(pattern):
        letter = field[:1]
        if not field:
            text = literal.replace("''", "'") if literal else other
            yield r"\s+" if text.isspace() else re.escape(fold(text))
        elif letter in "ML" and len(field) >= _NAMED:
            yield rf"(?P<name>{_any_of(_months(language))})\.?"
        elif letter == "E":
            yield rf"(?:{_any_of(_weekdays(language))})\.?"
        elif letter == "y":
            yield r"(?P<short>\d{2})" if field == "yy" else r"(?P<year>\d{4})"
        elif letter == "a":
            yield r"(?P<noon>a\.?m\.?|p\.?m\.?)"
        elif letter == "S":
            yield r"\d+"
        elif letter in "ZxX":
            yield r"(?P<offset>z|utc|gmt|[+-]\d{2}:?\d{2})"
        else:
            yield rf"(?P<{_NUMBERS[letter]}>\d{{1,2}})"


def _any_of(words: dict[str, int]) -> str:
    """Return an expression for any of some words, the longest first."""
    return "|".join(re.escape(word) for word in sorted(words, key=len, reverse=True))


def _as_iso(parts: dict[str, str | None], months: dict[str, int]) -> str:
    """Return the parts of a date as ISO 8601 has it; nothing where the calendar has no such date."""
    short = int(parts.get("short") or 0)
    year = int(parts.get("year") or 0) or short + (1900 if short >= _TURN else 2000)
    name = parts.get("name")
    month = months[name] if name else int(parts.get("month") or 1)
    hour = int(parts.get("hour") or 0)
    if half := parts.get("half"):
        hour = int(half) % 12 + (12 if (parts.get("noon") or "a").startswith("p") else 0)
    try:
        day = date(year, month, int(parts.get("day") or 1)).isoformat()
    except ValueError:
        return ""
    if parts.get("hour") is None and parts.get("half") is None:
        return day
    minute, second = int(parts.get("minute") or 0), int(parts.get("second") or 0)
    if hour > 23 or minute > 59 or second > 59:  # noqa: PLR2004 - a clock's
        return ""
    return f"{day}T{hour:02}:{minute:02}:{second:02}{_offset(parts.get('offset') or '')}"


def _offset(text: str) -> str:
    """Return an offset from UTC as ISO 8601 has it."""
    if text in ("z", "utc", "gmt"):
        return "Z"
    return f"{text[:3]}:{text[3:]}" if text and ":" not in text else text


@cache
def _months(language: str) -> dict[str, int]:
    """Return the folded names of months in a language, long and short, with their numbers."""
    return _names("months", language)


@cache
def _weekdays(language: str) -> dict[str, int]:
    """Return the folded names of the days of the week in a language."""
    return _names("days", language)


def _names(what: str, language: str) -> dict[str, int]:
    """Return the folded names of months or days, as they stand alone and in a date."""
    from elenchus.values.locales import locale_of

    found: dict[str, int] = {}
    for forms in getattr(locale_of(language), what).values():
        for width in ("wide", "abbreviated"):
            for number, name in forms.get(width, {}).items():
                found[fold(name.rstrip("."))] = int(number)
    return found
