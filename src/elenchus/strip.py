"""What is to come, drawn as a strip of days: a row for each listing, a mark for what enters and leaves."""

from __future__ import annotations

from collections import Counter
from datetime import timedelta
from typing import TYPE_CHECKING, Any

from elenchus.chart import FAINT, INK, check_ending, new_figure, save, shortened
from elenchus.errors import OptionError, Problem
from elenchus.values.dates import from_instant

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import date
    from pathlib import Path

    from elenchus.comparing.upcoming import Coming
    from elenchus.values.dates import Clock

__all__ = ["draw_upcoming"]

_ENTERS, _LEAVES, _MOVES, _WEEKEND = "#1f6f8b", "#b5533c", "#8a979e", "#f1f4f5"
_MOST_DAYS = 400
_MOST_ROWS = 60
_EVERY_DAY = 45  # days up to which each has its number
_SATURDAY = 5


def draw_upcoming(found: Sequence[Coming], clock: Clock, until: int, path: Path) -> None:
    """Draw what becomes of listings up to an instant into an SVG or PNG file, replaced as a whole.

    Raises OptionError for another ending, and for more days or listings than can be read, FolderError.
    """
    check_ending(path)
    first, last = clock.today, from_instant(until, clock.zone).date()
    days = [first + timedelta(days=at) for at in range((last - first).days + 1)]
    rows = list(dict.fromkeys(each.change.listing for each in found))
    if len(days) > _MOST_DAYS or len(rows) > _MOST_ROWS:
        message = f"{len(days)} days with {len(rows)} listings are more than a strip can show"
        hint = f"At most {_MOST_DAYS} days and {_MOST_ROWS} listings: use --until and --listing."
        raise OptionError([Problem("too-many-groups", message, hint)])
    save(_strip(found, clock, days, rows), path)


def _strip(found: Sequence[Coming], clock: Clock, days: Sequence[date], rows: Sequence[str]) -> Any:
    """Return the figure of some days and listings."""
    figure, axes = new_figure(max(9, min(0.24 * len(days), 24)), max(2.0, 0.34 * len(rows) + 1.3))
    for at, day in enumerate(days):
        if day.weekday() >= _SATURDAY:
            axes.axvspan(at - 0.5, at + 0.5, color=_WEEKEND, zorder=0)
        if day.day == 1 and at:
            axes.axvline(at - 0.5, color=FAINT, zorder=1)
    for number in range(len(rows)):
        axes.axhline(number, color=FAINT, linewidth=0.6, zorder=1)
    marks = _marks(found, clock, days[0])
    for shift, colour, sign, label in (
        (-0.17, _ENTERS, "enters", "▲ enters"),
        (0.17, _LEAVES, "leaves", "▼ leaves"),
        (0, _MOVES, "moves", "● moves or counts only"),
    ):
        here = [(at, rows.index(name), count) for (name, at, what), count in marks.items() if what == sign]
        if not here:
            continue
        axes.scatter(
            [at for at, _, _ in here],
            [row + shift for _, row, _ in here],
            s=[26 + 9 * min(count, 6) for _, _, count in here],
            color=colour, marker={"▲": "^", "▼": "v", "●": "o"}[label[0]], label=label[2:], zorder=3,
        )  # fmt: skip
        for at, row, count in here:
            if count > 1:
                axes.annotate(str(count), (at + 0.28, row + shift), fontsize=7, color=INK, va="center")
    _labelled(axes, days, rows)
    total = f"{len(found)} changes" if len(found) != 1 else "1 change"
    axes.set_title(f"{total} by time alone, {days[0]} to {days[-1]}", loc="left")
    if found:
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.11), ncols=3, frameon=False, fontsize=9)
    return figure


def _marks(found: Sequence[Coming], clock: Clock, first: date) -> Counter[tuple[str, int, str]]:
    """Return how many entries enter, leave or only move, by listing and day."""
    marks: Counter[tuple[str, int, str]] = Counter()
    for each in found:
        at = (from_instant(each.at, clock.zone).date() - first).days
        change = each.change
        for what, count in (("enters", len(change.enters)), ("leaves", len(change.leaves))):
            if count:
                marks[change.listing, at, what] += count
        if not (change.enters or change.leaves):
            marks[change.listing, at, "moves"] += len(change.moves) + len(each.counts)
    return marks


def _labelled(axes: Any, days: Sequence[date], rows: Sequence[str]) -> None:
    """Write the days below the strip, with the months where they begin, and the listings beside it."""
    step = 1 if len(days) <= _EVERY_DAY else 7
    shown = [at for at, day in enumerate(days) if step == 1 or day.weekday() == 0 or day.day == 1]
    names = [
        f"{days[at].day}\n{days[at]:%Y-%m}" if at == 0 or days[at].day == 1 else f"{days[at].day}"
        for at in shown
    ]
    axes.set_xticks(shown, names, fontsize=8, ha="center")
    axes.set_yticks(range(len(rows)), [shortened(name) for name in rows])
    axes.set_xlim(-0.6, len(days) - 0.4)
    axes.set_ylim(max(len(rows), 1) - 0.5, -0.5)
