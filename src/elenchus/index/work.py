"""How content is read: with an index or without, by how many processes, and who is told of it meanwhile."""

from __future__ import annotations

import gc
from contextlib import contextmanager, nullcontext
from typing import TYPE_CHECKING

import numpy as np

from elenchus.frozen import Frozen
from elenchus.index.units import Chunk, read_chunk

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from contextlib import AbstractContextManager
    from pathlib import Path

    from elenchus.errors import Problem
    from elenchus.sources import SourceSpec

__all__ = ["Work", "read_all"]

_FEWEST = 2_000  # units from which on another process is worth its start


class Work(Frozen):
    """How content is read.

    ``processes`` may be several only where the program is our own: each begins by running its main module
    again. ``tell`` gets the notice of an index that could not be used; ``progress`` gives for a number of
    units what is to be called for each of them.
    """

    index: bool = True
    processes: int = 1
    tell: Callable[[Problem], object] | None = None
    progress: Callable[[int], AbstractContextManager[Callable[[], None]]] | None = None


def read_all(
    work: Work,
    specs: Sequence[SourceSpec],
    folder: Path,
    units: Sequence[tuple[int, str]],
    known: Sequence[int],
) -> Chunk:
    """Return what some units give; see :func:`read_chunk`. Many are shared among processes."""
    if work.processes < 2 or len(units) < _FEWEST:  # noqa: PLR2004 - one is this process
        with _steps(work, len(units)) as tick, _without_collecting():
            return read_chunk(specs, folder, units, known, tick)
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    share = -(-len(units) // work.processes)
    parts = [slice(first, first + share) for first in range(0, len(units), share)]
    # Spawned and not forked, since this process may have threads, as a preview has.
    with ProcessPoolExecutor(work.processes - 1, mp_context=get_context("spawn")) as pool:
        others = [pool.submit(read_chunk, specs, folder, units[part], known[part]) for part in parts[1:]]
        with _steps(work, share) as tick, _without_collecting():
            first = read_chunk(specs, folder, units[parts[0]], known[parts[0]], tick)
        return _joined([first, *(each.result() for each in others)])


def _steps(work: Work, count: int) -> AbstractContextManager[Callable[[], None] | None]:
    """Return what gives the function that is to be called for each unit."""
    return work.progress(count) if work.progress and count else nullcontext()


@contextmanager
def _without_collecting() -> Iterator[None]:
    """Let nothing look for circles of objects: reading makes many objects, and none."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def _joined(chunks: Sequence[Chunk]) -> Chunk:
    """Return what several chunks gave as one."""
    records = chunks[0].records
    problems: dict[int, list[Problem]] = {}
    first = 0
    for number, chunk in enumerate(chunks):
        records = records.with_more(chunk.records) if number else records
        problems |= {first + at: each for at, each in chunk.problems.items()}
        first += len(chunk.counts)
    return Chunk(
        records,
        np.concatenate([each.counts for each in chunks]),
        np.concatenate([each.digests for each in chunks]),
        problems,
        np.concatenate([each.is_same for each in chunks]),
    )
