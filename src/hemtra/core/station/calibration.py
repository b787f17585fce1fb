"""Calibration of a sensor: its measured mounting and scales, corrected in every profile."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.frames import Frame
from hemtra.core.station.optics import Tilt

Shift = Annotated[float, Field(ge=-1e4, le=1e4, allow_inf_nan=False)]
Gain = Annotated[float, Field(ge=0.5, le=2.0, allow_inf_nan=False)]


class Calibration(BaseModel):
    """From a point as the sensor gives it to the station.

    A point (x, z) of a profile taken at y of the travel is turned by lean (about x), roll (about y) and yaw
    (about z), moved by (x, y, z), then turned by pitch about x together with the travel, and at last scaled.
    A plate shows roll and pitch, by which the travel climbs; only a target with steps shows how far the laser
    plane leans. Angles in degrees, lengths in mm.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    roll: Tilt = 0.0
    pitch: Tilt = 0.0
    yaw: Tilt = 0.0
    lean: Tilt = 0.0
    x: Shift = 0.0
    y: Shift = 0.0
    z: Shift = 0.0
    gain_x: Gain = 1.0
    gain_z: Gain = 1.0

    @property
    def is_none(self) -> bool:
        """Whether it changes nothing."""
        return self == Calibration()

    @property
    def matrix(self) -> FloatArray:
        """(3, 3) that turns (x, y of travel, z) of the sensor into the station's, before `offset`."""
        turned = Frame(rotation=self.yaw, tilt_y=self.roll, tilt_x=self.lean).matrix
        points = np.column_stack([turned[:, 0], [0.0, 1.0, 0.0], turned[:, 2]])
        matrix: FloatArray = self._gains @ Frame(tilt_x=self.pitch).matrix @ points
        return matrix

    @property
    def offset(self) -> FloatArray:
        """(3,) in mm."""
        offset: FloatArray = self._gains @ Frame(tilt_x=self.pitch).matrix @ np.array([self.x, self.y, self.z])
        return offset

    @property
    def _gains(self) -> FloatArray:
        return np.diag([self.gain_x, 1.0, self.gain_z])

    def applied(self, points: FloatArray) -> FloatArray:
        """(n, 3) points x, y of travel, z of the sensor, in the station."""
        return points @ self.matrix.T + self.offset

    def undone(self, points: FloatArray) -> FloatArray:
        """(n, 3) points of the station as the sensor gave them."""
        back: FloatArray = np.linalg.solve(self.matrix, (points - self.offset).T).T
        return back
