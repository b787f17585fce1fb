"""The scan budget: the arithmetic of a scan, done and shown, with what to change where it does not come out."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from hemtra.core.errors import HemtraError
from hemtra.core.station.optics import CaptureBand, SensorModel
from hemtra.core.station.station import Station
from hemtra.core.station.travel import WheelEncoder
from hemtra.core.text import percent
from hemtra.core.units import MM, LengthUnit, small

BYTES_PER_POINT = 5
"""Four of height and one of intensity."""
OVAL = 4 / 3
"""Pitches that differ by more than a third sample round things noticeably unevenly."""
SPEED_MARGIN = 0.1
"""Share by which the line should stay below its highest speed, for ripple and slip."""
GAUGE_RATIO = 10.0
"""A gauge should be ten times finer than what it evaluates."""
VIEW_MARGIN = 2.0
"""Margin of the view beyond the part on either side, mm."""
OVERLAP = 5.0
"""Overlap of neighbouring sensors needed for blending, mm."""


def _fixed(station: Station, part: str, **changes: Any) -> Station | None:
    """The station mended; None where what would mend it is more than it can be set to."""
    try:
        return station.with_part(part, **changes)
    except HemtraError:
        return None


@dataclass(frozen=True)
class BudgetRequest:
    """Questions of the budget: lengths in mm, at the height of the part's surface `z`."""

    z: float = 0.0
    lowest: float = 0.0
    """z of the lowest place that must be seen, such as the belt."""
    highest: float = 0.0
    part_width: float | None = None
    part_length: float | None = None
    feature: float = 3.0
    spot: float = 9.0
    tolerance: float | None = None
    """Half the tightest tolerance of a height in the plan; None when no plan is open."""
    tolerance_of: str = ""


@dataclass(frozen=True)
class Row:
    """A line: its subject, the sum as people would write it, and the result."""

    label: str
    sum: str
    value: str


@dataclass(frozen=True)
class BudgetWarning:
    """A problem, the remedy, and the station with that change made, where one change is enough."""

    text: str
    advice: str
    fixed: Station | None = None


@dataclass(frozen=True)
class Budget:
    """All rows and warnings, and of the numbers behind them the highest speed in mm/s and the noise ratio."""

    rows: tuple[Row, ...]
    warnings: tuple[BudgetWarning, ...]
    highest_speed: float
    noise_ratio: float | None


def scan_budget(
    station: Station,
    models: Sequence[SensorModel],
    question: BudgetRequest | None = None,
    unit: LengthUnit = MM,
) -> Budget:
    """The budget of a station with its sensors' models, its part's surface where `question` says it is."""
    sums = _Sums(station, models, question or BudgetRequest(), unit)
    return Budget(sums.rows(), tuple(sums.warnings()), sums.highest_speed, sums.noise_ratio)


