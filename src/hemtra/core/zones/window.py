"""The part of a height map that a zone covers."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, Heights
from hemtra.core.errors import OffScan
from hemtra.core.geometry.elements import LEVEL, Plane
from hemtra.core.maps.heightmap import Grid, HeightMap
from hemtra.core.zones.kernels import between, points_and_missing
from hemtra.core.zones.zone import EDGE_SLACK, AnyZone, RingZone


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

    def heights(self, data: HeightMap, base: Plane = LEVEL) -> FloatArray:
        """(n,) float64 heights in mm above a plane inside the zone, without missing ones."""
        z = self.above(base, data)
        z = z.ravel() if self.inside is None else z[self.inside]
        return z[~np.isnan(z)].astype(np.float64)

    def above(self, base: Plane, data: HeightMap) -> Heights:
        """(rows, cols) heights in mm straight above a plane, also outside of the zone."""
        z = data.z[self.rows, self.cols]
        if base is LEVEL:
            return z
        grid = self.grid(data)
        x, y = grid.x0 + grid.dx * np.arange(z.shape[1]), grid.y0 + grid.dy * np.arange(z.shape[0])
        ground = base.height_at(x, np.array(base.y0))[None, :] + (base.slope_y * (y - base.y0))[:, None]
        height: Heights = z - ground.astype(np.float32)
        return height

    def data_share(self, data: HeightMap) -> float:
        """Share of the zone that holds data, 0 to 1; what lies outside the scan holds none."""
        if self.inside is None:
            seen = data.z[self.rows, self.cols]
            points, missing = seen.size, int(np.count_nonzero(np.isnan(seen)))
        else:
            points, missing = points_and_missing(data.z, (self.rows.start, self.cols.start), self.inside)
        return self.covered * (1.0 - missing / points) if points else 0.0

    def grid(self, data: HeightMap) -> Grid:
        """The grid of the window's own first row and column."""
        return data.grid.shifted(self.rows.start, self.cols.start)


def window(zone: AnyZone, data: HeightMap) -> Window:
    """The grid points of a height map that lie in a zone.

    Points outside its height band are not in it. Raises `OffScan` when no grid point lies in its outline.
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
    x = grid.x0 + grid.dx * np.arange(c0, c1)[None, :]
    y = grid.y0 + grid.dy * np.arange(r0, r1)[:, None]
    if not zone.fills_its_box():
        inside = _inside(zone, x, y)
        if not inside.any():
            raise OffScan("the zone lies outside the scan, or between its points")
    covered = 1.0
    if r1 - r0 != last_row - first_row + 1 or c1 - c0 != last_col - first_col + 1:
        points = (r1 - r0) * (c1 - c0) if inside is None else int(np.count_nonzero(inside))
        covered = min(1.0, points * grid.dx * grid.dy / zone.area)
    if zone.band is not None:
        held = zone.band.holds(x, y, data.z[r0:r1, c0:c1])
        inside = held if inside is None else inside & held
    return Window(slice(r0, r1), slice(c0, c1), inside, covered)


def _inside(zone: AnyZone, x: FloatArray, y: FloatArray) -> BoolArray:
    """Mask of the points of a row of x (1, cols) and a column of y (rows, 1) inside a zone."""
    if zone.add or zone.cut:
        return _inside_pieces(zone, x, y)
    if isinstance(zone, RingZone):
        return _filled(*zone.roots(y[:, 0]), x) & ~_filled(*zone.roots(y[:, 0], zone.inner), x)
    spans = zone.spans(y[:, 0])
    return zone.contains(x, y) if spans is None else _filled(*spans, x)


def _filled(first: FloatArray, last: FloatArray, x: FloatArray) -> BoolArray:
    """Mask of the points of a row of x (1, cols) between the first and last x (rows,) of each line."""
    start, end = float(x[0, 0]), float(x[0, -1])
    return between(first, last, start, (end - start) / max(x.size - 1, 1) or 1.0, x.size)


def _inside_pieces(zone: AnyZone, x: FloatArray, y: FloatArray) -> BoolArray:
    """The same for a zone with pieces, each of which is looked at only where it lies."""
    mask = _inside(zone.model_copy(update={"add": (), "cut": ()}), x, y)
    for piece, belongs in (*((p, True) for p in zone.add), *((p, False) for p in zone.cut)):
        px, py = zone.outward(np.array([piece.x]), np.array([piece.y]))[0]
        turn = piece.rotation + zone.rotation
        placed = piece.model_copy(update={"x": float(px), "y": float(py), "rotation": turn})
        wx, wy = placed.half_extent()
        cols = slice(*np.searchsorted(x[0], [px - wx - EDGE_SLACK, px + wx + EDGE_SLACK]))
        rows = slice(*np.searchsorted(y[:, 0], [py - wy - EDGE_SLACK, py + wy + EDGE_SLACK]))
        if cols.start == cols.stop or rows.start == rows.stop:
            continue
        inside = _inside(placed, x[:, cols], y[rows])
        mask[rows, cols] = (mask[rows, cols] | inside) if belongs else (mask[rows, cols] & ~inside)
    return mask


def _covered(low: float, high: float, start: float, step: float) -> tuple[int, int]:
    """First and last index whose grid point lies in [low, high]; the slack undoes rounding only."""
    slack = 1e-9
    return math.ceil((low - start) / step - slack), math.floor((high - start) / step + slack)
