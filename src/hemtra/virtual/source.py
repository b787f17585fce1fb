"""The virtual line as a source for acquisition: profiles and triggers of a lot, in the order they happen."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.station.assembler import Arrival, Batch, Profiles, TriggerSeen
from hemtra.core.station.sensor_models import models_of
from hemtra.core.station.station import Station
from hemtra.virtual.line import (
    PART_FRONT,
    PART_LENGTH,
    Mishap,
    Motion,
    Passage,
    cycle,
    missed_profiles,
    real_counts_per_mm,
)
from hemtra.virtual.parts import Part
from hemtra.virtual.sensor import PartUnderSensor

PIECE = 24
"""Profiles in one batch at most: a tenth of a second of a slow line."""


class VirtualLine:
    """A lot passes the station. Iterating runs it; what the sensors see follows from encoder counts.

    parts: one after the other, the spacing as the line has it; seed: of noise and jitter. triggered: answers
    once with True when a hand has triggered. Raises `HemtraError`, from iterating, where a mishap ends the run.
    """

    def __init__(
        self,
        station: Station,
        parts: Sequence[Part],
        seed: int = 0,
        mishap: Mishap = "none",
        triggered: Callable[[], bool] = lambda: False,
    ) -> None:
        self.station, self.parts, self.seed, self.mishap = station, parts, seed, mishap
        self.motion = Motion(station, len(parts), mishap, seed)
        self.due = self.motion.due(station)
        self._triggered = triggered

    def counted(self, time: float) -> float:
        """Travel of the belt at a time in s, as the station counts it, mm."""
        travel = self.station.travel
        if travel.clock == "internal":
            return time * travel.speed
        moved = float(np.interp(time, self.motion.times, self.motion.travel))
        return moved * real_counts_per_mm(self.station) / travel.encoder.counts_per_mm

    def __iter__(self) -> Iterator[Arrival]:
        due, station = self.due, self.station
        models = models_of(station)
        missed = missed_profiles(due.times, cycle(station, models))
        nearest = self.motion.part_at(due.travel)
        ys = due.travel - self.motion.fronts[nearest] + PART_FRONT
        events = self._events()
        mishap_at = self._fault_at(ys)
        # runs of profiles of the same part
        starts = np.flatnonzero(np.diff(nearest, prepend=-1))
        for start, end in zip(starts, [*starts[1:], due.times.size], strict=True):
            part, number = self.parts[int(nearest[start])], int(nearest[start])
            way = Passage(ys[start:end], missed[start:end])
            under = [
                PartUnderSensor(part, station, way, sensor=k, seed=self.seed + 7919 * number)
                for k in range(len(models))
            ]
            at = int(start)
            while at < end:
                while events and events[0].at <= at:
                    yield events.pop(0)
                if self._triggered():
                    yield TriggerSeen(at, "front", float(due.times[at]))
                piece = min(PIECE, int(end) - at, *(e.at - at for e in events[:1]))
                sensors = tuple(u.take(piece) for u in under)
                batch = Batch(at, sensors, due.times[at : at + piece], due.places[at : at + piece])
                yield self._with_mishap(batch, mishap_at)
                at += piece
        yield from events

    def _events(self) -> list[TriggerSeen]:
        """State of the photo-eye, by the next profile due."""
        if self.station.trigger.by != "eye":
            return []
        found = []
        for time, what in self.motion.eye_events():
            found.append(TriggerSeen(int(np.searchsorted(self.due.times, time)), what, time))
        return found

    def _fault_at(self, ys: np.ndarray) -> int:
        """The profile in the middle of the first part."""
        beyond = np.flatnonzero(ys >= PART_FRONT + PART_LENGTH / 2)
        return int(beyond[0]) if beyond.size else -1

    def _with_mishap(self, batch: Batch, at: int) -> Batch:
        if not batch.first <= at < batch.first + len(batch):
            return batch
        if self.mishap == "sensor stops":
            raise HemtraError("The sensor stopped delivering; check its power and its cable, and start again.")
        if self.mishap == "encoder jumps":
            return Batch(batch.first + len(batch), batch.sensors, batch.times, batch.places)
        if self.mishap == "points missing":
            fewer = tuple(
                Profiles(
                    np.ascontiguousarray(s.x[:, 1:]),
                    np.ascontiguousarray(s.z[:, 1:]),
                    np.ascontiguousarray(s.intensity[:, 1:]),
                    s.missed,
                )
                for s in batch.sensors
            )
            return Batch(batch.first, fewer, batch.times, batch.places)
        return batch
