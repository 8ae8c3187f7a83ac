"""Other processes that draw pages: each the pages that stand together, as these show the same rows."""

from __future__ import annotations

from collections import deque
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, ProcessPoolExecutor, wait
from multiprocessing import get_context
from typing import TYPE_CHECKING, Generic, TypeVar

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator, Sequence
    from concurrent.futures import Future
    from types import TracebackType

__all__ = ["Crew"]

_SHARE = 50  # jobs that a process does before it tells of them
_AHEAD = 2  # shares that a process has before it, so that it never waits

_Job = TypeVar("_Job")
_Done = TypeVar("_Done")


class Crew(Generic[_Job, _Done]):
    """Some processes that begin at once, and do jobs when they are asked to.

    ``begin`` is called in each first, ``work`` does some jobs there. Processes are spawned and not forked,
    since this one may have threads.
    """

    def __init__(
        self, count: int, begin: Callable[[], object], work: Callable[[Sequence[_Job]], list[_Done]]
    ) -> None:
        self.work = work
        context = get_context("spawn")
        self.pools = [ProcessPoolExecutor(1, mp_context=context, initializer=begin) for _ in range(count)]
        for pool in self.pools:
            pool.submit(int)  # which starts the process

    def __enter__(self) -> Crew[_Job, _Done]:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for pool in self.pools:
            pool.shutdown(wait=kind is None, cancel_futures=True)

    def done(self, jobs: Sequence[_Job]) -> Iterator[tuple[_Job, _Done]]:
        """Yield jobs with what came of them, in any order: each process has a run, then helps another.

        Jobs of a process that was ended from outside are left out.
        """
        size = -(-len(jobs) // len(self.pools))
        runs = [deque(_cut(jobs[first : first + size])) for first in range(0, len(jobs), size)]
        busy: dict[Future[list[_Done]], tuple[int, Sequence[_Job]]] = {}

        def give(number: int) -> None:
            own, longest = runs[number % len(runs)], max(runs, key=len)
            if own or longest:
                share = own.popleft() if own else longest.pop()
                busy[self.pools[number].submit(self.work, share)] = number, share

        try:
            for _ in range(_AHEAD):
                for number in range(len(self.pools)):
                    give(number)
            while busy:
                for future in wait(busy, return_when=FIRST_COMPLETED).done:
                    number, share = busy.pop(future)
                    give(number)
                    yield from zip(share, future.result(), strict=False)
        except BrokenExecutor:
            return


def _cut(jobs: Sequence[_Job]) -> Iterator[Sequence[_Job]]:
    """Yield jobs in shares."""
    return (jobs[first : first + _SHARE] for first in range(0, len(jobs), _SHARE))
