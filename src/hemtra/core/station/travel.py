"""Travel: how the movement of the part becomes profiles."""

from __future__ import annotations

import math
from typing import Annotated, Literal, TypeAlias

from pydantic import Field

from hemtra.core.form_fields import Form, setting
from hemtra.core.station.optics import Positive, Tilt

MOST_PROFILES = 100_000

Counting: TypeAlias = Literal["single", "x1", "x2", "x4"]
Direction: TypeAlias = Literal["forward", "backward", "both"]
Against: TypeAlias = Literal["ignored", "scanned"]
Ends: TypeAlias = Literal["even", "nearest"]

EDGES = {"single": 1, "x1": 1, "x2": 2, "x4": 4}
COUNTING = setting(
    "x1",
    "counting",
    "One channel cannot distinguish forward from backward; two in quadrature give 1, 2 or 4 counts a pulse.",
    choices={"single": "one channel", "x1": "quadrature × 1", "x2": "quadrature × 2", "x4": "quadrature × 4"},
)


class WheelEncoder(Form):
    """An encoder on a measuring wheel."""

    by: Literal["wheel"] = "wheel"
    pulses_per_turn: Positive = setting(..., "pulses per turn", "Of the encoder, per turn of its wheel.")
    circumference: Annotated[float, Field(ge=1.0, le=1e5, allow_inf_nan=False)] = setting(
        ..., "circumference", "Of the measuring wheel.", unit="mm"
    )
    counting: Counting = COUNTING

    @property
    def edges(self) -> int:
        """Counts per pulse."""
        return EDGES[self.counting]

    @property
    def counts_per_mm(self) -> float:
        """Counts that one millimetre of travel makes."""
        return self.pulses_per_turn * self.edges / self.circumference


class LinearEncoder(Form):
    """An encoder known by its travel per pulse, as measured or printed on a linear scale."""

    by: Literal["pulse"] = "pulse"
    mm_per_pulse: Positive = setting(..., "travel per pulse", "As measured, or as printed on it.", unit="mm")
    counting: Counting = COUNTING

    @property
    def edges(self) -> int:
        """Counts per pulse."""
        return EDGES[self.counting]

    @property
    def counts_per_mm(self) -> float:
        """Counts that one millimetre of travel makes."""
        return self.edges / self.mm_per_pulse


Encoder: TypeAlias = Annotated[WheelEncoder | LinearEncoder, Field(discriminator="by")]

BY_ENCODER: dict[str, tuple[str, ...]] = {"clock": ("encoder",)}


class Travel(Form):
    """Profile clock: encoder counts per profile, or a period of the internal clock."""

    clock: Literal["encoder", "internal"] = setting(
        "encoder",
        "profiles by",
        "The encoder follows the line; a clock stretches parts when the speed varies.",
        choices={"internal": "internal clock"},
    )
    encoder: Encoder
    counts_per_profile: Annotated[int, Field(ge=1, le=1_000_000)] = setting(
        ..., "counts per profile", "Counts from profile to profile.", when=BY_ENCODER
    )
    period: Positive = setting(
        1.0, "period", "From profile to profile.", unit="ms", when={"clock": ("internal",)}
    )
    direction: Direction = setting(
        "forward",
        "direction",
        "Which way the line carries parts past the sensor.",
        choices={"both": "both ways"},
        when=BY_ENCODER,
    )
    backward: Against = setting(
        "ignored",
        "reverse motion",
        "Against the direction: nothing until the place is passed again, or profiles of its own.",
        choices={"ignored": "waits", "scanned": "is scanned"},
        when={**BY_ENCODER, "direction": ("forward", "backward")},
    )
    speed: Positive = setting(100.0, "speed", "Of the belt.", unit="mm/s")
    equal_pitch: bool = setting(
        False,
        "equal spacing",
        "Resamples rows to the spacing of the columns, so that round features look round.",
        choices={"False": "as scanned", "True": "y = x spacing"},
    )
    ends: Ends = setting(
        "even",
        "ends of surfaces",
        "Surfaces end between columns. Evened out, an edge found on many profiles lies right; at the nearest"
        " column, profiles of one shape stay alike, for plans that measure each by itself.",
        choices={"even": "evened out", "nearest": "nearest column"},
    )

    @property
    def spacing(self) -> float:
        """Distance from one profile to the next, as set in the station, mm."""
        if self.clock == "internal":
            return self.speed * self.period / 1000.0
        return self.counts_per_profile / self.encoder.counts_per_mm

    def profiles_in(self, length: float) -> int:
        """Profiles over a length in mm, within what one scan may have; at least two make a map."""
        profiles = length / self.spacing
        return min(MOST_PROFILES, max(2, round(profiles) if math.isfinite(profiles) else MOST_PROFILES))


class ProfileCounter:
    """Turns encoder counts into profiles due; pure bookkeeping, no clock inside.

    every: counts from one profile to the next. Moving against the direction, with that ignored, a place gives
    one profile however often the line shakes over it; scanned, or with both directions, each pass over a
    multiple of `every` gives one.
    """

    def __init__(self, every: int, direction: Direction = "forward", backward: Against = "ignored") -> None:
        self._every = every
        self._scanned = backward == "scanned" or direction == "both"
        self._sign = -1 if direction == "backward" else 1
        self._last, self._farthest = 0, 0

    def feed(self, count: int) -> tuple[int, ...]:
        """Places (in multiples of `every`) whose profiles became due before this count."""
        count *= self._sign
        before, self._last = self._last, count
        if not self._scanned:
            reached = max(self._farthest, count // self._every)
            due = tuple(range(self._farthest + 1, reached + 1))
            self._farthest = reached
            return due
        if count >= before:
            return tuple(range(before // self._every + 1, count // self._every + 1))
        # going back, a place is passed when the count falls to it
        return tuple(range(-(-before // self._every) - 1, -(-count // self._every) - 1, -1))


class Conveyor(Form):
    """Motion of the line and part feed; the simulated one runs as set."""

    part_spacing: Positive = setting(
        300.0, "part spacing", "From the front of one part to the next.", unit="mm"
    )
    jitter: Annotated[float, Field(ge=0, le=1e4, allow_inf_nan=False)] = setting(
        0.0, "jitter", "Standard deviation of the part spacing.", unit="mm"
    )
    ramp: Annotated[float, Field(ge=0, le=1e5, allow_inf_nan=False)] = setting(
        0.0, "ramp", "Acceleration from rest; 0 starts at full speed.", unit="mm/s²"
    )
    ripple: Annotated[float, Field(ge=0, le=90, allow_inf_nan=False)] = setting(
        0.0, "speed ripple", "How far the speed swings to either side.", unit="%"
    )
    belt: Annotated[float, Field(ge=-1e4, le=1e4, allow_inf_nan=False)] = -6.0
    """z of the belt in mm."""
    climb: Tilt = setting(
        0.0, "climb", "The travel rises toward the sensor; reads as a slope along y.", unit="°"
    )
