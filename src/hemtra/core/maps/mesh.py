"""Triangle meshes, and the height map of the upper side of one."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray, Heights, IntArray
from hemtra.core.compiled import lean
from hemtra.core.errors import HemtraError
from hemtra.core.maps.heightmap import Grid, HeightMap

Up = Literal["+z", "-z", "+x", "-x", "+y", "-y"]
UP: dict[Up, tuple[tuple[int, ...], ...]] = {
    "+z": ((1, 0, 0), (0, 1, 0), (0, 0, 1)),
    "-z": ((1, 0, 0), (0, -1, 0), (0, 0, -1)),
    "+x": ((0, 1, 0), (0, 0, 1), (1, 0, 0)),
    "-x": ((0, -1, 0), (0, 0, 1), (-1, 0, 0)),
    "+y": ((0, 0, 1), (1, 0, 0), (0, 1, 0)),
    "-y": ((1, 0, 0), (0, 0, 1), (0, -1, 0)),
}
"""Rotation that turns an axis of a mesh towards the sensor, by axis."""
MOST_CELLS = 60_000_000
FARTHEST = 1e6
"""Largest distance of a mesh from its origin, mm."""


@dataclass(frozen=True, eq=False)
class Mesh:
    """corners: (n, 3) in mm. faces: (m, 3) indices of corners."""

    corners: FloatArray
    faces: IntArray

    def __post_init__(self) -> None:
        if not self.corners.size or not self.faces.size:
            raise HemtraError("The mesh has no triangles.")
        if not np.isfinite(self.corners).all():
            raise HemtraError("The mesh holds corners that are no numbers.")
        if np.abs(self.corners).max() > FARTHEST:
            raise HemtraError(f"The mesh reaches beyond {FARTHEST / 1e6:g} km; check the unit of its numbers.")
        if self.faces.min() < 0 or self.faces.max() >= len(self.corners):
            raise HemtraError("The mesh has triangles whose corners are missing.")

    def seen_from(self, up: Up) -> Mesh:
        """Turned so that an axis points to the sensor."""
        return Mesh(self.corners @ np.array(UP[up], np.float64).T, self.faces)

    def moved(self, matrix: FloatArray, offset: FloatArray) -> Mesh:
        """Turned by (3, 3), then moved by (3,) mm."""
        return Mesh(self.corners @ matrix.T + offset, self.faces)

    @property
    def box(self) -> tuple[FloatArray, FloatArray]:
        """(3,) least and greatest coordinates."""
        used = self.corners[np.unique(self.faces)]
        return used.min(axis=0), used.max(axis=0)


def from_above(mesh: Mesh, grid: Grid, shape: tuple[int, int]) -> HeightMap:
    """The highest surface at every point of a grid, NaN beside the mesh. Exact: triangles are planes."""
    if shape[0] * shape[1] > MOST_CELLS:
        raise HemtraError(f"A map of {shape[0]} × {shape[1]} points is too large.")
    z = np.full(shape, np.nan, np.float32)
    places = (mesh.corners - (grid.x0, grid.y0, 0.0)) / (grid.dx, grid.dy, 1.0)
    _draw(np.ascontiguousarray(places), np.ascontiguousarray(mesh.faces, np.int64), z)
    return HeightMap(z, None, grid.dx, grid.dy, grid.x0, grid.y0)


def map_of_mesh(mesh: Mesh, spacing: float) -> HeightMap:
    """A mesh from above on a grid of its own, with one point more on every side."""
    low, high = mesh.box
    cols, rows = (int((high[k] - low[k]) / spacing) + 3 for k in (0, 1))
    grid = Grid(float(low[0] - spacing), float(low[1] - spacing), spacing, spacing)
    return from_above(mesh, grid, (rows, cols))


@lean
def _draw(places: FloatArray, faces: NDArray[np.int64], z: Heights) -> None:
    """Write the highest of all triangles into z; places: (n, 3) column, row and height of the corners."""
    rows, cols = z.shape
    for f in range(len(faces)):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, az = places[a, 0], places[a, 1], places[a, 2]
        bx, by, bz = places[b, 0], places[b, 1], places[b, 2]
        cx, cy, cz = places[c, 0], places[c, 1], places[c, 2]
        area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if abs(area) < 1e-12:
            continue  # edge-on to the view
        first_row = max(math.ceil(min(ay, by, cy)), 0)
        last_row = min(math.floor(max(ay, by, cy)), rows - 1)
        first, last = max(math.ceil(min(ax, bx, cx)), 0), min(math.floor(max(ax, bx, cx)), cols - 1)
        for i in range(first_row, last_row + 1):
            for j in range(first, last + 1):
                u = ((bx - ax) * (i - ay) - (j - ax) * (by - ay)) / area
                v = ((j - ax) * (cy - ay) - (cx - ax) * (i - ay)) / area
                # a little beyond, so that nothing is missed between two triangles
                if u < -1e-9 or v < -1e-9 or u + v > 1.0 + 1e-9:
                    continue
                height = az + v * (bz - az) + u * (cz - az)
                if not z[i, j] >= height:
                    z[i, j] = height
