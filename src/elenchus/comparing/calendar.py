"""What is to come as a calendar (RFC 5545), which calendar programs show and subscribe to."""

from __future__ import annotations

import hashlib
from datetime import UTC
from typing import TYPE_CHECKING

from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping, Sequence

    from elenchus.comparing.upcoming import Coming

__all__ = ["as_calendar", "happening"]

_NAMED = 3  # entries that a summary names
_WIDTH = 75  # octets of a line, its end not counted (section 3.1)


def happening(coming: Coming, titles: Mapping[str, str]) -> list[tuple[str, str]]:
    """Return what becomes of a listing: for each entry a sign (+, -, ~) and the words."""
    found: list[tuple[str, str]] = []
    for name, at in coming.change.enters:
        why = "appears" if name in coming.appear else "enters"
        found.append(("+", f"{titles.get(name, name)} {why} at {at}"))
    for name, at in coming.change.leaves:
        why = "expires" if name in coming.expire else "leaves"
        found.append(("-", f"{titles.get(name, name)} {why}, it was at {at}"))
    for name, old, new in coming.change.moves:
        found.append(("~", f"{titles.get(name, name)} moves from {old} to {new}"))
    found += [("#", f"{each.label}: {each.before} → {each.after}") for each in coming.counts]
    return found


def as_calendar(found: Sequence[Coming], titles: Mapping[str, str], site: str, now: int) -> str:
    """Return a calendar with an event for each change of a listing; ``now`` is when it was made.

    The same change has the same identifier each time, so that programs replace it and add no second one.
    """
    lines = [
        "BEGIN:VCALENDAR",
        "VERSION:2.0",
        "PRODID:-//Elenchus//upcoming//EN",
        f"NAME:{_escaped(site)}",  # RFC 7986, section 5.1
        f"X-WR-CALNAME:{_escaped(site)}",  # which most programs read
        "REFRESH-INTERVAL;VALUE=DURATION:P1D",
        *(line for each in found for line in _event(each, titles, site, now)),
        "END:VCALENDAR",
    ]
    return "".join(f"{folded}\r\n" for line in lines for folded in _folded(line))


def _event(coming: Coming, titles: Mapping[str, str], site: str, now: int) -> Iterator[str]:
    """Yield the lines of an event."""
    change = coming.change
    key = f"{site}\n{coming.at}\n{change.listing}"
    words = "\n".join(f"{sign} {text}" for sign, text in happening(coming, titles))
    yield "BEGIN:VEVENT"
    yield f"UID:{hashlib.blake2b(key.encode('utf-8', 'surrogatepass'), digest_size=16).hexdigest()}"
    yield f"DTSTAMP:{_stamp(now)}"
    yield f"DTSTART:{_stamp(coming.at)}"
    yield f"SUMMARY:{_escaped(_summary(coming, titles))}"
    yield f"DESCRIPTION:{_escaped(words)}"
    yield "TRANSP:TRANSPARENT"
    yield "END:VEVENT"


def _summary(coming: Coming, titles: Mapping[str, str]) -> str:
    """Return who enters, leaves and moves in a line, the first few by their titles."""
    change = coming.change
    signs = [("+", name) for name, _ in change.enters] + [("−", name) for name, _ in change.leaves]
    signs = signs or [("~", name) for name, _, _ in change.moves]
    signs = signs or [("#", f"{each.label} {each.before} → {each.after}") for each in coming.counts]
    named = [f"{sign} {titles.get(name, name)}" for sign, name in signs[:_NAMED]]
    more = [f"{len(signs) - _NAMED} more"] if len(signs) > _NAMED else []
    return f"{change.listing}: {', '.join(named + more)}"


def _stamp(instant: int) -> str:
    """Return an instant as calendars have it, in UTC to the second."""
    return f"{from_instant(instant, UTC):%Y%m%dT%H%M%SZ}"


def _escaped(text: str) -> str:
    """Return a text as a value of the type TEXT (section 3.3.11)."""
    for sign, escape in (("\\", "\\\\"), (";", "\\;"), (",", "\\,"), ("\n", "\\n")):
        text = text.replace(sign, escape)
    return "".join(char for char in text if char.isprintable())


def _folded(line: str) -> Iterator[str]:
    """Yield a line in pieces that are not too long, none of which cuts a letter in two."""
    piece, size = "", 0
    for char in line:
        width = len(char.encode("utf-8", "replace"))
        if size + width > _WIDTH:
            yield piece
            piece, size = " ", 1
        piece += char
        size += width
    yield piece