class _Sums:
    """The numbers, each worked out once; what depends on the sensor is the first one's."""

    def __init__(
        self, station: Station, models: Sequence[SensorModel], asked: BudgetRequest, unit: LengthUnit
    ) -> None:
        self.station, self.model, self.asked, self.unit = station, models[0], asked, unit
        travel, sensor = station.travel, station.sensor
        self.spacing = travel.spacing
        self.distance = sensor.stand_off - asked.z
        self.pitch = self.model.pitch_at(self.distance)
        self.views = [
            (s.x - m.width_at(s.stand_off - asked.z) / 2, s.x + m.width_at(s.stand_off - asked.z) / 2)
            for s, m in zip(station.sensors, models, strict=True)
        ]
        self.rate = min(s.rate(m) for s, m in zip(station.sensors, models, strict=True))
        self.highest_speed = self.spacing * self.rate
        if travel.clock == "internal":
            # a clock that ticks faster than the sensor can take profiles misses some at any speed
            self.highest_speed = travel.speed * self.rate * travel.period / 1000.0
        self.margin = 1.0 - travel.speed / self.highest_speed if self.highest_speed > 0 else -math.inf
        points = math.pi / 4 * asked.spot**2 / (self.pitch * self.spacing)
        self.points_in_spot = max(1, int(points))
        self.exposure = sensor.exposure.time if sensor.exposure.by != "automatic" else 1.0
        self.point_noise = self.model.expected_noise(self.distance, self.exposure)
        self.spot_noise = self.point_noise / math.sqrt(self.points_in_spot)
        self.noise_ratio = None if asked.tolerance is None else asked.tolerance / self.spot_noise
        delay = station.trigger.delay_mm(travel)
        self.waiting = max(1, math.ceil(max(0.0, delay) / station.line.part_spacing))

    # -- rows -------------------------------------------------------------------------------------

    def rows(self) -> tuple[Row, ...]:
        """Lines in the order in which one works through them."""
        travel, asked, station = self.station.travel, self.asked, self.station
        u, length, speed = self.unit, self.station.length, travel.speed
        per = f"{u.text(self.spacing, 3)}"
        cols = sum(1 for _ in self.views) * self.model.points
        rows = [
            *self._travel_rows(),
            Row("profiles per scan", self._profiles_sum(per), f"{station.profiles}"),
            Row("spacing x : y", f"{u.text(self.pitch, 3)} : {per}", _ratio(self.pitch, self.spacing)),
            Row("highest rate", self._rate_sum(), f"{self.rate:.0f} Hz"),
            Row("highest speed", f"{per} × {self.rate:.0f} Hz", f"{u.text(self.highest_speed, 0)} {u.name}/s"),
            Row("margin", f"at {u.short(speed)} {u.name}/s", self._margin_text()),
            Row("time per scan", f"{u.short(length)} ÷ {u.short(speed)}", f"{length / speed:.2f} s"),
            Row(
                f"points across {u.short(asked.feature)} {u.name}",
                f"{u.short(asked.feature)} ÷ {u.text(self.pitch, 3)}",
                f"{int(asked.feature / self.pitch)}",
            ),
            Row(
                f"noise of a ⌀ {u.short(asked.spot)} {u.name} spot",
                f"{small(u, self.point_noise)} ÷ √{self.points_in_spot}",
                small(u, self.spot_noise),
            ),
        ]
        if self.noise_ratio is not None and asked.tolerance is not None:
            limit = f"{asked.tolerance_of} ±{u.short(asked.tolerance)}".strip()
            rows.append(
                Row(
                    "tightest limit to noise",
                    f"{limit} ÷ {small(u, self.spot_noise)}",
                    f"{self.noise_ratio:.0f} : 1",
                )
            )
        if station.trigger.by == "eye":
            delay, spacing = station.trigger.delay_mm(travel), station.line.part_spacing
            rows.append(
                Row("triggers in transit", f"{u.short(delay)} ÷ {u.short(spacing)} {u.name}", f"{self.waiting}")
            )
        memory = station.profiles * cols * BYTES_PER_POINT
        rows.append(
            Row(
                "memory per scan",
                f"{station.profiles} × {cols} × {BYTES_PER_POINT} B",
                f"{memory / 1e6:.1f} MB",
            )
        )
        return tuple(rows)

    def _travel_rows(self) -> list[Row]:
        travel, u = self.station.travel, self.unit
        spacing = f"{u.text(self.spacing, 3)} {u.name}"
        if travel.clock == "internal":
            found = [
                Row("one profile every", f"{u.short(travel.speed)} {u.name}/s × {travel.period:g} ms", spacing)
            ]
            if self.station.line.ripple:
                ripple = f"{self.station.line.ripple:g} %"
                found.append(Row("stretch", f"speed ± {ripple}", f"± {ripple}"))
            return found
        per_unit = travel.encoder.counts_per_mm * u.mm
        return [
            Row(f"counts per {u.name}", self._resolution_sum(), f"{per_unit:.2f}"),
            Row("one profile every", f"{travel.counts_per_profile} counts ÷ {per_unit:.2f}", spacing),
        ]

    def _resolution_sum(self) -> str:
        encoder, u = self.station.travel.encoder, self.unit
        times = "" if encoder.edges == 1 else f" × {encoder.edges}"
        if isinstance(encoder, WheelEncoder):
            return f"{encoder.pulses_per_turn:g} pulses{times} ÷ {u.text(encoder.circumference, 2)} {u.name}"
        return f"1{times} ÷ {u.short(encoder.mm_per_pulse)} {u.name}"

    def _profiles_sum(self, per: str) -> str:
        trigger, u = self.station.trigger, self.unit
        if trigger.length_in == "profiles":
            return "as set"
        until = "until the trigger ends, " if trigger.length_in == "trigger" else ""
        return f"{until}{u.short(self.station.length)} {u.name} ÷ {per}"

    def _rate_sum(self) -> str:
        if self._held_by_exposure():
            exposure = self.station.sensor.exposure
            return f"1 ÷ ({exposure.total:g} × {self.model.exposure_us:g} µs)"
        if self.rate > self.model.rate:
            return f"{self.model.rate:g} Hz × {self.rate / self.model.rate:.1f} by its band"
        return f"of the {self.model.name}"

    def _margin_text(self) -> str:
        return percent(self.margin) if self.rate > 0 else "–"

    # -- warnings ---------------------------------------------------------------------------------

    def warnings(self) -> list[BudgetWarning]:
        """Problems in the order in which one would fix them."""
        found = (
            self._view(),
            self._beside(),
            self._range(),
            self._speed(),
            self._oval(),
            self._stretch(),
            self._direction(),
            self._noise(),
            self._begins_late(),
            self._ends_early(),
            self._triggers(),
            self._overlap(),
            self._limit(),
        )
        return [warning for warning in found if warning is not None]

    @property
    def _seen(self) -> tuple[float, float]:
        """x from and to of all views together."""
        return min(left for left, _ in self.views), max(right for _, right in self.views)

    def _view(self) -> BudgetWarning | None:
        width, u = self.asked.part_width, self.unit
        left, right = self._seen
        if width is None or right - left >= width + 2 * VIEW_MARGIN:
            return None
        text = f"The view is {u.text(right - left, 1)} {u.name} wide and the part {u.short(width)} {u.name}."
        if len(self.views) > 1:
            return BudgetWarning(text, "Increase sensor spacing or add a sensor.")
        needed = (width + 2 * VIEW_MARGIN) * self.model.mid / self.model.width + self.asked.z
        if needed - self.asked.lowest > self.model.far:
            return BudgetWarning(text, "Take a sensor with a wider view.")
        stand_off = float(round(needed + 0.5))
        return BudgetWarning(
            text,
            f"Raise the sensor to {u.short(stand_off)} {u.name}.",
            _fixed(self.station, "sensor", stand_off=stand_off),
        )

    def _beside(self) -> BudgetWarning | None:
        """Wide enough, but not where the part is, or with a gap in between."""
        width, u = self.asked.part_width, self.unit
        views = sorted(self.views)
        gaps = [following[0] - before[1] for before, following in pairwise(views)]
        if gaps and max(gaps) > -OVERLAP:
            return BudgetWarning(
                f"Neighbouring views share {u.text(-max(gaps), 1)} {u.name} at the part's top.",
                f"Mount the sensors closer together, so that {u.short(OVERLAP)} {u.name} are shared.",
            )
        left, right = self._seen
        if width is None or right - left < width + 2 * VIEW_MARGIN:
            return None
        over = max(left + width / 2, width / 2 - right) + VIEW_MARGIN
        if over <= 0:
            return None
        text = f"The view ends {u.text(max(0.0, VIEW_MARGIN - over), 1)} {u.name} beside the part."
        if over > VIEW_MARGIN:
            text = f"The part reaches {u.text(over - VIEW_MARGIN, 1)} {u.name} out of the view."
        fixed = _fixed(self.station, "sensor", x=0.0) if len(self.views) == 1 else None
        return BudgetWarning(text, "Mount the sensor over the middle of the belt.", fixed)

    def _range(self) -> BudgetWarning | None:
        sensor, u, asked = self.station.sensor, self.unit, self.asked
        low, high = sensor.covered(self.model)
        lowest = min(asked.lowest, asked.z)
        highest = max(asked.lowest, asked.z, asked.highest)
        if low <= lowest and highest <= high:
            return None
        what = (
            f"Heights from {u.text(low, 1)} to {u.text(high, 1)} {u.name} are measured,"
            f" and {u.short(lowest)} to {u.short(highest)} {u.name} required."
        )
        whole = self.model.covered(sensor.stand_off, CaptureBand())
        if whole[0] <= lowest and highest <= whole[1]:
            below, above = sensor.band.heights
            fixed = _fixed(
                self.station,
                "sensor.band",
                z_low=min(below, lowest) if math.isfinite(below) else None,
                z_high=max(above, highest) if math.isfinite(above) else None,
            )
            return BudgetWarning(what, "Widen the capture band.", fixed)
        stand_off = float(round(self.model.mid + (lowest + highest) / 2))
        fixed = _fixed(self.station, "sensor", stand_off=stand_off)
        return BudgetWarning(what, f"Mount the sensor {u.short(stand_off)} {u.name} above z = 0.", fixed)

    def _speed(self) -> BudgetWarning | None:
        travel, u = self.station.travel, self.unit
        reserve = max(SPEED_MARGIN, self.station.line.ripple / 100.0)
        if self.margin >= reserve - 1e-9 or self.rate == 0:
            return None
        text = (
            f"At {u.short(travel.speed)} {u.name}/s the line is too fast:"
            f" {u.text(self.highest_speed, 0)} is the most."
            if self.margin < 0
            else f"At {u.short(travel.speed)} {u.name}/s only {percent(self.margin)} are left"
            " for ripple and slip."
        )
        why = " The exposure holds the rate down." if self._held_by_exposure() else ""
        if travel.clock == "internal":
            period = math.ceil(1e4 / (1 - reserve) / self.rate) / 10
            fixed = _fixed(self.station, "travel", period=period)
            return BudgetWarning(text, f"Take a profile every {period:g} ms.{why}", fixed)
        every = math.ceil(travel.speed / (1 - reserve) / self.rate * travel.encoder.counts_per_mm - 1e-9)
        slower = u.text(math.floor(self.highest_speed * (1 - reserve)), 0)
        advice = f"Take a profile every {every} counts, or run at {slower} {u.name}/s.{why}"
        return BudgetWarning(text, advice, _fixed(self.station, "travel", counts_per_profile=every))

    def _held_by_exposure(self) -> bool:
        sensor = self.station.sensor
        return self.rate < self.model.rate_with(sensor.stand_off, sensor.band, 1e-6) - 1e-9

    def _oval(self) -> BudgetWarning | None:
        larger, smaller = max(self.pitch, self.spacing), min(self.pitch, self.spacing)
        travel, u = self.station.travel, self.unit
        if larger / smaller <= OVAL:
            return None
        text = f"Round holes are sampled unevenly: {_ratio(self.pitch, self.spacing)}."
        if travel.clock == "internal":
            return BudgetWarning(text, f"Take a profile every {1000 * self.pitch / travel.speed:.3g} ms.")
        every = max(1, round(self.pitch * travel.encoder.counts_per_mm))
        spacing = every / travel.encoder.counts_per_mm
        if every == travel.counts_per_profile:
            return BudgetWarning(text, "A finer encoder, or more of its edges, would allow equal spacing.")
        speed = math.floor(spacing * self.rate * (1 - SPEED_MARGIN))
        slow = f" at no more than {u.text(speed, 0)} {u.name}/s" if travel.speed > speed else ""
        counts = "every count" if every == 1 else f"every {every} counts"
        fixed = None
        if speed > 0:
            changed = min(travel.speed, float(speed))
            fixed = _fixed(self.station, "travel", counts_per_profile=every, speed=changed)
        return BudgetWarning(text, f"Take a profile {counts} ({u.text(spacing, 3)} {u.name}){slow}.", fixed)

    def _stretch(self) -> BudgetWarning | None:
        line = self.station.line
        if self.station.travel.clock != "internal" or not (line.ripple or line.ramp):
            return None
        how = f"by ±{line.ripple:g} %" if line.ripple else "while the line starts"
        return BudgetWarning(
            f"The speed varies {how}, and so do the lengths of parts.",
            "Trigger profiles from the encoder.",
            _fixed(self.station, "travel", clock="encoder"),
        )

    def _direction(self) -> BudgetWarning | None:
        travel, trigger = self.station.travel, self.station.trigger
        if travel.clock == "internal":
            return None
        looks_back = travel.direction != "forward" or trigger.by == "reversal"
        if travel.encoder.counting == "single" and looks_back:
            return BudgetWarning(
                "One channel of an encoder cannot distinguish forward from backward.",
                "Count both channels in quadrature.",
                _fixed(self.station, "travel.encoder", counting="x1"),
            )
        if trigger.by == "reversal" and travel.direction != "both" and travel.backward == "ignored":
            return BudgetWarning(
                "A reversal starts a scan, but what moves back is not scanned.",
                "Scan both ways.",
                _fixed(self.station, "travel", direction="both"),
            )
        return None

    def _noise(self) -> BudgetWarning | None:
        if self.noise_ratio is None or self.noise_ratio >= GAUGE_RATIO:
            return None
        u, larger = self.unit, self.asked.spot * GAUGE_RATIO / self.noise_ratio
        return BudgetWarning(
            f"The tightest limit is only {self.noise_ratio:.1f} times the noise of its spot.",
            f"Average over ⌀ {u.text(larger, 1)} {u.name}, mount the sensor closer,"
            " or take one with a smaller view.",
        )

    def _begins_late(self) -> BudgetWarning | None:
        station, u = self.station, self.unit
        if station.trigger.by != "eye" or station.lead >= 0:
            return None
        cut = f"{u.text(-station.lead, 1)} {u.name}"
        delay = max(0.0, station.trigger.distance - VIEW_MARGIN)
        fixed = _fixed(station, "trigger", delay=delay, delay_in="mm")
        return BudgetWarning(
            f"The scan begins {cut} behind the part's front, which is cut off.",
            f"Delay it by {u.short(delay)} {u.name} after the eye.",
            fixed,
        )

    def _ends_early(self) -> BudgetWarning | None:
        station, u, part = self.station, self.unit, self.asked.part_length
        if part is None or station.trigger.by != "eye" or station.trigger.length_in == "trigger":
            return None
        missing = station.lead + part - station.length
        if missing <= 0:
            return None
        length = math.ceil(station.lead + part + VIEW_MARGIN)
        return BudgetWarning(
            f"The scan ends {u.text(missing, 1)} {u.name} before the part does.",
            f"Scan {u.short(length)} {u.name}.",
            _fixed(station, "trigger", length=float(length), length_in="mm"),
        )

    def _triggers(self) -> BudgetWarning | None:
        trigger = self.station.trigger
        if trigger.by != "eye" or self.waiting <= trigger.waiting:
            return None
        fixed = _fixed(self.station, "trigger", waiting=self.waiting) if self.waiting <= 1000 else None
        return BudgetWarning(
            f"{self.waiting} triggers are in transit to the laser; the queue holds {trigger.waiting}.",
            f"Let {self.waiting} triggers wait, or move the eye nearer.",
            fixed,
        )

    def _overlap(self) -> BudgetWarning | None:
        station, u, spacing = self.station, self.unit, self.station.line.part_spacing
        trigger = station.trigger
        if trigger.by in ("free", "distance") or trigger.length_in == "trigger" or trigger.early == "share":
            return None
        if station.length <= spacing:
            return None
        return BudgetWarning(
            f"A scan of {u.short(station.length)} {u.name} is longer than the"
            f" {u.short(spacing)} {u.name} from part to part.",
            f"Scan {u.short(spacing)} {u.name} at most, or let scans share their profiles.",
            _fixed(station, "trigger", length=spacing, length_in="mm"),
        )

    def _limit(self) -> BudgetWarning | None:
        station, needed = self.station, self.station.length / self.station.travel.speed
        limit = station.trigger.time_limit
        if limit is None or limit > needed:
            return None
        wanted = math.ceil(needed * 15) / 10
        return BudgetWarning(
            f"A scan takes {needed:.2f} s and is given up after {limit:g} s.",
            f"Increase the time limit to {wanted:g} s.",
            _fixed(station, "trigger", time_limit=wanted),
        )


def _ratio(x: float, y: float) -> str:
    return f"1 : {y / x:.2f}" if y >= x else f"{x / y:.2f} : 1"
