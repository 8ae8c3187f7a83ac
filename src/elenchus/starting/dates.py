"""How dates are written: patterns with how often each was met; day and month are never guessed."""

from __future__ import annotations

import re
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

from elenchus.values.datepatterns import EPOCH, date_reader

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

__all__ = ["ISO_DAY", "ISO_TIME", "DateHabits", "dates_of", "reads"]

ISO_DAY = re.compile(r"\d{4}-\d{2}-\d{2}")
ISO_TIME = re.compile(r"\d{4}-\d{2}-\d{2}[T ]\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?\s?(Z|[+-]\d{2}:?\d{2})?")
# What may be a date at all: two numbers, or a number and a word.
_LIKELY = re.compile(r"(?=.{4,40}$)(?=\D*\d)(?:[^\W\d_.,]*[\s,./:'’+-]*)*?\d[\w\s,.:/'’+-]*", re.DOTALL)
_YEARED = re.compile(r"(?<!\d)(?:1[5-9]|20)\d\d(?!\d)|[^\W\d]-\d\d$")
_WORD = re.compile(r"[^\W\d_]{3,}")
_SURE = (
    "y/MM/dd", "y.MM.dd", "y-M-d", "d.M.y", "d.M.yy", "y-MM", "y/MM", "yMMdd",
    "EEE, d MMM y HH:mm:ss Z", "y-MM-dd HH:mm:ss Z", "y/MM/dd HH:mm", "d.M.y HH:mm", "y-MM-dd'T'HH:mm:ss.S",
    "y:MM:dd HH:mm:ss",
)  # fmt: skip
_WORDY = (
    "d MMMM y", "MMMM d, y", "d. MMMM y", "d MMM y", "MMM d, y", "d. MMM y", "EEEE, d MMMM y", "MMMM d y",
    "MMM d y", "d-MMM-y", "d-MMM-yy", "MMMM y", "MMM y", "EEE, MMM d, y", "EEE d MMM y", "EEEE, MMMM d, y",
    "EEEE, d. MMMM y", "d MMMM y, HH:mm", "d MMMM y HH:mm",
)  # fmt: skip
_SLASHED = re.compile(r"(\d{1,2})([/-])(\d{1,2})[/-](\d{4}|\d{2})((?:,| |, )\d{1,2}:\d{2}(?::\d{2})?)?")
_LANGUAGES = ("en", "de", "fr", "es", "it", "nl", "pt", "da", "sv", "nb", "fi", "pl")
_FEW = 300  # texts by which patterns are found
_FEWER = 20  # by which the language is
_LIKELY_SHARE = 0.2  # of the texts that may be dates, for any to be looked for
_MOST_KNOWN = 500


class DateHabits(NamedTuple):
    """How dates are written: patterns with how often each was met, the language of their words.

    ``unsure`` is one of which nobody can tell the day from the month; ``left`` are texts that are no dates.
    """

    patterns: Mapping[str, int]
    language: str = "en"
    unsure: str = ""
    left: tuple[str, ...] = ()


def reads(text: str) -> bool:
    """Say whether a text is a date as ISO 8601 has it."""
    return bool(ISO_DAY.fullmatch(text) or ISO_TIME.fullmatch(text))


_known: dict[int, tuple[Mapping[str, int], DateHabits]] = {}


def dates_of(texts: Mapping[str, int]) -> DateHabits:
    """Return how some texts, with how often each is there, are written as dates."""
    known = _known.get(id(texts))
    if known is None or known[0] is not texts:
        if len(_known) > _MOST_KNOWN:
            _known.clear()
        known = _known[id(texts)] = texts, _dates_of(texts)
    return known[1]


def _dates_of(texts: Mapping[str, int]) -> DateHabits:
    """Return how some texts are written as dates, see :func:`dates_of`."""
    left = [text for text in texts if not reads(text)]
    likely = sum(bool(_LIKELY.fullmatch(text)) for text in left[:_FEW])
    if not left or likely < _LIKELY_SHARE * len(left[:_FEW]):
        return DateHabits({}, left=tuple(left))
    found: dict[str, int] = {}
    seconds = [text for text in left if text.isdecimal() and len(text) in (10, 13)]
    if seconds:
        found[EPOCH] = sum(texts[text] for text in seconds)
        left = [text for text in left if text not in set(seconds)]
    language = _language_of(left)
    few = left[:_FEW]
    for pattern in (*_SURE, *_WORDY):
        read = date_reader((pattern,), language)
        if any(read(text) for text in few):
            left = _take(pattern, language, left, texts, found)
            few = left[:_FEW]
        if not few:
            break
    left, unsure = _slashed(left, texts, found)
    return DateHabits(found, language, unsure, tuple(left))


def _language_of(texts: Iterable[str]) -> str:
    """Return the language whose names of months stand in most texts; English where none does."""
    likely = (
        text for text in texts if _YEARED.search(text) and _WORD.search(text) and _LIKELY.fullmatch(text)
    )
    wordy = list(islice(likely, _FEWER))
    if not wordy or any(date_reader(_WORDY, "en")(text) for text in wordy):
        return "en"
    counts = {
        language: sum(bool(date_reader(_WORDY, language)(text)) for text in wordy) for language in _LANGUAGES
    }
    best = max(_LANGUAGES, key=lambda language: counts[language])
    return best if counts[best] else "en"


def _take(
    pattern: str, language: str, left: list[str], texts: Mapping[str, int], found: dict[str, int]
) -> list[str]:
    """Count the texts that a pattern reads, and return the others."""
    read = date_reader((pattern,), language)
    others = [text for text in left if not read(text)]
    if len(others) < len(left):
        kept = set(others)
        found[pattern] = sum(texts[text] for text in left if text not in kept)
    return others


def _slashed(left: list[str], texts: Mapping[str, int], found: dict[str, int]) -> tuple[list[str], str]:
    """Return what is left without days in numbers such as ``05/03/2024``, or one that may be either."""
    matches = {text: match for text in left if (match := _SLASHED.fullmatch(text.strip()))}
    if not matches:
        return left, ""
    day_first = any(int(match[1]) > 12 for match in matches.values())  # noqa: PLR2004 - months of a year
    month_first = any(int(match[3]) > 12 for match in matches.values())  # noqa: PLR2004
    if day_first == month_first:
        return left, next(iter(matches))
    for sign, year, time in dict.fromkeys(
        (match[2], "yy" if len(match[4]) == 2 else "y", _time_of(match[5] or ""))  # noqa: PLR2004
        for match in matches.values()
    ):
        day = f"d{sign}M{sign}{year}{time}" if day_first else f"M{sign}d{sign}{year}{time}"
        left = _take(day, "en", left, texts, found)
    return left, ""


def _time_of(text: str) -> str:
    """Return the pattern of a time of day as it stands behind a date."""
    if not text:
        return ""
    begin = text[: len(text) - len(text.lstrip(", "))]
    return f"{begin}HH:mm" + (":ss" if text.count(":") > 1 else "")
