"""Crews: one piece of work done on many parts, several at a time, in threads, in processes or on a cluster.

Everything that evaluates many parts requires a `Crew` and gets its results in the order of the parts; who does
the work changes nothing of them.
"""

from __future__ import annotations

import gc
import signal
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

from hemtra.runtime.family import end_with_starter, evaluating

T = TypeVar("T")
R = TypeVar("R")
AHEAD = 2
"""Parts begun for each worker before the oldest result is taken."""
TRIES = 3
"""Number of tries for a part whose worker dies."""
WORTH_PROCESSES = 8
"""Parts from which processes of their own are worth their start."""


@dataclass(frozen=True)
class Lost:
    """Stands for the result of a part on which workers died; reason: a sentence."""

    reason: str


class Crew(Protocol):
    """Workers, however many and wherever they are."""

    @property
    def size(self) -> int:
        """Number of workers now."""

    def map(self, work: Callable[[T], R], items: Sequence[T]) -> Generator[R | Lost, None, None]:
        """Do the work on each item; results come in the order of the items.

        work: a picklable callable, sent to each worker once. Exceptions of the work are raised here. Closing
        the iterator cancels what has not started.
        """


class ThreadCrew:
    """Threads of this process: ready at once, for few parts and on systems with one core."""

    def __init__(self, count: int = 1) -> None:
        self.size = max(1, count)

    def map(self, work: Callable[[T], R], items: Sequence[T]) -> Generator[R | Lost, None, None]:
        """See `Crew`."""
        pool = ThreadPoolExecutor(self.size, "crew")
        begun: deque[Future[R]] = deque()
        try:
            for item in items:
                begun.append(pool.submit(work, item))
                if len(begun) > AHEAD * self.size:
                    yield begun.popleft().result()
            while begun:
                yield begun.popleft().result()
        finally:
            pool.shutdown(wait=False, cancel_futures=True)


class ProcessCrew:
    """Processes of their own, so that all cores are used: a third of a part's time is Python.

    Where a worker dies, new ones take the place of all; the parts they had are then done one by one, so that
    only one on which workers keep dying is lost.
    """

    def __init__(self, count: int) -> None:
        self.size = max(1, count)

    def map(self, work: Callable[[T], R], items: Sequence[T]) -> Generator[R | Lost, None, None]:
        """See `Crew`."""
        pool = self._pool(work)
        begun: deque[tuple[T, Future[R]]] = deque()
        try:
            waiting = deque(items)
            while waiting or begun:
                try:
                    while waiting and len(begun) <= AHEAD * self.size:
                        begun.append((waiting[0], pool.submit(_done, waiting[0])))
                        waiting.popleft()
                    result = begun[0][1].result()
                except BrokenProcessPool:
                    pool.shutdown(wait=False, cancel_futures=True)
                    yield from self._one_by_one(work, begun)
                    begun.clear()
                    pool = self._pool(work)
                    continue
                begun.popleft()
                yield result
        finally:
            pool.shutdown(wait=False, cancel_futures=True)

    def _pool(self, work: Callable[[T], R], size: int | None = None) -> ProcessPoolExecutor:
        return ProcessPoolExecutor(size or self.size, evaluating(), initializer=_begin, initargs=(work,))

    def _one_by_one(self, work: Callable[[T], R], begun: Iterable[tuple[T, Future[R]]]) -> Iterator[R | Lost]:
        """Outcomes of parts at one of which a worker died; what is missing is evaluated again, alone."""
        pool: ProcessPoolExecutor | None = None
        try:
            for item, future in begun:
                found: R | Lost = Lost(f"Workers died on it {TRIES} times; the system's log may say why.")
                for _ in range(0 if _is_whole(future) else TRIES - 1):
                    pool = pool or self._pool(work, 1)
                    future = pool.submit(_done, item)
                    with suppress(BrokenProcessPool):
                        future.result()
                        break
                    pool.shutdown(wait=False)
                    pool = None
                yield future.result() if _is_whole(future) else found
        finally:
            if pool is not None:
                pool.shutdown(wait=False, cancel_futures=True)


_work: list[Callable[[Any], Any]] = []
"""Of a worker process: what it does."""


def _begin(work: Callable[[Any], Any]) -> None:
    end_with_starter()
    # a terminal interrupts everything that runs in it; who started this says when it ends
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _work[:] = [work]
    # what is there by now stays; looking through all of it again and again makes some parts late
    gc.collect()
    gc.freeze()


def _done(item: Any) -> Any:
    return _work[0](item)


def _is_whole(future: Future[R]) -> bool:
    """Whether a result arrived before the pool broke."""
    return future.done() and not future.cancelled() and future.exception() is None


def crew_for(on: str | None, jobs: int, parts: int) -> Crew:
    """The crew that is requested: a cluster by its address, one started here for “local”, else this computer.

    parts: how many there are; few are done in this process. Raises `HemtraError` for what is no address.
    """
    if on:
        from hemtra.runtime.cluster import ClusterCrew

        return ClusterCrew(on, jobs)
    if jobs > 1 and parts >= WORTH_PROCESSES:
        return ProcessCrew(min(jobs, parts))
    return ThreadCrew(jobs)
