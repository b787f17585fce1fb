"""Sections: cuts through a height map, averaged over a width."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError
from hemtra.core.maps.heightmap import HeightMap, Profile
from hemtra.core.maps.path_sampling import sections_across, shown_shares

LONGEST = 20_000
"""Samples of a section at most; a longer line is sampled more coarsely."""
SLACK = 1e-6
"""Samples; undoes rounding only."""
WIDEST = 200
"""Largest number of lines averaged across the width."""


def section(
    data: HeightMap,
    start: tuple[float, float],
    end: tuple[float, float],
    width: float = 0.0,
    *,
    median: bool = False,
    fine: int = 1,
) -> Profile:
    """The cut from `start` to `end` (x, y in mm), averaged over `width` mm across it.

    Sampled at the finer spacing of the map, or `fine` times as often, with bilinear interpolation. A sample
    needs all four grid points around it; the mean or median over the width takes the samples that exist. The
    profile's x is the distance from `start` in mm. Raises `HemtraError` when start and end coincide.
    """
    length = math.dist(start, end)
    if length == 0.0:
        raise HemtraError("A section needs two different ends.")
    spacing = min(data.grid.dx, data.grid.dy)
    along = np.linspace(0.0, length, int(np.clip(round(fine * length / spacing) + 1, 2, LONGEST)))
    across = _across(data, width)
    ux, uy = (end[0] - start[0]) / length, (end[1] - start[1]) / length
    if min(data.shape) < 2:
        # a single row has nothing between its points to interpolate across
        z = sample(
            data,
            start[0] + along * ux - across[:, None] * uy,
            start[1] + along * uy + across[:, None] * ux,
        )
        return Profile(along, _medians(z))
    grid = np.array([data.grid.x0, data.grid.y0, data.grid.dx, data.grid.dy])
    middle, travel = np.array([(start[0] + end[0]) / 2, (start[1] + end[1]) / 2]), np.array([-uy, ux])
    if not median:
        return Profile(
            along, sections_across(data.z, grid, middle[None], travel[None], length / 2, along.size, across)[0]
        )
    middles = middle + across[:, None] * travel
    ways = np.broadcast_to(travel, middles.shape).copy()
    z = sections_across(data.z, grid, middles, ways, length / 2, along.size, np.zeros(1))
    return Profile(along, _medians(z))


def _across(data: HeightMap, width: float) -> FloatArray:
    """Offsets of the lines averaged for a section, to its left, mm."""
    count = int(np.clip(round(width / min(data.grid.dx, data.grid.dy)) + 1, 1, WIDEST))
    return np.linspace(-width / 2, width / 2, count) if count > 1 else np.zeros(1)


def shown_across(
    data: HeightMap, start: tuple[float, float], end: tuple[float, float], width: float, count: int
) -> FloatArray:
    """(count,) share of the lines of a `section` that show a level at so many places from start to end.

    A point of the map stands for what lies nearer to it than to others.
    """
    g, length = data.grid, math.dist(start, end)
    ux, uy = (end[0] - start[0]) / length, (end[1] - start[1]) / length
    step = length / (count - 1)
    point = max(1, math.ceil(math.hypot(g.dx * ux, g.dy * uy) / step - SLACK))
    lines = (start[0] - g.x0) / g.dx, (start[1] - g.y0) / g.dy, step * ux / g.dx, step * uy / g.dy
    aside = _across(data, width)
    shifts = np.column_stack([-uy * aside / g.dx, ux * aside / g.dy])
    return shown_shares(data.z, lines, shifts, count, point, step)


def _medians(z: FloatArray) -> FloatArray:
    """(m,) medians of the columns of z (n, m), without what is missing; NaN where all of it is."""
    ordered = np.sort(z, axis=0)  # which puts NaN last
    count = np.count_nonzero(~np.isnan(z), axis=0)
    columns = np.arange(z.shape[1])
    low, high = np.maximum(count - 1, 0) // 2, np.minimum(count // 2, z.shape[0] - 1)
    medians: FloatArray = (ordered[low, columns] + ordered[high, columns]) / 2
    return np.where(count > 0, medians, np.nan)


def sample(data: HeightMap, x: FloatArray, y: FloatArray) -> FloatArray:
    """Bilinear heights in mm at x, y (same shape); NaN where one of the four grid points is missing."""
    (rows, cols), g = data.shape, data.grid
    slack = 1e-9  # undoes rounding, so that the last grid line itself still counts as inside
    u, v = (x - g.x0) / g.dx, (y - g.y0) / g.dy
    outside = (u < -slack) | (v < -slack) | (u > cols - 1 + slack) | (v > rows - 1 + slack)
    j = np.clip(np.floor(u).astype(np.intp), 0, max(cols - 2, 0))
    i = np.clip(np.floor(v).astype(np.intp), 0, max(rows - 2, 0))
    fu, fv = np.clip(u - j, 0.0, 1.0), np.clip(v - i, 0.0, 1.0)
    j1, i1 = np.minimum(j + 1, cols - 1), np.minimum(i + 1, rows - 1)
    total = np.zeros(np.broadcast(u, v).shape)
    for row, col, weight in (
        (i, j, (1 - fu) * (1 - fv)),
        (i, j1, fu * (1 - fv)),
        (i1, j, (1 - fu) * fv),
        (i1, j1, fu * fv),
    ):
        # a grid point of no weight must not spoil the sample with its NaN
        total += np.where(weight > 0, weight * data.z[row, col], 0.0)
    total[outside] = np.nan
    return total
