"""The scan budget: the arithmetic of a scan, done and shown, with what to change where it does not come out."""

from __future__ import annotations

import math
from dataclasses import dataclass

from hemtra.core.station.optics import SensorModel
from hemtra.core.station.station import Station

BYTES_PER_POINT = 5
"""Four of height and one of intensity."""
OVAL = 4 / 3
"""Pitches that differ by more than a third sample round things noticeably unevenly."""
SPEED_MARGIN = 0.1
"""Share by which the line should stay below its highest speed, for ripple and slip."""
GAUGE_RATIO = 10.0
"""A gauge should be ten times finer than what it judges."""
VIEW_MARGIN = 2.0
"""mm that the view should reach beyond the part on either side."""


@dataclass(frozen=True)
class Question:
    """What the budget should answer for: lengths in mm, at the height of the part's surface `z`."""

    z: float = 0.0
    lowest: float = 0.0
    """z of the lowest place that must be seen, such as the belt."""
    part_width: float | None = None
    feature: float = 3.0
    spot: float = 9.0
    tolerance: float | None = None
    """Half the tightest tolerance of a height in the plan; None when no plan is open."""
    tolerance_of: str = ""


@dataclass(frozen=True)
class Row:
    """One line: what it is about, the sum as people would write it, and what comes out."""

    label: str
    sum: str
    value: str


@dataclass(frozen=True)
class Shortfall:
    """What does not come out, what to change, and the station with that change made, where one does it."""

    text: str
    advice: str
    fixed: Station | None = None


@dataclass(frozen=True)
class Budget:
    """All rows and warnings, and of the numbers behind them the highest speed in mm/s and the noise ratio."""

    rows: tuple[Row, ...]
    warnings: tuple[Shortfall, ...]
    highest_speed: float
    noise_ratio: float | None


def scan_budget(station: Station, model: SensorModel, question: Question | None = None) -> Budget:
    """The budget of a station, with its part's surface where `question` says it is."""
    asked = question or Question()
    sums = _Sums(station, model, asked)
    return Budget(sums.rows(), tuple(sums.warnings()), sums.highest_speed, sums.noise_ratio)


