"""What is written to give an entry a status: in its status, or in a key such as ``draft``."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.schema.conform import flags_of, is_yes, says_yes_or_no
from elenchus.values.texts import fold
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from elenchus.schema.record import Habits, Record

__all__ = ["status_written", "yes_or_no_written"]

_OPPOSITES = (("true", "false"), ("yes", "no"), ("on", "off"), ("1", "0"), ("y", "n"), ("t", "f"))
_PUBLISHED, _STATUS = "published", "status"


def status_written(record: Record, status: str) -> dict[str, str]:
    """Return the texts that keys get so that an entry has a status; an empty one takes the key away.

    A key that keeps the entry back says no longer that it does; where there is one for the wanted status, it
    says it in place of the status. Without a status, the status is cleared and nothing else.
    """
    found: dict[str, str] = {}
    is_said = False
    for key, meaning in flags_of(record.habits).items() if status else ():
        raw = record.values.get(key)
        if raw is None or not says_yes_or_no(raw.value):
            continue
        word = "draft" if meaning == _PUBLISHED else meaning
        holds = is_yes(raw.value) != (meaning == _PUBLISHED)
        if holds != (word == status):
            found[key] = _opposite(as_text(raw.value))
        is_said = is_said or word == status
    raw = record.values.get(_STATUS)
    has_one = raw is not None and as_text(raw.value or "") != ""
    if has_one or not (is_said or status in ("", _PUBLISHED)):
        found[_STATUS] = _foreign(record.habits, status, as_text(raw.value or "") if raw else "")
    return found


def yes_or_no_written(record: Record, key: str, text: str) -> str:
    """Return a yes or no as a key of an entry writes it: as its opposite is written there now."""
    raw = record.values.get(key)
    before = as_text(raw.value or "") if raw else ""
    if before and says_yes_or_no(before) and is_yes(before) != is_yes(text):
        return _opposite(before)
    return text


def _opposite(text: str) -> str:
    """Return no for yes in the same words and letters, and yes for no."""
    folded = fold(text)
    pairs = (pair if folded == pair[0] else pair[::-1] for pair in _OPPOSITES if folded in pair)
    _, other = next(pairs, ("", "false" if is_yes(text) else "true"))
    return other.upper() if text.isupper() and len(text) > 1 else other.title() if text.istitle() else other


def _foreign(habits: Habits, status: str, before: str) -> str:
    """Return a status in the words of its source."""
    words = [foreign for foreign, ours in habits.statuses.items() if ours == status]
    return before if fold(before) in map(fold, words) else words[0] if words and status else status
