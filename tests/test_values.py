"""Dates, time zones and collation, against tables and against other ways to work them out."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

import pytest
import pyuca
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import often
from elenchus.schema.conform import parted
from elenchus.values.collation import sort_key
from elenchus.values.dates import Clock, from_instant, instant, literal_interval, relative_interval
from elenchus.values.several import in_one_text
from elenchus.values.texts import fold

AZORES = ZoneInfo("Atlantic/Azores")  # its clocks change at midnight
HALIFAX = ZoneInfo("America/Halifax")


def spoken(text: str, now: str = "2026-03-31T12:00", zone: ZoneInfo = HALIFAX) -> str:
    """Return an interval as its local start, its local end, and its length in hours."""
    clock = Clock(instant(datetime.fromisoformat(now).replace(tzinfo=zone)), zone)
    found = relative_interval(text, clock) or literal_interval(text, zone)
    if found is None:
        return "none"
    ends = [
        f"{from_instant(end, zone):%Y-%m-%dT%H:%M}".removesuffix("T00:00") for end in (found.start, found.end)
    ]
    return f"{ends[0]} {ends[1]} {(found.end - found.start) / 3_600_000_000:g}"


@pytest.mark.parametrize(
    ("text", "interval"),
    [
        ("2026", "2026-01-01 2027-01-01 8760"),
        ("2026-02", "2026-02-01 2026-03-01 672"),
        ("2026-05-18", "2026-05-18 2026-05-19 24"),
        ("2026-05-18T09:00", "2026-05-18T09:00 2026-05-18T09:01 0.0166667"),
        ("2026-05-18 9", "2026-05-18T09:00 2026-05-18T10:00 1"),
        ("2026-05-18T12:00Z", "2026-05-18T09:00 2026-05-18T09:01 0.0166667"),
        ("2026-05-18T09:00+05:30", "2026-05-18T00:30 2026-05-18T00:31 0.0166667"),
        ("2026-W21", "2026-05-18 2026-05-25 168"),
        ("2026-W53", "2026-12-28 2027-01-04 168"),  # the last ISO week reaches into January
        ("2027-W01", "2027-01-04 2027-01-11 168"),
        ("2020-W01", "2019-12-30 2020-01-06 168"),  # and the first one begins in December
        ("2027-W53", "none"),
        ("2026-W21-7", "2026-05-24 2026-05-25 24"),
        ("2024-02-29", "2024-02-29 2024-03-01 24"),
        ("2026-02-29", "none"),
        ("2026-13", "none"),
        ("0000", "none"),
        ("2026-05-18T24:00", "none"),
        ("2026-05-18T09:00+99:00", "none"),
        ("today", "2026-03-31 2026-04-01 24"),
        ("Yesterday", "2026-03-30 2026-03-31 24"),
        ("tomorrow", "2026-04-01 2026-04-02 24"),
        ("this week", "2026-03-30 2026-04-06 168"),
        ("last week", "2026-03-23 2026-03-30 168"),
        ("next month", "2026-04-01 2026-05-01 720"),
        ("last month", "2026-02-01 2026-03-01 672"),
        ("last year", "2025-01-01 2026-01-01 8760"),
        ("last 1 day", "2026-03-31 2026-04-01 24"),
        ("last 2 days", "2026-03-30 2026-04-01 48"),
        ("last 1 month", "2026-03-01 2026-04-01 743"),  # 31 March less a month is 28 February
        ("next 1 month", "2026-03-31 2026-04-30 720"),  # 31 March and a month is 30 April
        ("last 1 year", "2025-04-01 2026-04-01 8760"),
        ("next 2 weeks", "2026-03-31 2026-04-14 336"),
        ("last 9 fortnights", "none"),
        ("next 0 days", "2026-03-31 2026-03-31 0"),
    ],
)
def test_interval(text: str, interval: str) -> None:
    """A date stands for an interval at its own precision, in the zone of the site."""
    assert spoken(text) == interval


@pytest.mark.parametrize(
    ("zone", "day", "hours"),
    [
        (HALIFAX, "2026-03-08", 23),
        (HALIFAX, "2026-11-01", 25),
        (AZORES, "2026-03-29", 23),  # midnight itself is skipped: the day begins at one
        (AZORES, "2026-10-25", 25),  # midnight comes twice
        (ZoneInfo("Pacific/Apia"), "2011-12-30", 0),  # a day that never was
    ],
)
def test_days_of_other_lengths(zone: ZoneInfo, day: str, hours: int) -> None:
    """Days begin and end in the site's zone, whatever the clocks do."""
    found = literal_interval(day, zone)
    assert found
    assert (found.end - found.start) / 3_600_000_000 == hours


def test_leaving_the_calendar() -> None:
    """An interval beyond the years 1 to 9999 is refused, not wrapped."""
    with pytest.raises(OverflowError):
        spoken("last 9999 years")


TEXTS = st.text(st.characters(codec="utf-8"), max_size=12) | st.text("aAäÄàßæøłžñ éê-_.:!'’1290", max_size=12)


@given(TEXTS, TEXTS)
@settings(max_examples=often(400), deadline=None)
def test_collation(one: str, two: str) -> None:
    """The short cut for Latin texts orders exactly as the whole table does."""
    collator = COLLATORS.setdefault("uca", pyuca.Collator()) if not COLLATORS else COLLATORS["uca"]
    keys = [collator.sort_key(fold(text)) for text in (one, two)]
    ours = [sort_key(fold(text)) for text in (one, two)]
    if keys[0] != keys[1]:
        assert (keys[0] < keys[1]) == (ours[0] < ours[1])
    else:
        assert (ours[0] == ours[1]) == (fold(one) == fold(two))


COLLATORS: dict[str, pyuca.Collator] = {}


@given(st.text(max_size=20))
@settings(max_examples=often(300), deadline=None)
def test_folding(text: str) -> None:
    """Folding is stable, and case and form make no difference to it."""
    import unicodedata

    assert fold(fold(text)) == fold(text)
    assert fold(unicodedata.normalize("NFD", text)) == fold(unicodedata.normalize("NFC", text))
    assert fold(text.casefold()) == fold(text)


@given(
    st.lists(st.text(alphabet='ab ,|"', min_size=1, max_size=6)), st.sampled_from([",", "|"]), st.booleans()
)
def test_several_in_one_text(values: list[str], sign: str, tight: bool) -> None:
    """Values that are joined in one text are read from it as they were, whatever signs they have."""
    values = [value for each in values if (value := each.strip())]
    text = in_one_text(values, sign, tight=tight)
    assert (parted(text, sign, frozenset()) or [text] * bool(text)) == values
