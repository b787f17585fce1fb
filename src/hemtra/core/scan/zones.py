"""Zones: where in the scan a feature looks."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Literal, TypeAlias

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import OffScan
from hemtra.core.scan.heightmap import Grid, HeightMap

Coordinate = Annotated[float, Field(allow_inf_nan=False, ge=-1e6, le=1e6)]
Length = Annotated[float, Field(allow_inf_nan=False, gt=0, le=1e6)]

ELLIPSE_CORNERS = 72
"""Corners of the polygon an ellipse is drawn with."""


@dataclass(frozen=True)
class Window:
    """The part of a height map that a zone covers.

    `rows` and `cols` bound it; `inside` is (rows, cols) bool, or None where the whole window is inside.
    """

    rows: slice
    cols: slice
    inside: BoolArray | None
    covered: float
    """Share of the zone that lies on the scan, 0 to 1."""

    def heights(self, data: HeightMap) -> FloatArray:
        """(n,) float64 heights in mm inside the zone, without missing ones."""
        z = data.z[self.rows, self.cols]
        z = z.ravel() if self.inside is None else z[self.inside]
        return z[~np.isnan(z)].astype(np.float64)

    def data_share(self, data: HeightMap) -> float:
        """Share of the zone that holds data, 0 to 1; what lies outside the scan holds none."""
        missing = np.isnan(data.z[self.rows, self.cols])
        if self.inside is None:
            return self.covered * (1.0 - np.count_nonzero(missing) / missing.size)
        points = np.count_nonzero(self.inside)
        return self.covered * (1.0 - np.count_nonzero(missing & self.inside) / points)

    def grid(self, data: HeightMap) -> Grid:
        """The grid of the window's own first row and column."""
        return data.grid.shifted(self.rows.start, self.cols.start)


class _Zone(BaseModel):
    """Centre, size and rotation shared by all zones; the height map's z does not matter to them."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    x: Coordinate
    y: Coordinate
    width: Length
    height: Length
    rotation: Annotated[float, Field(allow_inf_nan=False, ge=-3600, le=3600)] = 0.0

    def local(self, x: FloatArray, y: FloatArray) -> tuple[FloatArray, FloatArray]:
        """x, y in mm seen in the zone: origin in its centre, x along its width."""
        if self.rotation == 0.0:  # keeps a row of x and a column of y as they are, a map's worth less work
            return x - self.x, y - self.y
        c, s = math.cos(math.radians(self.rotation)), math.sin(math.radians(self.rotation))
        return c * (x - self.x) + s * (y - self.y), c * (y - self.y) - s * (x - self.x)

    def outward(self, u: FloatArray, v: FloatArray) -> FloatArray:
        """(n, 2) positions in mm of points given in the zone."""
        c, s = math.cos(math.radians(self.rotation)), math.sin(math.radians(self.rotation))
        return np.column_stack([self.x + c * u - s * v, self.y + s * u + c * v])

    def corners(self) -> FloatArray:
        """(4, 2) corners of the bounding rectangle in the zone's own directions, counter-clockwise."""
        w, h = self.width / 2, self.height / 2
        return self.outward(np.array([-w, w, w, -w]), np.array([-h, -h, h, h]))


class RectangleZone(_Zone):
    """A rectangle, turned about its centre."""

    shape: Literal["rectangle"] = "rectangle"

    @property
    def area(self) -> float:
        """mm²"""
        return self.width * self.height

    def outline(self) -> FloatArray:
        """(n, 2) polygon in mm, counter-clockwise, not closed."""
        return self.corners()

    def half_extent(self) -> tuple[float, float]:
        """Half size in mm of the box along x and y that holds the zone."""
        c, s = _abs_cos_sin(self.rotation)
        return (c * self.width + s * self.height) / 2, (s * self.width + c * self.height) / 2

    def fills_its_box(self) -> bool:
        """Whether every point of the box along x and y is inside."""
        return self.rotation % 90.0 == 0.0

    def contains(self, x: FloatArray, y: FloatArray) -> BoolArray:
        """Which of the positions in mm are inside."""
        u, v = self.local(x, y)
        return (np.abs(u) <= self.width / 2) & (np.abs(v) <= self.height / 2)


class EllipseZone(_Zone):
    """An ellipse, or a circle when width and height agree."""

    shape: Literal["ellipse"] = "ellipse"

    @property
    def area(self) -> float:
        """mm²"""
        return math.pi / 4 * self.width * self.height

    def outline(self) -> FloatArray:
        """(n, 2) polygon in mm, counter-clockwise, not closed."""
        angle = np.linspace(0.0, 2 * np.pi, ELLIPSE_CORNERS, endpoint=False)
        return self.outward(self.width / 2 * np.cos(angle), self.height / 2 * np.sin(angle))

    def half_extent(self) -> tuple[float, float]:
        """Half size in mm of the box along x and y that holds the zone."""
        c, s = _abs_cos_sin(self.rotation)
        return math.hypot(c * self.width, s * self.height) / 2, math.hypot(s * self.width, c * self.height) / 2

    def fills_its_box(self) -> bool:
        """Never: an ellipse leaves the corners of its box free."""
        return False

    def contains(self, x: FloatArray, y: FloatArray) -> BoolArray:
        """Which of the positions in mm are inside."""
        u, v = self.local(x, y)
        return (u / (self.width / 2)) ** 2 + (v / (self.height / 2)) ** 2 <= 1.0


Zone: TypeAlias = Annotated[RectangleZone | EllipseZone, Field(discriminator="shape")]


def window(zone: RectangleZone | EllipseZone, data: HeightMap) -> Window:
    """The grid points of a height map that lie in a zone.

    Raises `OffScan` when not a single grid point does.
    """
    grid, (rows, cols) = data.grid, data.shape
    wx, wy = zone.half_extent()
    first_col, last_col = _covered(zone.x - wx, zone.x + wx, grid.x0, grid.dx)
    first_row, last_row = _covered(zone.y - wy, zone.y + wy, grid.y0, grid.dy)
    c0, c1 = max(first_col, 0), min(last_col + 1, cols)
    r0, r1 = max(first_row, 0), min(last_row + 1, rows)
    if c0 >= c1 or r0 >= r1:
        raise OffScan("the zone lies outside the scan, or between its points")
    inside = None
    if not zone.fills_its_box():
        x = grid.x0 + grid.dx * np.arange(c0, c1)
        y = grid.y0 + grid.dy * np.arange(r0, r1)
        inside = zone.contains(x[None, :], y[:, None])
        if not inside.any():
            raise OffScan("the zone lies outside the scan, or between its points")
    points = (r1 - r0) * (c1 - c0) if inside is None else int(np.count_nonzero(inside))
    covered = min(1.0, points * grid.dx * grid.dy / zone.area)
    if r1 - r0 == last_row - first_row + 1 and c1 - c0 == last_col - first_col + 1:
        covered = 1.0
    return Window(slice(r0, r1), slice(c0, c1), inside, covered)


def _covered(low: float, high: float, start: float, step: float) -> tuple[int, int]:
    """First and last index whose grid point lies in [low, high]; the slack undoes rounding only."""
    slack = 1e-9
    return math.ceil((low - start) / step - slack), math.floor((high - start) / step + slack)


def _abs_cos_sin(degrees: float) -> tuple[float, float]:
    quarter, rest = divmod(degrees, 90.0)
    c, s = math.cos(math.radians(rest)), math.sin(math.radians(rest))
    return (c, s) if quarter % 2 == 0 else (s, c)
