"""Rigid frames: where one coordinate system sits in another."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray


@dataclass(frozen=True)
class Frame:
    """A rigid frame: turned by `rotation` about z, tilted about its own x and y, then moved to (x, y, z).

    Lengths in mm, angles in degrees, counter-clockwise seen against the axis.
    The rotation matrix is Rz(rotation) Ry(tilt_y) Rx(tilt_x).
    """

    gives: ClassVar[frozenset[str]] = frozenset({"x", "y", "z", "rotation", "tilt"})
    """The axes on which zones can follow it."""

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0
    rotation: float = 0.0
    tilt_x: float = 0.0
    tilt_y: float = 0.0

    @classmethod
    def on(cls, slopes: tuple[float, float], x: float, y: float, z: float, rotation: float) -> Frame:
        """Tilted as a plane that rises by so much along x and y, seen from outside."""
        c, s = math.cos(math.radians(rotation)), math.sin(math.radians(rotation))
        along, across = slopes[0] * c + slopes[1] * s, slopes[1] * c - slopes[0] * s
        tilt_y = -math.degrees(math.atan(along))
        tilt_x = math.degrees(math.atan(across * math.cos(math.radians(tilt_y))))
        return cls(x, y, z, rotation, tilt_x, tilt_y)

    @cached_property
    def matrix(self) -> FloatArray:
        """(3, 3) float64 rotation: columns are the frame's axes seen from outside."""
        (cz, cy, cx), (sz, sy, sx) = (
            trig(np.radians([self.rotation, self.tilt_y, self.tilt_x])) for trig in (np.cos, np.sin)
        )
        return np.array(
            [
                [cz * cy, cz * sy * sx - sz * cx, cz * sy * cx + sz * sx],
                [sz * cy, sz * sy * sx + cz * cx, sz * sy * cx - cz * sx],
                [-sy, cy * sx, cy * cx],
            ]
        )

    @property
    def slopes(self) -> tuple[float, float]:
        """Rise in mm per mm along x and y, from outside, of the frame's own x-y plane."""
        nx, ny, nz = self.matrix[:, 2]
        return float(-nx / nz), float(-ny / nz)

    @property
    def origin(self) -> FloatArray:
        """(3,) float64 in mm."""
        return np.array([self.x, self.y, self.z])

    def outward(self, points: FloatArray) -> FloatArray:
        """(n, 3) points of this frame, seen from outside."""
        return points @ self.matrix.T + self.origin

    def inward(self, points: FloatArray) -> FloatArray:
        """(n, 3) points from outside, seen in this frame."""
        return (points - self.origin) @ self.matrix
