"""Problems in content as JSON, and back."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from elenchus.errors import About, Edit, Place, Problem

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence

__all__ = ["packed_problems", "unpacked_problems"]


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
            [each.cure.entry, each.cure.field, each.cure.operator, each.cure.value]
            if isinstance(each.cure, Edit)
            else None,
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
            cure=Edit(*cure) if cure else None,
            entries=entries,
        )
        for code, message, advice, place, near, about, cure, entries in lists
    ]
