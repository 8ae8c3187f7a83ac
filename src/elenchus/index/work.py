"""How content is read: with an index or without, by how many processes, and who is told of it meanwhile."""

from __future__ import annotations

from typing import TYPE_CHECKING

from elenchus.frozen import Frozen

if TYPE_CHECKING:
    from collections.abc import Callable
    from contextlib import AbstractContextManager

    from elenchus.errors import Problem

__all__ = ["Work"]


class Work(Frozen):
    """How content is read.

    A ``lenient`` reader takes a database that cannot be read, and never was, for one without entries.
    ``processes`` may be several only where the program is our own: each begins by running its main module
    again. ``tell`` gets the notice of an index that could not be used; ``progress`` gives for a number of
    units what is to be called for each of them. ``aside`` says that the index is written by a thread of its
    own, so that nobody waits for it.
    """

    index: bool = True
    processes: int = 1
    tell: Callable[[Problem], object] | None = None
    progress: Callable[[int], AbstractContextManager[Callable[[], None]]] | None = None
    aside: bool = False
    lenient: bool = False
