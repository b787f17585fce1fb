"""Lines as feeds: a station whose sensors scan, and a belt on which recorded parts pass; both in real time."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.maps.scan import Scan
from hemtra.core.station.assembler import Acquired, Arrival, Assembler, Batch, Outcome
from hemtra.core.station.sensor_models import models_of
from hemtra.core.station.source import Source
from hemtra.core.station.station import Station
from hemtra.core.station.trigger import Ignored
from hemtra.runtime.acquisition import Acquisition
from hemtra.runtime.feeds import Arrived, Put

LOOK = 0.02
SAID = {"faulty": "faulty scan", "short": "short scan", "padded": "padded scan"}
"""Event ids of the ways a scan can end."""


class LineClock:
    """Time on a line, which stands still while it is paused. s since it began."""

    def __init__(self, paused: threading.Event, stopping: threading.Event) -> None:
        self._paused, self._stopping = paused, stopping
        self._now, self._looked = 0.0, time.monotonic()
        self._lock = threading.Lock()

    def now(self) -> float:
        """Running time of the line, s."""
        with self._lock:
            looked = time.monotonic()
            if not self._paused.is_set():
                self._now += looked - self._looked
            self._looked = looked
            return self._now

    def until(self, moment: float) -> bool:
        """Wait for a moment of the line; False when it was stopped before."""
        while (left := moment - self.now()) > 0.0:
            if self._stopping.wait(min(left, LOOK)):
                return False
        return not self._stopping.is_set()


class StationFeed:
    """The line of a station: sensors scan what passes, triggers start scans, all of it in real time."""

    live = True

    def __init__(self, station: Station, source: Source) -> None:
        self._station, self._line = station, source
        self._clock: LineClock | None = None
        self._failed: BaseException | None = None
        self._put: Put = lambda arrived: None

    def run(self, put: Put, stopping: threading.Event, paused: threading.Event) -> None:
        """Run the parts through. Raises `HemtraError` where sensor or encoder fail."""
        self._put, self._clock = put, LineClock(paused, stopping)
        assembler = Assembler.of(self._station, models_of(self._station))
        acquisition = Acquisition(self._paced(self._clock), assembler, self._on_outcome, self._fail)
        acquisition.start()
        while not acquisition.wait(LOOK):
            if stopping.is_set():
                acquisition.stop()
        if self._failed is not None:
            raise self._failed

    def travel(self) -> float | None:
        """Travel of the belt as the encoder counts it, mm."""
        return None if self._clock is None else self._line.counted(self._clock.now())

    def _paced(self, clock: LineClock) -> Iterator[Arrival]:
        """Arrivals of the line, no sooner than they happen."""
        for arrival in self._line:
            if not clock.until(float(arrival.times[-1]) if isinstance(arrival, Batch) else arrival.time):
                return
            yield arrival

    def _on_outcome(self, outcome: Outcome) -> None:
        now = time.time()
        name = f"{self._station.name}"
        travel, trigger = self._station.travel, self._station.trigger
        if isinstance(outcome, Ignored):
            at = outcome.place * travel.spacing
            self._put(Arrived(name, now, now, travel=at, trouble=outcome.reason, kind="missed trigger"))
            return
        assert isinstance(outcome, Acquired)
        # by the encoder's value when it was triggered, however long it took until it is handled here
        began = outcome.place * travel.spacing - trigger.delay_mm(travel)
        triggered = now - outcome.data.shape[0] * travel.spacing / travel.speed
        if outcome.how == "faulty":
            self._put(Arrived(name, triggered, now, trouble=outcome.reason, kind="faulty scan", travel=began))
            return
        taken = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(now))
        scan = Scan(outcome.data, f"{name}-{outcome.number}", "", taken, self._station.snapshot())
        kind = SAID.get(outcome.how, "")
        self._put(Arrived(name, triggered, now, scan, travel=began, note=outcome.reason, kind=kind))

    def _fail(self, error: BaseException) -> None:
        words = str(error) if isinstance(error, HemtraError) else f"The line failed ({error})."
        self._failed = HemtraError(words)


class BeltFeed:
    """Recorded parts pass on a belt, one every so often, as the station's line feeds them."""

    live = True

    def __init__(self, station: Station, paths: Sequence[Path], parts: int | None = None) -> None:
        """parts: how many in all, the files again from the start; None for ever."""
        if not paths:
            raise HemtraError("There are no recorded parts to put on the belt.")
        self._station, self._paths, self._parts = station, paths, parts
        self._clock: LineClock | None = None
        self._rng = np.random.default_rng(len(paths))

    def run(self, put: Put, stopping: threading.Event, paused: threading.Event) -> None:
        """Until all have passed, or it is stopped."""
        clock = self._clock = LineClock(paused, stopping)
        line, speed = self._station.line, self._station.travel.speed
        front, k = 0.0, 0
        while self._parts is None or k < self._parts:
            front += max(line.part_spacing + line.jitter * self._rng.standard_normal(), self._station.length)
            if not clock.until((front + self._station.length) / speed):
                return
            path, now = self._paths[k % len(self._paths)], time.time()
            put(Arrived(str(path), now - self._station.length / speed, now, path=path, travel=front))
            k += 1

    def travel(self) -> float | None:
        """Travel of the belt, mm."""
        return None if self._clock is None else self._clock.now() * self._station.travel.speed
