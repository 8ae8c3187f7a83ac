"""Why an answer is as it is, and what becomes of one row: as data, whatever runs the plan."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeAlias

from elenchus.frozen import Frozen, replace

if TYPE_CHECKING:
    from collections.abc import Callable

    from elenchus.errors import Edit
    from elenchus.schema.state import State

__all__ = ["Boundary", "Change", "Explanation", "Gate", "Removed", "Spent", "Step", "Tally", "Verdict", "Way"]


class Spent(Frozen):
    """A step on the way to an answer: what was done, how many rows it left, and its time in microseconds."""

    words: str
    rows: int
    time: float


class Boundary(Frozen):
    """A relative date as the instants at which it starts and ends, in the site's zone, as texts."""

    words: str
    start: str
    end: str


class Removed(Frozen):
    """A row that a step removed, with the values that it has where the step asks."""

    id: str
    values: str


class Tally(Frozen):
    """How many rows have each of several terms of one comparison, and which rows have more than one."""

    field: str
    counts: tuple[tuple[str, int], ...]
    distinct: int
    overlap: tuple[str, ...]


class Step(Frozen):
    """One step of the funnel: how many rows it leaves and removes, the first of those removed.

    ``by_absence`` counts rows that pass only because a value is missing. ``as_text`` are the ids that
    a comparison as text would leave, where a stored value does not fit and the outcome would differ.
    """

    words: str
    left: int
    removed: int
    examples: tuple[Removed, ...] = ()
    by_absence: int = 0
    as_text: tuple[str, ...] | None = None
    tally: Tally | None = None


class Explanation(Frozen):
    """A question read back: its boundaries in time, the funnel of its rows, and how they are arranged."""

    question: str
    at: str
    boundaries: tuple[Boundary, ...]
    steps: tuple[Step, ...]
    arrangement: tuple[str, ...]
    total: int


class Change(Frozen):
    """One change: in words, and as what is written in the entry, or in the question as a clause.

    ``part`` is the part of the plan that the clause makes, with what it is then.
    """

    words: str
    edit: Edit | None = None
    clause: str = ""
    part: tuple[str, Any] | None = None

    def __str__(self) -> str:
        return self.words


Way: TypeAlias = tuple[Change, ...]


class Gate(Frozen):
    """One thing that is asked of a row: in words, whether it holds, and the values that decide it.

    ``depth`` counts how far it stands inside other conditions; only those at 0 must all hold.
    """

    words: str
    holds: bool
    values: str = ""
    depth: int = 0


class Verdict(Frozen):
    """What becomes of one row.

    ``state`` is that of an entry, None for a term. ``rank`` counts from 1 before offset and limit, among
    ``of`` rows; for a row that is not listed, it is the one that it would have after the first of the ways,
    or has where it matches. ``page`` is the one on which it stands, None when it is not listed or stands in
    groups. ``cut`` says what passes it over though it matches. ``ways`` are what would list it: each has one
    change, or several that are needed together, and was tried. ``needs`` tell what is asked of it where no
    way is known. ``edits_tried`` says whether edits of the row were tried as ways.
    """

    id: str
    name: str
    place: str
    state: State | None
    listed: bool
    matches: bool
    findings: tuple[Gate, ...]
    rank: int | None = None
    of: int = 0
    page: int | None = None
    groups: tuple[str, ...] = ()
    cut: str = ""
    ways: tuple[Way, ...] = ()
    needs: tuple[str, ...] = ()
    edits_tried: bool = True

    def with_edits(self, offered: Callable[[Edit], Edit]) -> Verdict:
        """Return the verdict with other edits in its ways, each made of one that is there."""
        ways = tuple(
            tuple(replace(each, edit=offered(each.edit)) if each.edit else each for each in way)
            for way in self.ways
        )
        return replace(self, ways=ways)
