"""Exposure: how long the sensor looks, by hand, by a intensity to reach, or twice."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.form_fields import Form, setting

Times = Annotated[float, Field(gt=0, le=100, allow_inf_nan=False)]

SHORTEST = 0.02
"""Shortest exposure, in multiples of nominal."""
NEAR_ENOUGH = 0.05
"""Share of the target within which a intensity has reached it."""
MOST_LOOKS = 12
"""Profiles of a trial; where intensity follows exposure three are enough, saturation takes more."""
SATURATED = 254
"""Grey value from which a peak may be found in the wrong place."""


class Exposure(Form):
    """Exposure in multiples of the model's nominal exposure."""

    by: Literal["manual", "automatic", "two"] = setting(
        "manual",
        "exposure",
        "Set manually, set to reach a target intensity, or one short and one long exposure merged.",
        choices={"manual": "manual", "two": "two, merged"},
    )
    time: Times = setting(
        1.0, "time", "Times nominal; longer is less noisy and slower.", unit="×", when={"by": ("manual", "two")}
    )
    short: Times = setting(
        0.25, "short time", "Of the second, for what shines.", unit="×", when={"by": ("two",)}
    )
    brightness: Annotated[int, Field(ge=10, le=240)] = setting(
        120, "intensity", "Target intensity of the lit points, 0 to 255.", when={"by": ("automatic",)}
    )
    longest: Times = setting(
        4.0,
        "at most",
        "Longest it may become: it caps the profile rate.",
        unit="×",
        when={"by": ("automatic",)},
    )

    @property
    def total(self) -> float:
        """The longest that one profile may take, times nominal."""
        return {"manual": self.time, "automatic": self.longest, "two": self.time + self.short}[self.by]

    def taken_with(self, settled: float) -> tuple[float, ...]:
        """The exposures of one profile, longest first, where automatic ones have settled at a time."""
        if self.by == "two":
            return max(self.time, self.short), min(self.time, self.short)
        return (settled if self.by == "automatic" else self.time,)


@dataclass(frozen=True)
class ExposureTrial:
    """An exposure trial: the exposure and the resulting intensity."""

    time: float
    brightness: float


@dataclass(frozen=True)
class Tuned:
    """Result of automatic exposure: the value, whether it reached the target, and a remark."""

    looks: tuple[ExposureTrial, ...]
    reached: bool
    message: str

    @property
    def time(self) -> float:
        """The exposure to use, times nominal."""
        return self.looks[-1].time


def brightness_of(intensity: ByteArray) -> float:
    """Median grey value of the lit points, 0 where nothing is lit. intensity: any shape, 0 = not found."""
    lit = intensity[intensity > 0]
    return float(np.median(lit)) if lit.size else 0.0


def tune(look: Callable[[float], float], target: float, longest: float, start: float = 1.0) -> Tuned:
    """Find the exposure at which `look(exposure)` sees the target intensity.

    Grey grows with exposure until it saturates, so each look scales the next one. Says so where the target
    cannot be reached.
    """
    looks: list[ExposureTrial] = []
    time = min(max(start, SHORTEST), longest)
    for _ in range(MOST_LOOKS):
        seen = look(time)
        looks.append(ExposureTrial(time, seen))
        if abs(seen - target) <= NEAR_ENOUGH * target:
            text = f"reaches intensity {seen:.0f} of {target:.0f} at {time:.2f} ×"
            return Tuned(tuple(looks), True, text)
        # a saturated grey shows only that it is too much
        factor = 0.5 if seen >= SATURATED else (4.0 if seen <= 0 else target / seen)
        wanted = min(max(time * min(max(factor, 0.25), 4.0), SHORTEST), longest)
        if wanted == time:
            break
        time = wanted
    last = looks[-1]
    if last.brightness < target:
        text = (
            f"stops at its longest, {last.time:.2f} ×, with intensity {last.brightness:.0f} of {target:.0f};"
            " let it be longer, or put the sensor nearer"
        )
    else:
        text = f"stays at intensity {last.brightness:.0f} above {target:.0f} with {last.time:.2f} ×"
    return Tuned(tuple(looks), False, text)


def merge_exposures(
    long: tuple[NDArray[np.float32], ByteArray], short: tuple[NDArray[np.float32], ByteArray], ratio: float
) -> tuple[NDArray[np.float32], ByteArray]:
    """z and intensity of two exposures of the same profiles as one.

    The long one counts, being less noisy, except where it is saturated or has no data and the short one has.
    (rows, points) each; ratio: long over short exposure, by which the short one's intensity is scaled.
    """
    z, grey = long
    short_z, short_grey = short
    use = ~np.isnan(short_z) & (np.isnan(z) | (grey >= SATURATED))
    scaled: FloatArray = np.minimum(short_grey * ratio + 0.5, 255.0)
    return np.where(use, short_z, z), np.where(use, scaled.astype(np.uint8), grey)
