"""Reading units: by one process or by several, each unit once."""

from __future__ import annotations

from contextlib import ExitStack, closing, nullcontext, suppress
from typing import TYPE_CHECKING, TypeVar

import numpy as np

from elenchus import sources
from elenchus.engine.columns.recordtable import Intake, RecordTable
from elenchus.errors import Place, Problem
from elenchus.files import unreadable
from elenchus.frozen import Frozen, replace
from elenchus.index.collecting import without_collecting
from elenchus.schema.conform import FLAGS
from elenchus.schema.record import Record, RowBatch
from elenchus.schema.types import CORE_FIELDS

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
    from contextlib import AbstractContextManager
    from pathlib import Path

    from numpy.typing import NDArray

    from elenchus.index.work import Work
    from elenchus.sources import Item, Reader, SourceSpec, UnitContent

__all__ = ["Chunk", "read_all", "read_chunk", "read_contents"]

_Value = TypeVar("_Value")
_SHOWN = 3  # keys that a message lists
_STEP = 20  # bits of the bytes that a step of progress is long: a megabyte
_MANY = 100_000  # records whose reading takes so much memory that it is worth giving it back
_FEWEST = 2_000  # units from which on another process is worth its start


class Chunk(Frozen):
    """What some units gave: their records, how many each, digests; problems by their place among the units.

    Units whose bytes are the same as before gave nothing: ``is_same`` says which.
    """

    records: RecordTable
    counts: NDArray[np.int32]
    digests: NDArray[np.uint64]
    problems: dict[int, list[Problem]]
    is_same: NDArray[np.bool_]


def read_chunk(
    specs: Sequence[SourceSpec],
    folder: Path,
    units: Sequence[tuple[int, str]],
    known: Sequence[int],
    steps: Sequence[int] = (),
    tick: Callable[[], None] | None = None,
) -> Chunk:
    """Return what some units give, each with the number of its source; ``known`` are their digests before.

    ``tick`` is called for each of the ``steps`` that a unit is long.
    """
    intake = Intake()
    counts, digests = np.zeros(len(units), dtype=np.int32), np.zeros(len(units), dtype=np.uint64)
    is_same = np.zeros(len(units), np.bool_)
    problems: dict[int, list[Problem]] = {}
    with ExitStack() as stack:
        readers: dict[int, Reader] = {}
        for at, (number, unit) in enumerate(units):
            walk = _UnitSteps(steps[at] if steps else 1, tick)
            reader = readers.get(number)
            if reader is None:
                mine = [each for of, each in units[at:] if of == number]
                reader = sources.source(specs[number].read).reader(specs[number], folder, mine)
                readers[number] = reader
                stack.callback(_close_reader, reader, number)
            try:
                content = reader.content(unit)
                digests[at] = content.digest
                if content.digest == known[at]:
                    is_same[at] = True
                    continue
                counts[at], wrong = _taken(intake, unit, walk.through(content, reader.items(unit, content)))
            except sources.UnreachableError as error:
                if specs[number].table:
                    raise sources.UnreachableError(error.problem, number) from None
                wrong, digests[at], is_same[at] = [error.problem], known[at], known[at] != 0
            except OSError as error:
                wrong = [unreadable(unit, error, sources.LEFT_OUT)]
            finally:
                walk.end()
            if wrong:
                problems[at] = wrong
    return Chunk(intake.done(), counts, digests, problems, is_same)


def read_contents(
    specs: Sequence[SourceSpec], folder: Path, units: Sequence[tuple[int, str, UnitContent]]
) -> Chunk:
    """Return what some units would give if they held what stands beside them."""
    intake = Intake()
    counts, problems = np.zeros(len(units), dtype=np.int32), {}
    for at, (number, unit, content) in enumerate(units):
        with closing(sources.source(specs[number].read).reader(specs[number], folder, [unit])) as reader:
            counts[at], wrong = _taken(intake, unit, reader.items(unit, content))
        if wrong:
            problems[at] = wrong
    digests, is_same = np.zeros(len(units), dtype=np.uint64), np.zeros(len(units), np.bool_)
    return Chunk(intake.done(), counts, digests, problems, is_same)


def _close_reader(reader: Reader, number: int) -> None:
    """Let go of what a reader has opened. Raises UnreachableError with the number of its source."""
    try:
        reader.close()
    except sources.UnreachableError as error:
        raise sources.UnreachableError(error.problem, number) from None


