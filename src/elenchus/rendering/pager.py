"""Pagers: the numbers around a page, and the pages before and after it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.rendering.values import Presented

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

__all__ = ["Pager", "PagerStep", "pager", "window"]

_AROUND = 2  # pages that are named on each side of the current one


class PagerStep(Presented):
    """One step of a pager: a page, or a gap where ``number`` is 0."""

    number: int
    href: str = ""
    is_current: bool = False

    def __str__(self) -> str:
        return str(self.number)


class Pager(Presented):
    """The steps of a pager; ``previous`` and ``next`` are empty at the ends."""

    number: int
    pages: int
    steps: tuple[PagerStep, ...]
    previous: str = ""
    next: str = ""
    first: str = ""
    last: str = ""

    def __str__(self) -> str:
        return f"{self.number}/{self.pages}"


def window(number: int, pages: int) -> Iterator[int]:
    """Yield the pages that a pager names, 0 for a gap of at least two of them: 1 0 5 6 7 0 20."""
    named = [page for page in range(1, pages + 1) if page in (1, pages) or abs(page - number) <= _AROUND]
    last = 0
    for page in named:
        if page - last == 2:  # noqa: PLR2004 - a gap of one page is that page
            yield last + 1
        elif page - last > 1:
            yield 0
        yield page
        last = page


def pager(number: int, pages: int, link: Callable[[int], str]) -> Pager | None:
    """Return the pager of a page; None where there is one page only."""
    if pages <= 1:
        return None
    steps = tuple(
        PagerStep(page, link(page) if page else "", page == number) for page in window(number, pages)
    )
    return Pager(
        number=number,
        pages=pages,
        steps=steps,
        previous=link(number - 1) if number > 1 else "",
        next=link(number + 1) if number < pages else "",
        first=link(1),
        last=link(pages),
    )
