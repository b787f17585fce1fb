"""From the points of profiles to a height map on a regular grid."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import lean
from hemtra.core.maps.heightmap import HeightMap

JUMP = 0.25
"""Largest gap between neighbouring points that is interpolated, mm: a wall stays a wall."""
FLANK, LEANS = 0.5, 0.5
"""Largest height difference between points of a flank, mm, and their largest distance in spacings."""
SLACK = 1e-9
"""Rows; undoes rounding only."""
JUST_NOT = 0.999
"""Share of the way to the next point, so that its own column stays its own."""
HOLE = 2.0
"""Gap in a surface up to which it does not end there, mm: dust and shiny spots leave such holes."""
FALSE = 2
"""False points side by side that are no surface."""
WIDEST_GAP = 1.9
"""Pitches between neighbouring points beyond which one is missing, and nothing is made up in its place."""

GOLDEN = 0.6180339887498949
"""Step of the sequence whose shares spread most evenly (Weyl): the golden ratio less one."""

ALIKE = -1
"""Place of rows whose surfaces all end at their nearest column."""


@lean
def resample_rows(
    x: FloatArray,
    z: NDArray[np.float32],
    intensity: NDArray[np.uint8],
    first: float,
    spacing: float,
    place: int,
    z_out: NDArray[np.float32],
    intensity_out: NDArray[np.uint8],
) -> None:
    """Bring the points of each row onto columns at first + j spacing, all in mm.

    x, z, intensity: (rows, points), z NaN where there is no data, along the fan: under a wall that leans over,
    x goes back. z_out and intensity_out: (rows, cols), overwritten. Between two neighbouring points the height
    is interpolated linearly; where one is missing, or a step lies between, a column within half a spacing of a
    point takes that. Where two come to lie in one column, the higher is seen.
    place: number of the first row, by which the ends of surfaces are moved, see `_ending`; or `ALIKE`.
    """
    for i in range(x.shape[0]):
        z_out[i] = np.nan
        intensity_out[i] = 0
        xs, zs, greys, to, grey_to = x[i], z[i], intensity[i], z_out[i], intensity_out[i]
        k, before, joined = _next_seen(zs, 0), -1, False
        ending = _ending(place + i) * spacing if place >= 0 else 0.0
        while k >= 0:
            after = _next_seen(zs, k + 1)
            goes_on = after >= 0 and _joined(xs, zs, k, after, spacing)
            if joined or goes_on:
                if not joined:
                    rise = _beyond(xs, zs, k, after)
                    start = xs[k] - _reach(xs, zs, k, before, xs[after] - xs[k], spacing)
                    start += _ends(xs, zs, k, before) * ending
                    _fill(start, xs[k], xs[k], zs[k], rise, greys[k], 0.0, first, spacing, to, grey_to)
                if goes_on:
                    apart = xs[after] - xs[k]
                    rise, change = (zs[after] - zs[k]) / apart, (float(greys[after]) - float(greys[k])) / apart
                    _fill(xs[k], xs[after], xs[k], zs[k], rise, greys[k], change, first, spacing, to, grey_to)
                else:
                    rise = _beyond(xs, zs, before, k)
                    end = xs[k] + _reach(xs, zs, k, after, xs[k] - xs[before], spacing)
                    end += _ends(xs, zs, k, after) * ending
                    _fill(xs[k], end, xs[k], zs[k], rise, greys[k], 0.0, first, spacing, to, grey_to)
            else:
                start = xs[k] - _reach(xs, zs, k, before, 0.0, spacing)
                end = xs[k] + _reach(xs, zs, k, after, 0.0, spacing)
                _fill(start, end, xs[k], zs[k], 0.0, greys[k], 0.0, first, spacing, to, grey_to)
            before, k, joined = k, after, goes_on


@lean
def _level(z: NDArray[np.float32], k: int, way: int) -> bool:
    """Whether a surface continues from a point, one way, by `FALSE` points, or to the end of the profile."""
    last, left, m = z[k], FALSE, k + way
    while 0 <= m < z.size and left > 0:
        if z[m] == z[m]:
            if abs(z[m] - last) >= JUMP:
                return False
            last, left = z[m], left - 1
        m += way
    return True


@lean
def _ends(x: FloatArray, z: NDArray[np.float32], k: int, other: int) -> bool:
    """Whether a surface ends at a point, and is not just broken by a small hole or a single false point.

    other: the next point beyond that was seen, -1 for none.
    """
    if other < 0 or abs(x[other] - x[k]) > HOLE:
        return True
    if abs(z[other] - z[k]) < JUMP:
        return False
    return _level(z, other, 1 if other > k else -1)


@lean
def _ending(row: int) -> float:
    """Columns by which the ends of surfaces are moved in a row, -0.5 to 0.5, evenly spread over any few rows.

    The points of a profile and the columns fall apart by some share of a spacing that stays the same over many
    rows. Always taking the nearer column would move all of an edge along travel by that share. The same is
    true of rows, where columns are moved along travel: then row is the number of the column.
    """
    return (row * GOLDEN + 0.5) % 1.0 - 0.5


@lean
def _next_seen(z: NDArray[np.float32], k: int) -> int:
    """The first point from k on that holds data, -1 without."""
    while k < z.size and z[k] != z[k]:
        k += 1
    return k if k < z.size else -1


@lean
def _joined(x: FloatArray, z: NDArray[np.float32], a: int, b: int, spacing: float) -> bool:
    """Whether one surface continues from one point to the next that was seen.

    A steep flank is no step either: it differs from point to point by more, but by as much each time.
    """
    apart, step = x[b] - x[a], z[b] - z[a]
    if not 0.0 < apart < WIDEST_GAP * spacing:
        return False
    if abs(step) < JUMP:
        return True
    if abs(step) > FLANK or apart < LEANS * spacing or b != a + 1:
        return False
    # what is missing is NaN and no step like this
    before = a > 0 and abs(step - (z[a] - z[a - 1])) < JUMP / 2
    return bool(before or (b + 1 < z.size and abs(step - (z[b + 1] - z[b])) < JUMP / 2))


@lean
def _beyond(x: FloatArray, z: NDArray[np.float32], a: int, b: int) -> float:
    """Slope at which a surface continues beyond two points, mm per mm; 0 for a flank, which may end there."""
    step: float = z[b] - z[a]
    return step / (x[b] - x[a]) if abs(step) < JUMP else 0.0


@lean
def _reach(x: FloatArray, z: NDArray[np.float32], k: int, other: int, apart: float, spacing: float) -> float:
    """mm that a surface continues beyond its last point: half the way to where the next would have been.

    other: the point beyond, -1 for none. Nearer than that and lower it lies on the wall where the surface ends,
    unless another surface begins with it: along the fan the ground beside a step may be seen nearer.
    apart: mm to the point before it on the surface, 0 where it is alone.
    """
    reach: float = (min(apart, spacing) if apart > 0.0 else spacing) / 2.0
    if other < 0:
        return reach
    between: float = (x[other] - x[k]) * (1.0 if other > k else -1.0)
    if between <= 0.0:
        return reach
    lower = z[k] - z[other] >= JUMP and between < min(apart, spacing)
    if lower and not _level(z, other, 1 if other > k else -1):
        return between * JUST_NOT
    return min(reach, between / 2.0)


@lean
def _fill(
    start: float,
    end: float,
    at: float,
    height: float,
    rise: float,
    grey: float,
    change: float,
    first: float,
    spacing: float,
    z_out: NDArray[np.float32],
    intensity_out: NDArray[np.uint8],
) -> None:
    """Fills the columns from start to end in mm with a straight surface through a height at `at`."""
    j = max(math.ceil((start - first) / spacing - SLACK), 0)
    while j < z_out.size and first + j * spacing <= end + SLACK * spacing:
        along = first + j * spacing - at
        z = height + along * rise
        if not z_out[j] >= z:
            z_out[j] = z
            intensity_out[j] = np.uint8(grey + along * change + 0.5)
        j += 1


@lean
def _carries_on(z: NDArray[np.float32], i: int, j: int) -> bool:
    """Whether no step lies between a row and the next, for they differ by little or as their neighbours do."""
    step = z[i + 1, j] - z[i, j]
    if abs(step) < JUMP:
        return True
    before = i > 0 and abs(step - (z[i, j] - z[i - 1, j])) < JUMP
    return bool(before or (i + 2 < z.shape[0] and abs(z[i + 2, j] - z[i + 1, j] - step) < JUMP))


@lean
def shift_columns(
    z: NDArray[np.float32],
    intensity: NDArray[np.uint8],
    by: FloatArray,
    by_height: float,
    even: bool,
    z_out: NDArray[np.float32],
    intensity_out: NDArray[np.uint8],
) -> None:
    """Move each column along its rows by `by` (cols,) rows, and by `by_height` rows more per mm of its height.

    A laser line that stands askew sees the ends of a profile at another place along travel than its middle, and
    one that leans sees high places elsewhere than low ones. z, intensity and their outputs: (rows, cols).
    Between two neighbouring points the height is interpolated linearly, unless a step lies between them; where
    two places come to lie in one, the higher is seen. even: whether ends of surfaces are moved as in `_ending`.
    """
    rows, cols = z.shape
    for j in range(cols):
        for i in range(rows):
            z_out[i, j], intensity_out[i, j] = np.nan, 0
        ending, joined = _ending(j) if even else 0.0, False
        for i in range(rows):
            goes_on = i + 1 < rows and _carries_on(z, i, j)
            if not np.isnan(z[i, j]):
                after = i + 1 if goes_on else i
                at = i + by[j] + by_height * z[i, j]
                end = after + by[j] + by_height * z[after, j]
                # a surface reaches half a row beyond its first and its last point
                first = math.ceil((at if joined else at - 0.5 + ending) - SLACK)
                last = math.floor((end if goes_on else at + 0.5 + ending) + SLACK)
                for k in range(max(first, 0), min(last, rows - 1) + 1):
                    share = min(max(k - at, 0.0) / (end - at), 1.0) if end > at else 0.0
                    height = z[i, j] + share * (z[after, j] - z[i, j])
                    if np.isnan(z_out[k, j]) or height > z_out[k, j]:
                        grey = intensity[i, j] + share * (float(intensity[after, j]) - intensity[i, j])
                        z_out[k, j], intensity_out[k, j] = height, np.uint8(grey + 0.5)
            joined = goes_on


def with_row_pitch(data: HeightMap, dy: float, *, even: bool = True) -> HeightMap:
    """A map with another spacing along y in mm, over the same extent; rows are interpolated, steps kept.

    A steep flank is no step: it differs from row to row by much, but by as much each time.
    even: whether ends of surfaces are moved as in `_ending`.
    """
    grid, rows = data.grid, data.shape[0]
    span = grid.dy * (rows - 1)
    wanted = int(span / dy + 1e-9) + 1
    first = grid.y0 + (span - dy * (wanted - 1)) / 2
    at = (first + dy * np.arange(wanted) - grid.y0) / grid.dy
    low = np.clip(np.floor(at + 1e-9).astype(int), 0, rows - 1)
    share = np.clip(at - low, 0.0, 1.0)
    z = np.empty((wanted, data.shape[1]), np.float32)
    _between_rows(data.z, low, share, even, z)
    nearest = np.where(share <= 0.5, low, np.minimum(low + 1, rows - 1))
    grey = None if data.intensity is None else data.intensity[nearest]
    return HeightMap(z, grey, grid.dx, dy, grid.x0, first)


@lean
def _between_rows(
    z: NDArray[np.float32], low: NDArray[np.int64], share: FloatArray, even: bool, out: NDArray[np.float32]
) -> None:
    """Rows (n, cols) a share of the way from row `low` (n,) to the next; the nearer one's across a step."""
    for k in range(low.size):
        i = low[k]
        for j in range(z.shape[1]):
            ending = _ending(j) if even else 0.0
            if i + 1 < z.shape[0] and _carries_on(z, i, j):
                out[k, j] = z[i, j] + share[k] * (z[i + 1, j] - z[i, j])
            else:
                out[k, j] = z[i, j] if share[k] <= 0.5 + ending or i + 1 == z.shape[0] else z[i + 1, j]
