"""From the profiles that sensors deliver, and what triggers, to whole scans. No threads, no clock."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray

from hemtra.core.errors import HemtraError
from hemtra.core.maps.assemble import ALIKE, resample_rows, shift_columns, with_row_pitch
from hemtra.core.maps.heightmap import Grid, HeightMap, frozen
from hemtra.core.maps.merge import blend
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.station import Station
from hemtra.core.station.trigger import Closed, Ignored, TriggerChange, TriggerMachine, TriggerRules
from hemtra.core.station.trigger_sources import TriggerDetector, What, starter

RowsOf: TypeAlias = tuple[NDArray[np.float32], NDArray[np.uint8]]
"""z and intensity (n, cols) of one sensor."""


COARSE = 400
"""Approximate rows and columns of the preview of a growing scan."""


@dataclass(frozen=True)
class Profiles:
    """Consecutive profiles of one sensor, as it gives them.

    x: (n, points) float64 and z: (n, points) float32 in mm, z NaN without data; intensity: (n, points) uint8;
    missed: (n,) bool, profiles that were due and not taken.
    """

    x: NDArray[np.float64]
    z: NDArray[np.float32]
    intensity: NDArray[np.uint8]
    missed: NDArray[np.bool_] | None = None


@dataclass(frozen=True)
class Batch:
    """Profiles of all sensors from number `first` on, at times in s and places along the travel, (n,) each."""

    first: int
    sensors: tuple[Profiles, ...]
    times: NDArray[np.float64]
    places: NDArray[np.int64]

    def __len__(self) -> int:
        return self.times.size


@dataclass(frozen=True)
class TriggerSeen:
    """The eye saw a part's front or its end, or a hand triggered, when profile `at` was due at a time in s."""

    at: int
    what: What = "front"
    time: float = 0.0


@dataclass(frozen=True)
class Acquired:
    """A finished scan, and how it ended."""

    number: int
    data: HeightMap
    how: Literal["complete", "short", "padded", "faulty"]
    reason: str
    missed: int
    """Profiles missed; they are rows of no data in their place."""
    layers: tuple[HeightMap, ...] = ()
    """Scans of each of several sensors."""
    place: int = 0
    """Start of the scan along the travel, in profiles as the encoder counts them."""


@dataclass(frozen=True)
class Growing:
    """A scan under way: what there is of it, and how many profiles of how many, where that is known."""

    number: int
    data: HeightMap
    taken: int
    of: int | None
    missed: int
    waiting: int
    """Triggers between the eye and the laser."""


Arrival: TypeAlias = Batch | TriggerSeen
Outcome: TypeAlias = Acquired | Ignored


