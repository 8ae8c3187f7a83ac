"""What is otherwise in the lines of a text."""

from __future__ import annotations

from difflib import SequenceMatcher
from itertools import groupby
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

__all__ = ["LineChange", "line_changes"]

_MOST = 5_000  # lines that are matched with one another


class LineChange(NamedTuple):
    """Lines that become others, with the number of the first on either side, from 1."""

    at: int
    before: tuple[str, ...]
    now_at: int
    after: tuple[str, ...]


def line_changes(before: str, after: str) -> Iterator[LineChange]:
    """Yield the lines that are otherwise, in their order."""
    old, new = before.splitlines(), after.splitlines()
    if len(old) == len(new):
        yield from _by_number(old, new)
        return
    start = next((at for at, pair in enumerate(zip(old, new, strict=False)) if pair[0] != pair[1]), None)
    start = min(len(old), len(new)) if start is None else start
    tail = 0
    while tail < min(len(old), len(new)) - start and old[-1 - tail] == new[-1 - tail]:
        tail += 1
    middle, other = old[start : len(old) - tail], new[start : len(new) - tail]
    if len(middle) + len(other) > _MOST:
        yield LineChange(start + 1, tuple(middle), start + 1, tuple(other))
        return
    for tag, first, last, begin, end in SequenceMatcher(None, middle, other, autojunk=False).get_opcodes():
        if tag != "equal":
            lines = tuple(middle[first:last]), tuple(other[begin:end])
            yield LineChange(start + first + 1, lines[0], start + begin + 1, lines[1])


def _by_number(old: Sequence[str], new: Sequence[str]) -> Iterator[LineChange]:
    """Yield the runs of lines that are otherwise in texts of as many lines."""
    for is_same, run in groupby(range(len(old)), lambda at: old[at] == new[at]):
        if not is_same:
            places = list(run)
            first, last = places[0], places[-1] + 1
            yield LineChange(first + 1, tuple(old[first:last]), first + 1, tuple(new[first:last]))
