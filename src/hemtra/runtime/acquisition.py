"""Acquisition: from the profiles a sensor delivers to whole scans, in threads with bounded queues between them.

    source -> (bounded queue) -> assembler -> whoever wants the scans

A source is anything that hands over `Batch` and `Trigger` in the order they happened: a virtual line, a sensor
on the network, a replay of a folder.
"""

from __future__ import annotations

import queue
import threading
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray

from hemtra.core.errors import HemtraError
from hemtra.core.scan.assemble import resample_rows
from hemtra.core.scan.heightmap import Grid, HeightMap
from hemtra.core.station.trigger import Closed, Event, Ignored, TriggerMachine, TriggerRules

WAITING_BATCHES = 32
"""Batches that may wait for the assembler; a faster source has to wait itself, and memory stays bounded."""


@dataclass(frozen=True)
class Batch:
    """Consecutive profiles as they came from the sensor, the first one with its number along the travel.

    x: (n, points) float64 and z: (n, points) float32 in mm, z NaN without data; intensity: (n, points) uint8;
    missed: (n,) bool, profiles that were due and not taken; time: seconds, of the last profile.
    """

    first: int
    x: NDArray[np.float64]
    z: NDArray[np.float32]
    intensity: NDArray[np.uint8]
    time: float
    missed: NDArray[np.bool_] | None = None


@dataclass(frozen=True)
class Trigger:
    """The eye saw a part's front, or its end, when profile `at` was due."""

    at: int
    what: Literal["front", "end"] = "front"


@dataclass(frozen=True)
class Acquired:
    """One scan that is over, and how it came out."""

    number: int
    data: HeightMap
    how: Literal["complete", "short", "padded", "faulty"]
    reason: str
    missed: int
    """Profiles missed; they are rows of no data in their place."""


Arrival: TypeAlias = Batch | Trigger
Outcome: TypeAlias = Acquired | Ignored


@dataclass
class _Rows:
    """Rows of height map already resampled, from profile `first` on."""

    first: int
    z: NDArray[np.float32]
    intensity: NDArray[np.uint8]
    missed: NDArray[np.bool_]

    @property
    def end(self) -> int:
        return self.first + len(self.z)


@dataclass
class Assembler:
    """Turns what arrives into scans on a grid of `cols` columns. No threads, no clock; not to be shared."""

    rules: TriggerRules
    grid: Grid
    """Pitch, and x of the first column; every scan lies symmetrically about y = 0."""
    cols: int
    points: int
    """Points of each profile."""
    _machine: TriggerMachine = field(init=False)
    _rows: deque[_Rows] = field(default_factory=deque)
    _next: int = 0

    def __post_init__(self) -> None:
        self._machine = TriggerMachine(self.rules)

    def feed(self, arrival: Arrival) -> list[Outcome]:
        """What became complete or went wrong with this arrival. Raises `HemtraError` when it cannot be used."""
        if isinstance(arrival, Trigger):
            change = self._machine.trigger if arrival.what == "front" else self._machine.release
            return self._told(change(arrival.at))
        self._check(arrival)
        self._take(arrival)
        events: list[Event] = []
        for index in range(arrival.first, arrival.first + arrival.z.shape[0]):
            events += self._machine.profile(index, arrival.time)
        outcomes = self._told(events)
        self._forget()
        return outcomes

    def tick(self, time: float) -> list[Outcome]:
        """Time goes on without profiles."""
        return self._told(self._machine.tick(self._next - 1, time))

    def stop(self) -> list[Outcome]:
        """Close what is open with what it has."""
        return self._told(self._machine.stop(self._next))

    def _check(self, batch: Batch) -> None:
        if batch.z.shape[1] != self.points:
            raise HemtraError(
                f"The sensor delivers {batch.z.shape[1]} points instead of {self.points};"
                " check its model and its capture band."
            )
        if batch.first != self._next:
            raise HemtraError(
                f"Profile {batch.first} follows {self._next - 1}: the encoder jumped, or profiles were lost."
                " Start the line again."
            )

    def _take(self, batch: Batch) -> None:
        n = batch.z.shape[0]
        rows = _Rows(
            batch.first,
            np.empty((n, self.cols), np.float32),
            np.empty((n, self.cols), np.uint8),
            np.zeros(n, np.bool_) if batch.missed is None else batch.missed,
        )
        resample_rows(batch.x, batch.z, batch.intensity, self.grid.x0, self.grid.dx, rows.z, rows.intensity)
        rows.z[rows.missed] = np.nan
        rows.intensity[rows.missed] = 0
        self._rows.append(rows)
        self._next = batch.first + n

    def _told(self, events: Iterable[Event]) -> list[Outcome]:
        found: list[Outcome] = []
        for event in events:
            if isinstance(event, Closed):
                found.append(self._scan(event))
            elif isinstance(event, Ignored):
                found.append(event)
        return found

    def _scan(self, closed: Closed) -> Acquired:
        total = max(1, closed.taken + closed.padded)
        z = np.full((total, self.cols), np.nan, np.float32)
        grey = np.zeros((total, self.cols), np.uint8)
        missed, last = 0, closed.first + closed.taken
        for rows in self._rows:
            a, b = max(rows.first, closed.first), min(rows.end, last)
            if a < b:
                there, here = slice(a - closed.first, b - closed.first), slice(a - rows.first, b - rows.first)
                z[there], grey[there] = rows.z[here], rows.intensity[here]
                missed += int(np.count_nonzero(rows.missed[here]))
        for array in (z, grey):
            array.flags.writeable = False
        grid = self.grid
        data = HeightMap(z, grey, grid.dx, grid.dy, grid.x0, -(total - 1) / 2 * grid.dy)
        return Acquired(closed.scan, data, closed.how, closed.reason, missed)

    def _forget(self) -> None:
        """Drop the rows that no scan can want any more."""
        oldest = self._machine.oldest_wanted(self._next)
        while self._rows and self._rows[0].end <= oldest:
            self._rows.popleft()


class Acquisition:
    """Reads a source in one thread and assembles in another; `told` gets every outcome, `failed` what ends it.

    Both are called on the assembling thread. Stopping closes what is open and waits for both threads.
    """

    def __init__(
        self,
        source: Iterable[Arrival],
        assembler: Assembler,
        told: Callable[[Outcome], None],
        failed: Callable[[BaseException], None],
    ) -> None:
        self._source, self._assembler = source, assembler
        self._tell, self._fail = told, failed
        self._queue: queue.Queue[Arrival | None] = queue.Queue(WAITING_BATCHES)
        self._stopping = threading.Event()
        self._threads = [
            threading.Thread(target=self._read, name="source"),
            threading.Thread(target=self._assemble, name="assembler"),
        ]

    def start(self) -> None:
        """Begin."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Take no more from the source, finish what was taken, and wait."""
        self._stopping.set()
        self.wait()

    def wait(self) -> None:
        """Until the source has ended and everything is assembled."""
        for thread in self._threads:
            thread.join()

    def _read(self) -> None:
        try:
            for arrival in self._source:
                if self._stopping.is_set():
                    break
                self._queue.put(arrival)
        except Exception as error:  # whatever the source does, the assembler must hear that it is over
            self._fail(error)
        finally:
            self._queue.put(None)

    def _assemble(self) -> None:
        failed = False
        while (arrival := self._queue.get()) is not None:
            if failed:
                continue  # the queue is still emptied, or the source would wait for ever
            try:
                for outcome in self._assembler.feed(arrival):
                    self._tell(outcome)
            except Exception as error:
                failed = True
                self._stopping.set()
                self._fail(error)
        for outcome in self._assembler.stop():
            self._tell(outcome)
