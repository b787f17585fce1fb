"""What a laser-profile sensor is, optically."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

Positive = Annotated[float, Field(gt=0, allow_inf_nan=False, le=1e6)]


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
    """Standard deviation of one height at the distance `mid` and nominal brightness."""
    quantum: Positive
    """Smallest step of a height."""
    baseline: Positive
    rate: Positive
    """Highest profile rate in Hz."""

    def width_at(self, distance: float) -> float:
        """View along x at a distance below the laser."""
        return self.width * distance / self.mid

    def pitch_at(self, distance: float) -> float:
        """Distance between neighbouring points along x."""
        return self.width_at(distance) / self.points

    def noise_at(self, distance: float) -> float:
        """Standard deviation of one height: a pixel sees more height the farther it looks, with the square."""
        return self.noise * (distance / self.mid) ** 2
