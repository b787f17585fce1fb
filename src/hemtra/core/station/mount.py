"""Mounting of a sensor, as drawn and as built."""

from __future__ import annotations

from typing import Annotated, Literal, TypeAlias

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from hemtra.core.arrays import FloatArray
from hemtra.core.form_fields import Form, setting
from hemtra.core.maps.heightmap import Profile
from hemtra.core.station.calibration import Calibration, Shift
from hemtra.core.station.exposure import Exposure
from hemtra.core.station.optics import CaptureBand, Limit, Positive, SensorModel, Tilt

PeakChoice: TypeAlias = Literal["strongest", "highest", "lowest", "nearest"]


Stretch = Annotated[float, Field(ge=-10.0, le=10.0, allow_inf_nan=False)]


class MountingPose(Form):
    """Deviation of the sensor from its drawn pose: known for a simulated sensor, measured for a real one."""

    roll: Tilt = setting(0.0, "roll", "Rotation about y; tilts heights along x.", unit="°")
    pitch: Tilt = setting(0.0, "pitch", "Rotation about x; shifts high points along travel.", unit="°")
    yaw: Tilt = setting(0.0, "yaw", "Rotation about z; skews square parts.", unit="°")
    x: Shift = setting(0.0, "x offset", "Actual minus nominal x position.", unit="mm")
    y: Shift = setting(0.0, "y offset", "Actual minus nominal y position.", unit="mm")
    z: Shift = setting(0.0, "z offset", "Actual minus nominal z position.", unit="mm")
    stretch_x: Stretch = setting(0.0, "x scale error", "Measured minus true length along x.", unit="%")
    stretch_z: Stretch = setting(0.0, "z scale error", "Measured minus true height.", unit="%")


class ReferenceProfile(BaseModel):
    """A profile to compare with: z in mm at x = first + k spacing, None where there was no data."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    first: Limit
    pitch: Positive
    z: Annotated[tuple[Limit | None, ...], Field(min_length=2, max_length=65536)]


class SensorMount(Form):
    """A sensor above the transport: its laser `stand_off` mm above z = 0 and `x` mm beside the middle."""

    model: str = setting(..., "model", "Sensor model.")
    stand_off: Positive = setting(..., "stand-off", "Laser above the part's top face.", unit="mm")
    x: Limit = setting(0.0, "lateral offset", "Laser beside the middle of the belt.", unit="mm")
    peaks: PeakChoice = setting(
        "strongest",
        "peak choice",
        "Which reflection counts where a column shows several, as on shiny faces.",
        choices={"nearest": "near reference"},
    )
    exposure: Exposure = Exposure()
    band: CaptureBand = CaptureBand()
    hang: MountingPose = MountingPose()
    calibration: Calibration = Calibration()
    reference: ReferenceProfile | None = None
    """Feature nearest to the peak, and the reference dimmed behind the live profile."""

    def covered(self, model: SensorModel) -> tuple[float, float]:
        """Lowest and highest z in mm that are delivered."""
        return model.covered(self.stand_off, self.band)

    def rate(self, model: SensorModel) -> float:
        """Highest profile rate in Hz."""
        return model.rate_with(self.stand_off, self.band, self.exposure.total)


def calibrated(mount: SensorMount, x: FloatArray, z: FloatArray, grey: NDArray[np.uint8]) -> Profile:
    """A profile as the sensor delivered it, (points,) each, in the station."""
    points = np.column_stack([x, np.zeros_like(x), np.nan_to_num(z.astype(np.float64))])
    placed = mount.calibration.applied(points)
    height = np.where(np.isnan(z), np.nan, placed[:, 2])
    return Profile(placed[:, 0] + mount.x, height, grey.astype(np.float64))
