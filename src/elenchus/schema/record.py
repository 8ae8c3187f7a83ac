"""What a source hands over: entries as they were written, each value with its line."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.frozen import Frozen, member

if TYPE_CHECKING:
    from collections.abc import Mapping

    from elenchus.errors import Place

__all__ = ["Habits", "Raw", "Record"]


class Raw(NamedTuple):
    """A value as a source found it (a scalar, None, or a list of scalars) and its line, 0 if unknown."""

    value: Any
    line: int = 0


class Habits(Frozen):
    """How a source writes what all sources say.

    ``statuses`` maps foreign words for a status onto ours. ``flags`` are keys that say yes or no, each with
    the status that yes gives; where that is ``published``, no keeps the entry back. ``separator`` parts a
    text where a field holds several values; empty for never.
    """

    source: str = ""
    statuses: Mapping[str, str] = member(default_factory=dict)
    flags: Mapping[str, str] = member(default_factory=dict)
    separator: str = ","
    is_declared: bool = False  # whether the site says what the separator is


_PLAIN = Habits()


class Record(Frozen):
    """One entry as written: where it stands, its kind, the slug its place suggests, its values.

    ``guessed`` tells which values nobody wrote, and what they were made of.
    """

    place: Place
    kind: str
    slug: str
    values: Mapping[str, Raw]
    habits: Habits = _PLAIN
    guessed: Mapping[str, str] = member(default_factory=dict)
