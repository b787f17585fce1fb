"""Optics of a laser-profile sensor."""

from __future__ import annotations

import math
from typing import Annotated, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from hemtra.core.form_fields import Form, setting

Positive = Annotated[float, Field(gt=0, allow_inf_nan=False, le=1e6)]
Limit = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]
Tilt = Annotated[float, Field(ge=-45.0, le=45.0, allow_inf_nan=False)]

FASTEST_BY_BAND = 4.0
"""A smaller capture band reads out fewer camera rows; the rest of a cycle does not shrink with it."""


def _bounds(low: float | None, high: float | None) -> tuple[float, float]:
    return -math.inf if low is None else low, math.inf if high is None else high


class CaptureBand(Form):
    """The part of the view that the sensor delivers: limits in mm of the station, None for no limit."""

    z_low: Limit | None = setting(None, "band from", "Lowest height that is delivered.", unit="mm")
    z_high: Limit | None = setting(None, "band to", "Highest height that is delivered.", unit="mm")
    x_low: Limit | None = setting(None, "x from", "Nothing further left is delivered.", unit="mm")
    x_high: Limit | None = setting(None, "x to", "Nothing further right is delivered.", unit="mm")

    @property
    def heights(self) -> tuple[float, float]:
        """Lowest and highest z, infinite where there is no limit."""
        return _bounds(self.z_low, self.z_high)

    @property
    def across(self) -> tuple[float, float]:
        """Lower and upper x, infinite where there is no limit."""
        return _bounds(self.x_low, self.x_high)

    @model_validator(mode="after")
    def _has_room(self) -> Self:
        if any(low >= high for low, high in (self.heights, self.across)):
            raise ValueError("a capture band needs its upper limits above its lower ones")
        return self


class SensorModel(BaseModel):
    """A model of sensor, lengths in mm.

    The laser fan leaves one point and spreads along x; the camera sits at the same height, `baseline` farther
    along travel, and looks back at the laser line. Distances are measured down from the laser.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str
    near: Positive
    far: Positive
    mid: Positive
    width: Positive
    """View along x at the distance `mid`."""
    points: Annotated[int, Field(ge=16, le=65536)]
    noise: Positive
    """Standard deviation of one height at the distance `mid` and nominal intensity."""
    quantum: Positive
    """Smallest step of a height."""
    baseline: Positive
    rate: Positive
    """Highest profile rate in Hz, with the whole view delivered."""
    exposure_us: Positive
    """Nominal exposure in µs."""

    def width_at(self, distance: float) -> float:
        """View along x at a distance below the laser."""
        return self.width * distance / self.mid

    def pitch_at(self, distance: float) -> float:
        """Distance between neighbouring points along x."""
        return self.width_at(distance) / self.points

    def covered(self, stand_off: float, band: CaptureBand) -> tuple[float, float]:
        """Lowest and highest z in mm that are delivered, with the laser `stand_off` mm above z = 0."""
        low, high = band.heights
        return max(stand_off - self.far, low), min(stand_off - self.near, high)

    def rate_with(self, stand_off: float, band: CaptureBand, exposure: float) -> float:
        """Highest profile rate in Hz: a smaller band raises it, an exposure longer than the cycle caps it.

        exposure: all of one profile's exposures together, times nominal.
        """
        low, high = self.covered(stand_off, band)
        share = (high - low) / (self.far - self.near)
        by_band = self.rate * min(FASTEST_BY_BAND, 1.0 / share) if share > 0 else 0.0
        return min(by_band, 1e6 / (exposure * self.exposure_us))

    def expected_noise(self, distance: float, exposure: float, reflectance: float = 0.55) -> float:
        """Standard deviation in mm of one height of a surface that sends back a share of the light."""
        return self.noise_at(distance) * math.sqrt(max(1.0, 0.5 / (exposure * reflectance)))

    def noise_at(self, distance: float) -> float:
        """Standard deviation of one height: a pixel sees more height the farther it looks, with the square."""
        return self.noise * (distance / self.mid) ** 2
