"""Acquisition: from the profiles of the sensors to whole scans, in threads with a bounded queue between them.

    source -> (bounded queue) -> assembler -> whoever wants the scans

A source is anything that hands over batches of profiles and triggers in the order they happened: a virtual
line, a sensor on the network, a replay of a folder.
"""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Iterable
from functools import partial

from hemtra.core.station.assembler import Arrival, Assembler, Batch, Growing, Outcome

WAITING_BATCHES = 32
"""Batches in the queue of the assembler; a faster source has to wait itself, and memory stays bounded."""
WATCH_EVERY = 1 / 40
"""Interval between previews of a growing scan, s; more often is not visible."""
SILENCE = 0.25
"""Seconds without anything from the source after which the assembler hears that time continues."""


class Acquisition:
    """Reads a source in one thread and assembles in another; every outcome goes to `on_outcome`,
    and what ends it to `failed`.

    `watch`, when given, sees the newest profiles and the scan under way now and then. All are called on the
    assembling thread. Stopping closes what is open and waits for both threads.
    """

    def __init__(
        self,
        source: Iterable[Arrival],
        assembler: Assembler,
        on_outcome: Callable[[Outcome], None],
        failed: Callable[[BaseException], None],
        watch: Callable[[Batch, Growing | None], None] | None = None,
    ) -> None:
        self._source, self._assembler = source, assembler
        self._hand_on, self._fail, self._watch = on_outcome, failed, watch
        self._watched = 0.0
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

    def wait(self, seconds: float | None = None) -> bool:
        """Until the source has ended and everything is assembled, or so long; answers whether it has."""
        for thread in self._threads:
            thread.join(seconds)
        return not any(thread.is_alive() for thread in self._threads)

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
        # time on the line, as the source counts it, continues while nothing comes
        line_time, heard = 0.0, time.monotonic()
        while True:
            try:
                arrival = self._queue.get(timeout=SILENCE)
            except queue.Empty:
                now = line_time + time.monotonic() - heard
                failed = not self._each(partial(self._assembler.tick, now)) or failed
                continue
            if arrival is None:
                break
            if failed:
                continue  # the queue is still emptied, or the source would wait for ever
            line_time = float(arrival.times[-1]) if isinstance(arrival, Batch) else arrival.time
            heard = time.monotonic()
            failed = not self._each(partial(self._assembler.feed, arrival), arrival)
        self._each(self._assembler.stop)

    def _each(self, step: Callable[[], Iterable[Outcome]], arrival: Arrival | None = None) -> bool:
        """Report what a step brings, and let it be watched; whoever listens may fail as well as the step."""
        try:
            for outcome in step():
                self._hand_on(outcome)
            now = time.monotonic()
            if isinstance(arrival, Batch) and self._watch and now - self._watched >= WATCH_EVERY:
                self._watched = now
                self._watch(arrival, self._assembler.growing())
        except Exception as error:
            self._stopping.set()
            self._fail(error)
            return False
        return True