class _Sums:
    """The numbers, each worked out once."""

    def __init__(self, station: Station, model: SensorModel, asked: Question) -> None:
        self.station, self.model, self.asked = station, model, asked
        travel, sensor = station.travel, station.sensor
        self.spacing = travel.spacing
        self.distance = sensor.stand_off - asked.z
        self.pitch = model.pitch_at(self.distance)
        self.rate = model.rate_with(sensor.stand_off, sensor.band, sensor.exposure)
        self.highest_speed = self.spacing * self.rate
        self.margin = 1.0 - travel.speed / self.highest_speed if self.highest_speed > 0 else -math.inf
        points = math.pi / 4 * asked.spot**2 / (self.pitch * self.spacing)
        self.points_in_spot = max(1, int(points))
        self.point_noise = model.expected_noise(self.distance, sensor.exposure)
        self.spot_noise = self.point_noise / math.sqrt(self.points_in_spot)
        self.noise_ratio = None if asked.tolerance is None else asked.tolerance / self.spot_noise
        eye = station.eye
        self.waiting = max(1, math.ceil((eye.distance - eye.lead) / eye.part_spacing))

    def rows(self) -> tuple[Row, ...]:
        """In the order in which one works through them."""
        travel, eye, asked = self.station.travel, self.station.eye, self.asked
        speed = travel.speed
        memory = travel.profiles * self.model.points * BYTES_PER_POINT
        rows = [
            Row("counts per mm", self._resolution_sum(), f"{travel.encoder.counts_per_mm:.2f}"),
            Row(
                "one profile every",
                f"{travel.counts_per_profile} counts ÷ {travel.encoder.counts_per_mm:.2f}",
                f"{self.spacing:.3f} mm",
            ),
            Row("profiles per scan", f"{travel.length:g} mm ÷ {self.spacing:.3f}", f"{travel.profiles}"),
            Row("pitch x : y", f"{self.pitch:.3f} : {self.spacing:.3f}", _ratio(self.pitch, self.spacing)),
            Row("highest speed", f"{self.spacing:.3f} × {self.rate:.0f} Hz", f"{self.highest_speed:.0f} mm/s"),
            Row("margin", f"at {speed:g} mm/s", f"{100 * self.margin:.0f} %" if self.rate > 0 else "–"),
            Row("time per scan", f"{travel.length:g} ÷ {speed:g}", f"{travel.length / speed:.2f} s"),
            Row(
                f"points across {asked.feature:g} mm",
                f"{asked.feature:g} ÷ {self.pitch:.3f}",
                f"{int(asked.feature / self.pitch)}",
            ),
            Row(
                f"noise of a ⌀ {asked.spot:g} mm spot",
                f"{1000 * self.point_noise:.1f} µm ÷ √{self.points_in_spot}",
                f"{1000 * self.spot_noise:.2f} µm",
            ),
        ]
        if self.noise_ratio is not None and asked.tolerance is not None:
            sums = f"{asked.tolerance_of} ±{asked.tolerance:g} ÷ {self.spot_noise:.2g}".strip()
            rows.append(Row("tightest limit to noise", sums, f"{self.noise_ratio:.0f} : 1"))
        rows += [
            Row(
                "triggers on the way",
                f"({eye.distance:g} − {eye.lead:g}) ÷ {eye.part_spacing:g} mm",
                f"{self.waiting}",
            ),
            Row(
                "memory per scan",
                f"{travel.profiles} × {self.model.points} × {BYTES_PER_POINT} B",
                f"{memory / 1e6:.1f} MB",
            ),
        ]
        return tuple(rows)

    def warnings(self) -> list[Shortfall]:
        """In the order in which one would put them right."""
        found = (
            self._view(),
            self._range(),
            self._speed(),
            self._oval(),
            self._noise(),
            self._triggers(),
            self._overlap(),
        )
        return [warning for warning in found if warning is not None]

    def _resolution_sum(self) -> str:
        encoder = self.station.travel.encoder
        times = "" if encoder.edges == 1 else f" × {encoder.edges}"
        if encoder.by == "wheel":
            return f"{encoder.pulses_per_turn:g} pulses{times} ÷ {encoder.circumference:.2f} mm"
        return f"1{times} ÷ {encoder.mm_per_pulse:g} mm"

    def _with_travel(self, **changes: float) -> Station:
        travel = self.station.travel.model_copy(update=changes)
        return self.station.model_copy(update={"travel": travel})

    def _view(self) -> Shortfall | None:
        width = self.asked.part_width
        if width is None:
            return None
        view = self.model.width_at(self.distance)
        if view >= width + 2 * VIEW_MARGIN:
            return None
        needed = (width + 2 * VIEW_MARGIN) * self.model.mid / self.model.width + self.asked.z
        fits = needed - self.asked.lowest <= self.model.far
        sensor = self.station.sensor.model_copy(update={"stand_off": round(needed + 0.5)})
        return Shortfall(
            f"The view is {view:.1f} mm wide and the part {width:g} mm.",
            f"Raise the sensor to {sensor.stand_off:g} mm." if fits else "Take a sensor with a wider view.",
            self.station.model_copy(update={"sensor": sensor}) if fits else None,
        )

    def _range(self) -> Shortfall | None:
        sensor = self.station.sensor
        low, high = self.model.covered(sensor.stand_off, sensor.band)
        lowest, highest = min(self.asked.lowest, self.asked.z), max(self.asked.lowest, self.asked.z)
        if low <= lowest and highest <= high:
            return None
        what = (
            f"Heights from {low:.1f} to {high:.1f} mm are delivered, and {lowest:g} to {highest:g} mm wanted."
        )
        if sensor.band is not None and self.model.covered(sensor.stand_off, None)[0] <= lowest:
            band = sensor.band.model_copy(
                update={"z_low": min(sensor.band.z_low, lowest), "z_high": max(sensor.band.z_high, highest)}
            )
            fixed = self.station.model_copy(update={"sensor": sensor.model_copy(update={"band": band})})
            return Shortfall(what, "Widen the capture band.", fixed)
        moved = sensor.model_copy(update={"stand_off": round(self.model.mid + (lowest + highest) / 2)})
        fixed = self.station.model_copy(update={"sensor": moved})
        return Shortfall(what, f"Hang the sensor {moved.stand_off:g} mm above z = 0.", fixed)

    def _speed(self) -> Shortfall | None:
        travel = self.station.travel
        if self.margin >= SPEED_MARGIN - 1e-9 or self.rate == 0:
            return None
        every = math.ceil(travel.speed / (1 - SPEED_MARGIN) / self.rate * travel.encoder.counts_per_mm - 1e-9)
        slower = math.floor(self.highest_speed * (1 - SPEED_MARGIN))
        text = (
            f"At {travel.speed:g} mm/s the line is too fast: {self.highest_speed:.0f} is the most."
            if self.margin < 0
            else f"At {travel.speed:g} mm/s only {100 * self.margin:.0f} % are left for ripple and slip."
        )
        why = " The exposure holds the rate down." if self._held_by_exposure() else ""
        advice = f"Take a profile every {every} counts, or run at {slower} mm/s.{why}"
        return Shortfall(text, advice, self._with_travel(counts_per_profile=every))

    def _held_by_exposure(self) -> bool:
        sensor = self.station.sensor
        return self.rate < self.model.rate_with(sensor.stand_off, sensor.band, 1e-6) - 1e-9

    def _oval(self) -> Shortfall | None:
        larger, smaller = max(self.pitch, self.spacing), min(self.pitch, self.spacing)
        if larger / smaller <= OVAL:
            return None
        travel = self.station.travel
        every = max(1, round(self.pitch * travel.encoder.counts_per_mm))
        spacing = every / travel.encoder.counts_per_mm
        text = f"Round holes are sampled unevenly: {_ratio(self.pitch, self.spacing)}."
        if every == travel.counts_per_profile:
            return Shortfall(text, "A finer encoder, or more of its edges, would allow equal pitches.")
        speed = math.floor(spacing * self.rate * (1 - SPEED_MARGIN))
        slow = f" at no more than {speed} mm/s" if travel.speed > speed else ""
        changes = {"counts_per_profile": every, "speed": min(travel.speed, float(speed))}
        counts = "every count" if every == 1 else f"every {every} counts"
        return Shortfall(
            text, f"Take a profile {counts} ({spacing:.3f} mm){slow}.", self._with_travel(**changes)
        )

    def _noise(self) -> Shortfall | None:
        if self.noise_ratio is None or self.noise_ratio >= GAUGE_RATIO:
            return None
        larger = self.asked.spot * GAUGE_RATIO / self.noise_ratio
        return Shortfall(
            f"The tightest limit is only {self.noise_ratio:.1f} times the noise of its spot.",
            f"Average over ⌀ {larger:.1f} mm, hang the sensor nearer, or take one with a smaller view.",
        )

    def _triggers(self) -> Shortfall | None:
        eye = self.station.eye
        if self.waiting <= eye.waiting:
            return None
        fixed = self.station.model_copy(update={"eye": eye.model_copy(update={"waiting": self.waiting})})
        return Shortfall(
            f"{self.waiting} triggers are on the way to the laser, and {eye.waiting} may wait.",
            f"Let {self.waiting} triggers wait, or move the eye nearer.",
            fixed,
        )

    def _overlap(self) -> Shortfall | None:
        travel, eye = self.station.travel, self.station.eye
        if travel.length <= eye.part_spacing or eye.early == "share":
            return None
        return Shortfall(
            f"A scan of {travel.length:g} mm is longer than the {eye.part_spacing:g} mm from part to part.",
            f"Scan {eye.part_spacing:g} mm at most, or let scans share their profiles.",
            self._with_travel(length=eye.part_spacing),
        )


def _ratio(x: float, y: float) -> str:
    return f"1 : {y / x:.2f}" if y >= x else f"{x / y:.2f} : 1"
