"""The camera of the 3D view: turns about a point, as matrices without OpenGL."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.arrays import FloatArray

FIELD = 32.0
"""Vertical angle of view, degrees."""
NEAREST, FARTHEST = 2.0, 5000.0
STEEPEST = 89.5
LEAST_HEIGHT, MOST_HEIGHT = 0.5, 40.0


@dataclass(frozen=True)
class Orbit:
    """Camera: degrees about z and above the x-y plane, mm from the point it faces.

    height: by how much z is exaggerated.
    """

    x: float = 0.0
    y: float = 0.0
    z: float = 0.0
    turn: float = -60.0
    rise: float = 40.0
    distance: float = 250.0
    height: float = 2.0

    def turned(self, across: float, up: float) -> Orbit:
        """After a drag by so many pixels."""
        return replace(
            self,
            turn=(self.turn - 0.4 * across) % 360.0,
            rise=float(np.clip(self.rise + 0.4 * up, -10.0, STEEPEST)),
        )

    def panned(self, across: float, up: float, pixels: int) -> Orbit:
        """The part moved with the pointer, in a view so many pixels high."""
        scale = 2 * self.distance * math.tan(math.radians(FIELD / 2)) / max(pixels, 1)
        right, above, _ = self._axes()
        shift = -scale * across * right + scale * up * above
        return replace(self, x=self.x + shift[0], y=self.y + shift[1], z=self.z + shift[2] / self.height)

    def zoomed(self, factor: float) -> Orbit:
        """Nearer by a factor."""
        return replace(self, distance=float(np.clip(self.distance / factor, NEAREST, FARTHEST)))

    def exaggerated(self, factor: float) -> Orbit:
        """z stretched by a factor more."""
        return replace(self, height=float(np.clip(self.height * factor, LEAST_HEIGHT, MOST_HEIGHT)))

    def about(self, extent: tuple[float, float, float, float], z: float) -> Orbit:
        """Looking at the middle of a part, from where all of it is seen."""
        x0, x1, y0, y1 = extent
        across = math.hypot(x1 - x0, y1 - y0)
        distance = 0.42 * across / math.tan(math.radians(FIELD / 2))
        return replace(self, x=(x0 + x1) / 2, y=(y0 + y1) / 2, z=z, distance=distance)

    def matrix(self, width: int, height: int) -> FloatArray:
        """(4, 4) float64: from mm of the scan to clip coordinates of a view."""
        right, above, back = self._axes()
        middle = np.array([self.x, self.y, self.z * self.height])
        view = np.eye(4)
        view[:3, :3] = np.vstack([right, above, back])
        view[:3, 3] = -view[:3, :3] @ (middle + self.distance * back)
        near, far = self.distance / 50.0, self.distance * 4.0
        f = 1.0 / math.tan(math.radians(FIELD / 2))
        lens = np.array(
            [
                [f * height / max(width, 1), 0, 0, 0],
                [0, f, 0, 0],
                [0, 0, (far + near) / (near - far), 2 * far * near / (near - far)],
                [0, 0, -1, 0],
            ]
        )
        matrix: FloatArray = lens @ view @ np.diag([1.0, 1.0, self.height, 1.0])
        return matrix

    def project(self, points: FloatArray, width: int, height: int) -> FloatArray:
        """(n, 2) pixels of points (n, 3) in mm; NaN behind the camera."""
        clip = np.column_stack([points, np.ones(len(points))]) @ self.matrix(width, height).T
        w = np.where(clip[:, 3] > 1e-6, clip[:, 3], np.nan)
        return np.column_stack([(clip[:, 0] / w + 1) / 2 * width, (1 - clip[:, 1] / w) / 2 * height])

    def _axes(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Unit vectors to the right, up, and back to the camera."""
        turn, rise = math.radians(self.turn), math.radians(self.rise)
        back = np.array([math.cos(rise) * math.cos(turn), math.cos(rise) * math.sin(turn), math.sin(rise)])
        right = np.array([-math.sin(turn), math.cos(turn), 0.0])
        return right, np.cross(back, right), back
