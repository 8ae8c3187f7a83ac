"""What a source hands over: entries as they were written, each value with its line."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from elenchus.frozen import Frozen, member
from elenchus.values.numberpatterns import NumberForm

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from elenchus.errors import Place

__all__ = ["Habits", "Raw", "Record", "RowBatch"]


class Raw(NamedTuple):
    """A value as a source found it (a scalar, None, or a list of scalars) and its line, 0 if unknown."""

    value: Any
    line: int = 0


class Habits(Frozen):
    """How a source writes what all sources say.

    ``statuses`` maps foreign words for a status onto ours. ``flags`` are keys that say yes or no, each with
    the status that yes gives; where that is ``published``, no keeps the entry back. ``separator`` parts a
    text where a field holds several values; empty for never. ``dates`` are patterns of dates that are not
    written as ISO 8601 has it, in the words of ``language``; ``zone`` is that of times that say none, if it
    is not the site's. ``blanks`` are folded words that stand for no value. For fields, ``numbers`` has the
    language whose signs numbers have, ``units`` what stands beside them, ``scales`` what they are out of;
    what stands there under no name is of all fields.
    """

    source: str = ""
    statuses: Mapping[str, str] = member(default_factory=dict)
    flags: Mapping[str, str] = member(default_factory=dict)
    separator: str = ","
    is_declared: bool = False  # whether the site says what the separator is
    dates: tuple[str, ...] = ()
    language: str = "en"
    zone: str = ""
    blanks: frozenset[str] = frozenset()
    numbers: Mapping[str, str] = member(default_factory=dict)
    units: Mapping[str, str] = member(default_factory=dict)
    scales: Mapping[str, float] = member(default_factory=dict)

    def number_form(self, field: str) -> NumberForm | None:
        """Return how numbers of a field are written; None if as usual."""
        unit = self.units.get(field, self.units.get("", ""))
        scale = self.scales.get(field, self.scales.get("", 0))
        form = NumberForm(self.numbers.get(field, self.numbers.get("", "")), unit, scale)
        return form if any(form) else None


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


class RowBatch(Frozen):
    """Some entries of a table, as many as there are ``lines``, which say where each stands in its file.

    ``file`` is the one that all stand in, ``files`` has one for each where they differ.

    ``kinds`` and ``slugs`` have an item for each; ``columns`` has the values of each key, None where a row
    has none. ``titled`` says of which rows the title was made of their slugs, ``at`` has the lines of the
    values of keys that stand on others than their rows.
    """

    file: str
    lines: Sequence[int]
    kinds: Sequence[str]
    slugs: Sequence[str]
    columns: Mapping[str, Sequence[Any]]
    habits: Habits = _PLAIN
    titled: Sequence[bool] = ()
    at: Mapping[str, Sequence[int]] = member(default_factory=dict)
    files: Sequence[str] = ()
