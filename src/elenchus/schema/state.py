"""Whether an entry is public at an instant, and if not, all that keeps it back: as data, words last."""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING

from elenchus.frozen import Frozen
from elenchus.values.dates import to_minute
from elenchus.values.texts import quoted

if TYPE_CHECKING:
    from datetime import datetime

__all__ = ["Hold", "HoldKind", "State"]


class HoldKind(Enum):
    """What can keep an entry back."""

    DRAFT = "draft"
    WITHDRAWN = "withdrawn"
    UNKNOWN_STATUS = "unknown status"
    UNDATED = "undated"
    SCHEDULED = "scheduled"
    UNREADABLE_DATE = "unreadable date"
    EXPIRED = "expired"
    UNREADABLE_END = "unreadable end"

    @property
    def is_status(self) -> bool:
        """Say whether it is what the status, or a flag, says."""
        return self in (HoldKind.DRAFT, HoldKind.WITHDRAWN)


class Hold(Frozen):
    """One thing that keeps an entry back.

    ``key`` is that of the content which says so: status, date, expires, or a flag such as ``draft``.
    ``written`` is what stands there and cannot be read, ``at`` the instant until which it waits or since
    which it is over, in the site's zone. ``is_second`` says that something before it keeps it back as well.
    """

    kind: HoldKind
    key: str
    written: str = ""
    at: datetime | None = None
    is_second: bool = False

    @property
    def is_flag(self) -> bool:
        """Say whether a flag says so and not the status itself."""
        return self.kind.is_status and self.key != "status"

    def __str__(self) -> str:
        match self.kind:
            case HoldKind.DRAFT | HoldKind.WITHDRAWN:
                return f"status {self.kind.value}" if self.is_second else self.kind.value
            case HoldKind.UNKNOWN_STATUS:
                return f"status {quoted(self.written)} is unknown"
            case HoldKind.UNDATED:
                return "scheduled without a date"
            case HoldKind.SCHEDULED:
                return f"scheduled for {to_minute(self.at)}" if self.at else "scheduled"
            case HoldKind.EXPIRED:
                return f"expired {to_minute(self.at)}" if self.at else "expired"
            case HoldKind.UNREADABLE_DATE | HoldKind.UNREADABLE_END:
                return f"{self.key} {quoted(self.written)} cannot be read"


class State(Frozen):
    """The state of an entry: all that keeps it back, in the order of telling; public where nothing does."""

    holds: tuple[Hold, ...] = ()

    @property
    def is_public(self) -> bool:
        """Say whether anybody may see the entry."""
        return not self.holds

    def __str__(self) -> str:
        return " and ".join(map(str, self.holds)) or "public"
