"""Simulated line: the real motion, whatever the station is set to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.resolution import Run
from hemtra.core.station.station import Station
from hemtra.core.station.travel import ProfileCounter

PULSES_PER_MM = 12.5
"""Real encoder: 2000 pulses on a wheel of 160 mm."""
PART_FRONT = -40.0
"""y in mm, in part coordinates, of the edge that passes the eye first."""
PART_LENGTH = 80.0
"""Length of a part along travel, mm."""
SLIP = 1e-4
"""Standard deviation, as a share, by which the wheel's way differs from the belt's in one run."""
MOMENT = 1e-3
"""Interval between encoder readings, s."""
RIPPLE_HZ = 3.0
RUN_IN = 20.0
"""Run-in before the first part reaches the photo-eye, mm."""
AFTER = 60.0
"""Run-out behind the last scan, mm."""
SHAKE = 15.0
"""Travel of the line backwards on command, mm."""
STANDS = 1.5
"""Stop time on command, s."""

Mishap: TypeAlias = Literal["none", "stops", "goes back", "encoder jumps", "sensor stops", "points missing"]
MISHAPS: tuple[Mishap, ...] = (
    "none",
    "stops",
    "goes back",
    "encoder jumps",
    "sensor stops",
    "points missing",
)
"""Faults of the line in the middle of the first part."""


@dataclass(frozen=True)
class Passage:
    """Real positions of the profiles on the part, and those the sensor had no time for.

    ys: (profiles,) float64 in mm of the part; missed: (profiles,) bool.
    """

    ys: FloatArray
    missed: BoolArray


def real_counts_per_mm(station: Station) -> float:
    """Counts that a millimetre really makes, with the edges the station counts."""
    return PULSES_PER_MM * station.travel.encoder.edges


def passage(station: Station, models: Sequence[SensorModel]) -> Passage:
    """Motion of one part at steady speed, its front edge starting the scan.

    The station counts with its own scale; its millimetre may be more or less than a true one.
    """
    travel, trigger = station.travel, station.trigger
    stretch = 1.0
    if travel.clock == "encoder":
        stretch = travel.encoder.counts_per_mm / real_counts_per_mm(station)
    spacing = travel.spacing * stretch
    upstream = trigger.distance if trigger.by == "eye" else 0.0
    # what does not look for the part may begin anywhere; the part is put into the middle of it
    sees_part = trigger.by in ("eye", "height", "manual")
    delay = trigger.delay_mm(travel) * stretch - upstream if sees_part else (PART_LENGTH - station.length) / 2
    ys = PART_FRONT + delay + spacing * (np.arange(station.profiles) + 0.5)
    times = spacing / travel.speed * np.arange(station.profiles)
    return Passage(ys, missed_profiles(times, cycle(station, models)))


def cycle(station: Station, models: Sequence[SensorModel]) -> float:
    """Seconds that the slowest sensor needs from one profile to the next."""
    rate = min(sensor.rate(model) for sensor, model in zip(station.sensors, models, strict=True))
    return 1.0 / rate if rate > 0 else math.inf


def missed_profiles(times: FloatArray, least: float) -> NDArray[np.bool_]:
    """Which profiles, due at rising times in s, a sensor misses that needs `least` from one to the next."""
    missed = np.zeros(times.size, np.bool_)
    if times.size < 2 or float(np.diff(times).min()) >= least - 1e-9:
        return missed
    ready = -math.inf
    for k, time in enumerate(times.tolist()):
        if time < ready - 1e-9:
            missed[k] = True
        else:
            ready = time + least
    return missed


def encoder_run(travel: float, edges: int, seed: int) -> Run:
    """The belt moves a known way; the wheel slips a little and counts whole counts."""
    slip = 1.0 + SLIP * float(np.random.default_rng(seed).standard_normal())
    return Run(travel, round(travel * PULSES_PER_MM * edges * slip))


@dataclass(frozen=True)
class Due:
    """All profiles that a run of the line makes due, (n,) each: belt travel in mm, time in s, encoder place."""

    travel: NDArray[np.float64]
    times: NDArray[np.float64]
    places: NDArray[np.int64]


class Motion:
    """Motion of the belt during a lot: its travel in mm over time in s, and the positions of the parts."""

    def __init__(self, station: Station, parts: int, mishap: Mishap = "none", seed: int = 0) -> None:
        line, trigger, travel = station.line, station.trigger, station.travel
        rng = np.random.default_rng([seed, 77])
        gaps = line.part_spacing + line.jitter * rng.standard_normal(max(0, parts - 1))
        eye = trigger.distance if trigger.by == "eye" else 0.0
        # a free-running trigger has no photo-eye to wait for; a part that comes at once would be cut
        before = RUN_IN + max(0.0, -trigger.delay_mm(travel)) + (0.0 if trigger.by == "eye" else 40.0)
        first = eye + before + 1e-3
        self.fronts: FloatArray = first + np.concatenate(
            [[0.0], np.cumsum(np.maximum(gaps, PART_LENGTH + 1.0))]
        )
        self.eye = eye
        real = 1.0
        if travel.clock == "encoder":
            real = travel.encoder.counts_per_mm / real_counts_per_mm(station)
        behind = max(0.0, trigger.delay_mm(travel) - eye) * real + station.length * real
        whole = float(self.fronts[-1]) + max(behind, PART_LENGTH) + AFTER
        self.shuttles = trigger.by == "reversal"
        if self.shuttles:
            whole = float(self.fronts[-1]) + PART_LENGTH + AFTER
        self.times, self.travel = self._run(station, whole, mishap)

    def _run(self, station: Station, whole: float, mishap: Mishap) -> tuple[FloatArray, FloatArray]:
        """The travel at moments one `MOMENT` apart."""
        line, speed = station.line, station.travel.speed
        seconds = whole / speed * 1.2 + (speed / line.ramp if line.ramp else 0.0) + 0.1
        times = MOMENT * np.arange(min(2_000_000, math.ceil(seconds / MOMENT) + 1))
        velocity = np.full(times.size, speed)
        if line.ramp:
            velocity = np.minimum(velocity, line.ramp * times)
        velocity = velocity * (1.0 + line.ripple / 100.0 * np.sin(2 * math.pi * RIPPLE_HZ * times))
        travel = np.concatenate([[0.0], np.cumsum(velocity[:-1] * MOMENT)])
        end = int(np.searchsorted(travel, whole)) + 1
        times, travel = times[:end], travel[:end]
        middle = int(np.searchsorted(travel, float(self.fronts[0]) + PART_LENGTH / 2))
        if mishap == "stops":
            stand = np.full(round(STANDS / MOMENT), travel[middle])
            travel = np.concatenate([travel[:middle], stand, travel[middle:]])
        elif mishap == "goes back":
            step = speed * MOMENT
            back = np.arange(step, SHAKE, step)
            shake = travel[middle] - np.concatenate([back, back[::-1]])
            travel = np.concatenate([travel[: middle + 1], shake, travel[middle:]])
        if self.shuttles:
            travel = np.concatenate([travel, travel[::-1]])
        return MOMENT * np.arange(travel.size), travel

    def due(self, station: Station) -> Due:
        """The profiles that fall due, as the encoder counts them or the clock ticks."""
        travel = station.travel
        if travel.clock == "internal":
            times = np.arange(1, int(self.times[-1] / travel.period * 1000) + 1) * travel.period / 1000
            return Due(np.interp(times, self.times, self.travel), times, np.arange(1, times.size + 1))
        per_mm = real_counts_per_mm(station)
        sign = -1.0 if travel.direction == "backward" else 1.0
        way = self.travel * sign
        if travel.encoder.counting == "single":
            # one channel counts every edge up, whichever way the wheel turns
            way = np.concatenate([[0.0], np.cumsum(np.abs(np.diff(way)))]) * sign
        counts = np.floor(way * per_mm + 1e-9).astype(np.int64)
        counter = ProfileCounter(travel.counts_per_profile, travel.direction, travel.backward)
        places: list[int] = []
        moments: list[int] = []
        for moment in np.flatnonzero(np.diff(counts, prepend=counts[0])).tolist():
            found = counter.feed(int(counts[moment]))
            places.extend(found)
            moments.extend([moment] * len(found))
        place, at = np.array(places, np.int64), np.array(moments, np.int64)
        # within a moment the belt moves evenly
        counted = place * travel.counts_per_profile / per_mm * (1.0 if sign > 0 else -1.0)
        before, after = way[at - 1], way[at]
        span = np.where(after == before, 1.0, after - before)
        share = np.clip((counted - before) / span, 0.0, 1.0)
        moved = self.travel[at - 1] + share * (self.travel[at] - self.travel[at - 1])
        return Due(moved, self.times[at - 1] + share * MOMENT, place)

    def eye_events(self) -> list[tuple[float, Literal["front", "end"]]]:
        """When the eye begins and ceases to see a part, in s."""
        seen = np.zeros(self.travel.size, np.bool_)
        for front in self.fronts:
            passed = self.travel - (front - self.eye)
            seen |= (passed >= 0.0) & (passed <= PART_LENGTH)
        edges = np.flatnonzero(np.diff(seen.astype(np.int8)))
        return [(float(self.times[k + 1]), "front" if seen[k + 1] else "end") for k in edges]

    def part_at(self, travel: FloatArray) -> NDArray[np.int64]:
        """(n,) which part lies nearest to the laser when the belt has moved that far."""
        middles = self.fronts + PART_LENGTH / 2
        borders = (middles[:-1] + middles[1:]) / 2
        return np.searchsorted(borders, travel).astype(np.int64)
