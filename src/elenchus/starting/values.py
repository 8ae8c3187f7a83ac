"""The values of each key of a source: each distinct text with how often it is there."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.starting import vocabulary
from elenchus.values.texts import fold
from elenchus.values.wording import as_text

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from elenchus.errors import Place
    from elenchus.starting.looking import Entry

__all__ = ["KeyValues", "flattened", "values_of"]

_MOST_PARTS = 12  # of an object whose parts are fields
_SHARED = 0.5  # of the objects must have a part for it to be a field
_DEEPEST = 3


class KeyValues(NamedTuple):
    """What entries have for a key: ``texts`` with how often each is there, ``first`` with where.

    ``having`` is how many entries have some, ``total`` how many there are. ``many`` says that some are
    lists, ``whole`` that some are objects, or lists of these. ``words`` are those for no value that were
    met, which are not among the texts.
    """

    key: str
    having: int
    total: int
    texts: Mapping[str, int]
    first: Mapping[str, Place]
    many: bool = False
    whole: bool = False
    words: Mapping[str, int] = {}

    @property
    def number(self) -> int:
        """How many values there are, those of a list each."""
        return sum(self.texts.values())

    @property
    def is_everywhere(self) -> bool:
        """Say whether every entry has one."""
        return self.having == self.total

    @property
    def are_distinct(self) -> bool:
        """Say whether no two entries have the same, whatever the case of its letters."""
        return not self.many and len(set(map(fold, self.texts))) == self.number

    def share(self, texts: Iterable[str]) -> float:
        """Return which part of the values some texts are."""
        return sum(self.texts[text] for text in texts) / self.number if self.number else 0.0


def flattened(entries: Sequence[Entry]) -> list[Entry]:
    """Return entries in which the parts of objects of one shape are keys of their own: ``name.common``."""
    for _ in range(_DEEPEST):
        shapes = _shapes(entries)
        if not shapes:
            break
        entries = [_spread(entry, shapes) for entry in entries]
    return list(entries)


def _shapes(entries: Sequence[Entry]) -> dict[str, list[str]]:
    """Return the keys that hold objects of one shape, with the parts that are fields."""
    counts: Counter[str] = Counter()
    parts: dict[str, Counter[str]] = {}
    others: set[str] = set()
    for entry in entries:
        for key, value in entry.values.items():
            if isinstance(value, dict):
                counts[key] += 1
                parts.setdefault(key, Counter()).update(map(str, value))
            elif value is not None:
                others.add(key)
    found = {}
    for key, met in parts.items():
        shared = [part for part, count in met.items() if count >= _SHARED * counts[key]]
        is_table = len(met) <= _MOST_PARTS and len(shared) * 2 > len(met) and counts[key] > 1
        if is_table and key not in others and not any("." in part for part in shared):
            found[key] = shared
    return found


def _spread(entry: Entry, shapes: Mapping[str, Sequence[str]]) -> Entry:
    """Return an entry with the parts of some of its objects beside one another."""
    values: dict[str, Any] = {}
    for key, value in entry.values.items():
        if key in shapes and isinstance(value, dict):
            values |= {f"{key}.{part}": value[part] for part in shapes[key] if value.get(part) is not None}
        else:
            values[key] = value
    return entry._replace(values=values)


def values_of(entries: Sequence[Entry]) -> dict[str, KeyValues]:
    """Return the values of each key of some entries."""
    blanks = vocabulary.words("texts.blanks")
    texts: dict[str, Counter[str]] = {}
    words: dict[str, Counter[str]] = {}
    first: dict[str, dict[str, Place]] = {}
    counts: Counter[str] = Counter()
    many: set[str] = set()
    whole: set[str] = set()
    for entry in entries:
        for key, value in entry.values.items():
            if value.__class__ is str:
                found = [value.strip()]
            elif isinstance(value, list):
                many.add(key)
                if any(isinstance(each, (dict, list)) for each in value):
                    whole.add(key)
                found = [as_text(each) for each in value if each is not None]
            else:
                if isinstance(value, dict):
                    whole.add(key)
                found = [as_text(value)] if value is not None else []
            own = texts.setdefault(key, Counter())
            is_there = False
            for text in found:
                if not text:
                    continue
                if len(text) <= 8 and fold(text) in blanks:  # noqa: PLR2004 - none is longer
                    words.setdefault(key, Counter())[text] += 1
                    continue
                is_there = True
                if text not in own:
                    first.setdefault(key, {})[text] = entry.place
                own[text] += 1
            counts[key] += is_there
    size = len(entries)
    return {
        key: KeyValues(
            key, counts[key], size, own, first.get(key, {}), key in many, key in whole, words.get(key, {})
        )
        for key, own in texts.items()
    }
