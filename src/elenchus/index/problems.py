"""Problems in content as JSON, and back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import About, Edit, OwnName, Place, Problem

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

    from elenchus.errors import Cure

__all__ = ["packed_problems", "unpacked_problems"]


def _packed_cure(cure: Cure | None) -> list[Any] | None:
    """Return what would put content right as a list of JSON."""
    if isinstance(cure, Edit):
        return [cure.entry, cure.field, cure.operator, cure.value]
    return [cure.what, cure.kind, list(cure.records)] if isinstance(cure, OwnName) else None


def _cure_of(packed: Sequence[Any]) -> Cure:
    """Return the cure of such a list."""
    if isinstance(packed[-1], list):
        what, kind, records = packed
        return OwnName(what, kind, tuple(records))
    return Edit(*packed)


def packed_problems(problems: Iterable[Problem]) -> list[list[Any]]:
    """Return problems in content as lists of JSON; they have places and no spans."""
    return [
        [
            each.code,
            each.message,
            each.advice,
            [each.place.file, each.place.line] if each.place else None,
            list(each.near),
            each.about.name,
            _packed_cure(each.cure),
            each.entries,
        ]
        for each in problems
    ]


def unpacked_problems(lists: Sequence[Sequence[Any]]) -> list[Problem]:
    """Return the problems of such lists."""
    return [
        Problem(
            code,
            message,
            advice,
            place=Place(*place) if place else None,
            near=tuple(near),
            about=About[about],
            cure=_cure_of(cure) if cure else None,
            entries=entries,
        )
        for code, message, advice, place, near, about, cure, entries in lists
    ]