class _UnitSteps:
    """The way through one unit, which is so many steps long."""

    def __init__(self, steps: int, tick: Callable[[], None] | None) -> None:
        self.left = steps
        self.tick = tick

    def through(self, content: UnitContent, items: Iterable[Item]) -> Iterator[Item]:
        """Yield the items of a unit, and take the steps that were made meanwhile."""
        whole = self.left
        for item in items:
            yield item
            self.go(whole - (getattr(content, "passed", 0) >> _STEP))

    def go(self, left: int) -> None:
        """Take steps until so many are left."""
        while self.tick and self.left > max(left, 0):
            self.left -= 1
            self.tick()

    def end(self) -> None:
        """Take the last steps."""
        self.go(0)


def _taken(intake: Intake, unit: str, items: Iterable[Item]) -> tuple[int, list[Problem]]:
    """Take what a unit holds, and return the number of its entries with its problems."""
    wrong: list[Problem] = []
    count = 0
    keys: set[str] = set()
    left: set[str] = set()
    try:
        for item in items:
            if isinstance(item, Record):
                values = _bounded(item.values, keys, left)
                intake.add(item if len(values) == len(item.values) else replace(item, values=values))
                count += 1
            elif isinstance(item, RowBatch):
                columns = _bounded(item.columns, keys, left)
                intake.add_rows(item if len(columns) == len(item.columns) else replace(item, columns=columns))
                count += len(item.lines)
            else:
                wrong.append(item)
    except OSError as error:  # what came before it stays
        wrong.append(unreadable(unit, error, "The rest of it is left out." if count else sources.LEFT_OUT))
    if left:
        message = f"it has {len(keys) + len(left):,} keys, and {sources.MOST_KEYS:,} of a file are read"
        hint = f"Left out are {', '.join(sorted(left)[:_SHOWN])} and others."
        wrong.append(Problem("too-many-keys", message, hint, place=Place(unit.partition("\t")[0])))
    return count, wrong


def _bounded(values: Mapping[str, _Value], keys: set[str], left: set[str]) -> Mapping[str, _Value]:
    """Return values without those of keys beyond what a file may have, which are added to ``left``."""
    if values.keys() <= keys:
        return values
    new = [name for name in values if name not in keys]
    kept = [name for name in new if name in CORE_FIELDS or name in FLAGS]
    kept += [name for name in new if name not in kept][: max(0, sources.MOST_KEYS - len(keys) - len(kept))]
    keys.update(kept)
    if len(kept) == len(new):
        return values
    left.update(name for name in new if name not in keys)
    return {name: value for name, value in values.items() if name in keys}


def read_all(
    work: Work,
    specs: Sequence[SourceSpec],
    folder: Path,
    units: Sequence[tuple[int, str]],
    known: Sequence[int],
    sizes: Sequence[int],
) -> Chunk:
    """Return what some units give; see :func:`read_chunk`. Many are shared among processes.

    ``sizes`` are those of files in bytes.
    """
    steps = [1 + (size >> _STEP) for size in sizes]
    if work.processes < 2 or len(units) < _FEWEST:  # noqa: PLR2004 - one is this process
        with _steps(work, sum(steps)) as tick, without_collecting():
            found = read_chunk(specs, folder, units, known, steps, tick)
        _give_back(len(found.records))
        return found
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    share = -(-len(units) // work.processes)
    parts = [slice(first, first + share) for first in range(0, len(units), share)]
    # Spawned and not forked, since this process may have threads, as a preview has.
    with ProcessPoolExecutor(work.processes - 1, mp_context=get_context("spawn")) as pool:
        others = [pool.submit(read_chunk, specs, folder, units[part], known[part]) for part in parts[1:]]
        with _steps(work, sum(steps[parts[0]])) as tick, without_collecting():
            first = read_chunk(specs, folder, units[parts[0]], known[parts[0]], steps[parts[0]], tick)
        return _joined([first, *(each.result() for each in others)])


def _steps(work: Work, count: int) -> AbstractContextManager[Callable[[], None] | None]:
    """Return what gives the function that is to be called for each unit."""
    return work.progress(count) if work.progress and count else nullcontext()


def _give_back(count: int) -> None:
    """Give what reading many records has used back to the system, before tables are made of them.

    What stays lies between what is free now, so that glibc keeps all of it: a seventh of the largest size.
    """
    if count >= _MANY:
        import ctypes

        with suppress(AttributeError, OSError, TypeError):  # not every system has it
            ctypes.CDLL(None).malloc_trim(0)


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