@dataclass(frozen=True)
class Layout:
    """Layout of profiles into rows: the grid, its columns, and each sensor's points, place and calibration."""

    grid: Grid
    """Spacing, and x of the first column; every scan lies symmetrically about y = 0."""
    cols: int
    points: tuple[int, ...]
    drawn: tuple[float, ...] = (0.0,)
    """x in mm at which each sensor is drawn."""
    calibrations: tuple[Calibration, ...] = (Calibration(),)
    equal_pitch: bool = False
    even: bool = True
    """Whether ends of surfaces are evened out over the rows, instead of lying at the nearest column or row."""

    @classmethod
    def of(cls, station: Station, models: Sequence[SensorModel]) -> Layout:
        """The layout of a station."""
        grid, cols = station.grid(models)
        return cls(
            grid,
            cols,
            tuple(model.points for model in models),
            tuple(sensor.x for sensor in station.sensors),
            tuple(sensor.calibration for sensor in station.sensors),
            station.travel.equal_pitch,
            station.travel.ends == "even",
        )

    def coarser(self, rows: int, cols: int) -> Layout:
        """The layout of each so manyth row and column."""
        grid = self.grid
        coarse = Grid(grid.x0, grid.y0, grid.dx * cols, grid.dy * rows)
        return replace(self, grid=coarse, cols=-(-self.cols // cols), equal_pitch=False)

    def rows(self, sensor: int, seen: Profiles, place: int = 0) -> RowsOf:
        """z and intensity (n, cols) of profiles, `place` the first of them, on the columns of the grid."""
        n = seen.z.shape[0]
        z, grey = np.empty((n, self.cols), np.float32), np.empty((n, self.cols), np.uint8)
        x_in, z_in, calibration = seen.x, seen.z, self.calibrations[sensor]
        if not calibration.is_none:
            m, t = calibration.matrix, calibration.offset
            x_in = m[0, 0] * seen.x + m[0, 2] * seen.z + t[0]
            # points without data keep their place in the row
            x_in = np.where(np.isnan(x_in), m[0, 0] * seen.x + t[0], x_in)
            z_in = (m[2, 0] * seen.x + m[2, 2] * seen.z + t[2]).astype(np.float32)
        first = self.grid.x0 - self.drawn[sensor]
        resample_rows(x_in, z_in, seen.intensity, first, self.grid.dx, place if self.even else ALIKE, z, grey)
        if seen.missed is not None:
            # a profile the sensor had no time for is a row of no data in its place, not a shorter part
            z[seen.missed], grey[seen.missed] = np.nan, 0
        return z, grey

    def layer(self, sensor: int, z: NDArray[np.float32], grey: NDArray[np.uint8]) -> RowsOf:
        """Rows of a whole scan with what the calibration does along travel: yaw, lean and pitch."""
        calibration, dy = self.calibrations[sensor], self.grid.dy
        m, t = calibration.matrix, calibration.offset
        if m[1, 0] == m[1, 2] == t[1] == m[2, 1] == 0.0:
            return z, grey
        x = self.grid.x0 - self.drawn[sensor] + self.grid.dx * np.arange(self.cols)
        by = (m[1, 0] * (x - t[0]) / m[0, 0] + t[1]) / dy
        moved, tone = np.empty_like(z), np.empty_like(grey)
        shift_columns(frozen(z.view()), grey, by, m[1, 2] / dy, self.even, moved, tone)
        y = (np.arange(len(z)) - (len(z) - 1) / 2) * dy
        moved += (m[2, 1] * y[:, None]).astype(np.float32)
        return moved, tone

    def scan(self, layers: Sequence[RowsOf]) -> tuple[HeightMap, tuple[HeightMap, ...]]:
        """The map of a whole scan from the rows of each sensor, and of several sensors each one's own map."""
        made = [self.layer(k, z, grey) for k, (z, grey) in enumerate(layers)]
        whole = self._map(*blend(made)) if len(made) > 1 else self._map(*made[0])
        each = tuple(self._map(*layer) for layer in made) if len(made) > 1 else ()
        return (with_row_pitch(whole, self.grid.dx, even=self.even) if self.equal_pitch else whole), each

    def _map(self, z: NDArray[np.float32], grey: NDArray[np.uint8]) -> HeightMap:
        grid = self.grid
        return HeightMap(z, grey, grid.dx, grid.dy, grid.x0, -(len(z) - 1) / 2 * grid.dy)


@dataclass
class _Rows:
    """Rows already on the grid, from profile `first` on, of each sensor."""

    first: int
    layers: tuple[RowsOf, ...]
    missed: NDArray[np.bool_]
    places: NDArray[np.int64]

    @property
    def end(self) -> int:
        """The first profile behind them."""
        return self.first + self.missed.size


class Assembler:
    """Turns what arrives into scans; not to be shared between threads."""

    def __init__(self, rules: TriggerRules, layout: Layout, starts: TriggerDetector | None = None) -> None:
        self.layout = layout
        self._machine = TriggerMachine(rules)
        self._starts = starts
        self._rows: deque[_Rows] = deque()
        self._next = 0

    @classmethod
    def of(cls, station: Station, models: Sequence[SensorModel]) -> Assembler:
        """An assembler for a station."""
        layout = Layout.of(station, models)
        starts = starter(station.trigger, station.travel, layout.grid.dx)
        return cls(station.trigger_rules(), layout, starts)

    def feed(self, arrival: Arrival) -> list[Outcome]:
        """Events of this arrival. Raises `HemtraError` when it cannot be used."""
        if isinstance(arrival, TriggerSeen):
            change = self._machine.trigger if arrival.what == "front" else self._machine.release
            return self._outcomes(change(arrival.at, arrival.time))
        self._check(arrival)
        rows = self._take(arrival)
        started: dict[int, list[What]] = {}
        if self._starts is not None:
            heights = (
                rows.layers[0][0] if len(rows.layers) == 1 else np.fmax.reduce([z for z, _ in rows.layers])
            )
            for index, what in self._starts.feed(arrival.first, heights, arrival.places):
                started.setdefault(index, []).append(what)
        events: list[TriggerChange] = []
        for index, time in enumerate(arrival.times.tolist(), start=arrival.first):
            for what in started.get(index, ()):
                change = self._machine.trigger if what == "front" else self._machine.release
                events += change(index, time)
            events += self._machine.profile(index, time)
        outcomes = self._outcomes(events)
        self._forget()
        return outcomes

    def growing(self) -> Growing | None:
        """The newest scan under way as far as it has come, coarsely; rows to come hold no data."""
        if not self._machine.open_scans:
            return None
        number, first, last = self._machine.open_scans[-1]
        end = self._next if last is None else min(self._next, last)
        of = None if last is None else last - first
        total = max(1, of or end - first)
        every = max(1, total // COARSE), max(1, self.layout.cols // COARSE)
        layers, missed, _ = self._collected(first, end, total, every)
        whole = self.layout.coarser(*every).scan(layers)[0]
        return Growing(number, whole, end - first, of, missed, self._machine.waiting)

    def tick(self, time: float) -> list[Outcome]:
        """Time continues without profiles."""
        return self._outcomes(self._machine.tick(self._next - 1, time))

    def stop(self) -> list[Outcome]:
        """Close what is open with what it has."""
        return self._outcomes(self._machine.stop(self._next))

    def _check(self, batch: Batch) -> None:
        wanted = self.layout.points
        if len(batch.sensors) != len(wanted):
            raise HemtraError(f"{len(batch.sensors)} sensors deliver and {len(wanted)} are set up; check them.")
        for number, (seen, points) in enumerate(zip(batch.sensors, wanted, strict=True), start=1):
            which = "The sensor" if len(wanted) == 1 else f"Sensor {number}"
            if seen.z.shape[1] != points:
                raise HemtraError(
                    f"{which} delivers {seen.z.shape[1]} points instead of {points};"
                    " check its model and its capture band."
                )
            if seen.z.shape[0] != len(batch):
                raise HemtraError(
                    f"{which} stopped delivering; check its power and its cable, and start again."
                )
        if batch.first != self._next:
            raise HemtraError(
                f"Profile {batch.first} follows {self._next - 1}: the encoder jumped, or profiles were lost."
                " Start the line again."
            )

    def _take(self, batch: Batch) -> _Rows:
        layers = tuple(self.layout.rows(k, seen, batch.first) for k, seen in enumerate(batch.sensors))
        missed = np.zeros(len(batch), np.bool_)
        for seen in batch.sensors:
            if seen.missed is not None:
                missed |= seen.missed
        rows = _Rows(batch.first, layers, missed, batch.places)
        self._rows.append(rows)
        self._next = batch.first + len(batch)
        return rows

    def _outcomes(self, events: Iterable[TriggerChange]) -> list[Outcome]:
        found: list[Outcome] = []
        for event in events:
            if isinstance(event, Closed):
                found.append(self._scan(event))
            elif isinstance(event, Ignored):
                found.append(replace(event, place=self._place(event.at)))
        return found

    def _scan(self, closed: Closed) -> Acquired:
        total = max(1, closed.taken + closed.padded - closed.before)
        layers, missed, places = self._collected(closed.first, closed.first + closed.taken, total)
        if closed.before:
            ahead = ((closed.before, 0), (0, 0))
            layers = [(np.pad(z, ahead, constant_values=np.nan), np.pad(grey, ahead)) for z, grey in layers]
        if places.size > 1 and places[-1] < places[0]:
            # taken while the line went back: what came first lies farthest along travel
            layers = [(z[::-1].copy(), grey[::-1].copy()) for z, grey in layers]
        whole, each = self.layout.scan(layers)
        return Acquired(closed.scan, whole, closed.how, closed.reason, missed, each, self._place(closed.first))

    def _place(self, profile: int) -> int:
        """Travel position of a profile, interpolated and extrapolated from those kept, one a place."""
        near = next((rows for rows in self._rows if rows.first <= profile < rows.end), None)
        if near is not None:
            return int(near.places[profile - near.first])
        last = next((rows for rows in reversed(self._rows) if rows.places.size), None)
        return profile if last is None else int(last.places[-1]) + profile - (last.end - 1)

    def _collected(
        self, first: int, last: int, total: int, every: tuple[int, int] = (1, 1)
    ) -> tuple[list[RowsOf], int, NDArray[np.int64]]:
        """`total` rows of each sensor, filled from profile `first` to `last`; how many were missed; places.

        every: take only each so manyth row and column.
        """
        step, skip = every
        shape = (-(-total // step), -(-self.layout.cols // skip))
        layers = [(np.full(shape, np.nan, np.float32), np.zeros(shape, np.uint8)) for _ in self.layout.points]
        missed, places = 0, []
        for rows in self._rows:
            a, b = max(rows.first, first), min(rows.end, last)
            if a >= b:
                continue
            missed += int(np.count_nonzero(rows.missed[a - rows.first : b - rows.first]))
            places.append(rows.places[a - rows.first : b - rows.first])
            a += -(a - first) % step
            there = slice((a - first) // step, -(-(b - first) // step))
            here = slice(a - rows.first, b - rows.first, step)
            for (z, grey), (z_in, grey_in) in zip(layers, rows.layers, strict=True):
                z[there], grey[there] = z_in[here, ::skip], grey_in[here, ::skip]
        return layers, missed, np.concatenate(places) if places else np.empty(0, np.int64)

    def _forget(self) -> None:
        """Drop the rows that no scan can want any more."""
        oldest = self._machine.oldest_wanted(self._next)
        while self._rows and self._rows[0].end <= oldest:
            self._rows.popleft()
