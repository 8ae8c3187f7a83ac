"""Values as texts: as people read them, as content writes them, as JSON has them."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from elenchus.values.dates import to_minute

__all__ = ["as_text", "measured", "plain", "spoken"]

_LONGEST = 1e15  # from which on a number with all its digits tells nobody anything


def as_text(value: Any) -> str:
    """Return a scalar as the text that a person would write for it in content, in a file or in a question."""
    if isinstance(value, str):
        return value.strip()
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return "; ".join(f"{key}: {as_text(inner)}" for key, inner in value.items() if inner is not None)
    if isinstance(value, list):
        return ", ".join(as_text(inner) for inner in value if inner is not None)
    return value.isoformat() if isinstance(value, (date, datetime)) else str(value)


def spoken(value: Any) -> str:
    """Return a value of an answer as a text for people; nothing for a missing one."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, datetime):
        return to_minute(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, float):
        return f"{value:g}" if abs(value) < 1e6 else str(value)  # noqa: PLR2004 - %g writes 1e+06 from there
    return ", ".join(spoken(item) for item in value) if isinstance(value, tuple) else str(value)


def measured(value: Any, decimals: int = 0, unit: str = "") -> str:
    """Return a measure as a text for people: a number with its decimals and its unit."""
    is_short = isinstance(value, float) and abs(value) < _LONGEST
    text = f"{value:.{decimals}f}" if is_short else spoken(value)
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    return f"{text} {unit}" if unit and is_number else text


def plain(value: Any) -> Any:
    """Return a value of an answer as JSON has it: dates as ISO 8601 texts, instants with their offset."""
    if isinstance(value, tuple):
        return [plain(item) for item in value]
    return value.isoformat() if isinstance(value, date) else value
