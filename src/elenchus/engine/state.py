"""Whether an entry is public at an instant, and if not, all that keeps it back."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, TypeAlias

from elenchus.table.schema import CORE_FIELDS
from elenchus.values.dates import from_instant, to_minute
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from elenchus.table.dataset import Dataset

__all__ = ["HiddenBy", "State", "state_of"]

HiddenBy: TypeAlias = Literal[
    "status", "flag", "unknown status", "undated", "unreadable date", "unreadable end", "ahead", "over"
]


@dataclass(frozen=True, slots=True)
class State:
    """The state of an entry: what keeps it back, each reason with its words; public where nothing does.

    ``key`` is that of the content which says so.
    """

    reasons: tuple[tuple[HiddenBy, str, str], ...] = ()

    @property
    def is_public(self) -> bool:
        """Say whether anybody may see the entry."""
        return not self.reasons

    @property
    def hidden_by(self) -> tuple[HiddenBy, ...]:
        """What keeps it back."""
        return tuple(reason for reason, _, _ in self.reasons)

    def __str__(self) -> str:
        return " and ".join(words for _, words, _ in self.reasons) or "public"


def state_of(data: Dataset, now: int, row: int) -> State:
    """Return the state of an entry at an instant, every reason that keeps it back."""
    entries, zone = data.entries, data.zone
    status = entries.columns["status", CORE_FIELDS["status"].type].item(row)
    word = CORE_FIELDS["status"].type.choices[status] if status is not None else ""
    found: list[tuple[HiddenBy, str, str]] = []
    if misfit := data.misfit(row, "status"):
        found.append(("unknown status", f"status {quoted(misfit)} is unknown", "status"))
    elif word in ("draft", "withdrawn"):
        flag, is_held_twice = data.flags.get(row, ("", False))
        found.append(("flag", word, flag) if flag else ("status", word, "status"))
        if is_held_twice:
            found.append(("status", f"status {word}", "status"))
    if misfit := data.misfit(row, "date"):
        found.append(("unreadable date", f"date {quoted(misfit)} cannot be read", "date"))
    elif word == "scheduled" and not entries.columns["date", CORE_FIELDS["date"].type].valid[row]:
        found.append(("undated", "scheduled without a date", "date"))
    else:
        dates = entries.columns["date", CORE_FIELDS["date"].type]
        start = dates.item(row)
        if start is not None and start > now:
            found.append(("ahead", f"scheduled for {to_minute(from_instant(start, zone))}", "date"))
    if misfit := data.misfit(row, "expires"):
        found.append(("unreadable end", f"expires {quoted(misfit)} cannot be read", "expires"))
    elif entries.closes[row] <= now:
        end = int(entries.closes[row])
        found.append(("over", f"expired {to_minute(from_instant(end, zone))}", "expires"))
    return State(tuple(found))
