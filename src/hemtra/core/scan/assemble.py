"""From the points of profiles to a height map on a regular grid."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.core.scan.heightmap import HeightMap

JUMP = 0.25
"""mm between neighbouring points beyond which nothing is interpolated: a wall stays a wall."""
SLACK = 1e-9
"""Rows; undoes rounding only."""
WIDEST_GAP = 1.9
"""Pitches between neighbouring points beyond which one is missing, and nothing is made up in its place."""


@njit(cache=True, nogil=True)
def resample_rows(
    x: FloatArray,
    z: NDArray[np.float32],
    intensity: NDArray[np.uint8],
    first: float,
    pitch: float,
    z_out: NDArray[np.float32],
    intensity_out: NDArray[np.uint8],
) -> None:
    """Bring the points of each row onto columns at first + j pitch, all in mm.

    x, z, intensity: (rows, points), x rising from one point with data to the next, z NaN where there is none;
    z_out and intensity_out: (rows, cols), overwritten. Between two neighbouring points the height is
    interpolated linearly; where one is missing, or a step lies between, a column within half a pitch of a
    point takes that.
    """
    rows, points = x.shape
    cols = z_out.shape[1]
    seen = np.empty(points, np.int64)
    for i in range(rows):
        count = 0
        for k in range(points):
            if not np.isnan(z[i, k]):
                seen[count] = k
                count += 1
        z_out[i] = np.nan
        intensity_out[i] = 0
        m = 0
        for j in range(cols if count > 0 else 0):
            at = first + j * pitch
            while m + 1 < count - 1 and x[i, seen[m + 1]] <= at:
                m += 1
            k, after = seen[m], seen[min(m + 1, count - 1)]
            gap = x[i, after] - x[i, k]
            share = (at - x[i, k]) / gap if gap > 0 else 0.0
            left, right = z[i, k], z[i, after]
            joined = abs(right - left) < JUMP and 0.0 < gap < WIDEST_GAP * pitch
            if 0.0 <= share <= 1.0 and joined:
                z_out[i, j] = left + share * (right - left)
                grey = intensity[i, k] + share * (float(intensity[i, after]) - intensity[i, k])
                intensity_out[i, j] = np.uint8(grey + 0.5)
                continue
            one = m if abs(x[i, k] - at) <= abs(x[i, after] - at) else min(m + 1, count - 1)
            nearest, off = seen[one], at - x[i, seen[one]]
            # the surface goes on past the last point as it came, for half the way to where the next would be
            other = seen[max(one - 1, 0)] if one == m else seen[min(one + 1, count - 1)]
            apart, rise = x[i, nearest] - x[i, other], z[i, nearest] - z[i, other]
            if apart == 0.0 or abs(apart) >= WIDEST_GAP * pitch or abs(rise) >= JUMP:
                apart, rise = pitch, 0.0
            if abs(off) <= 0.5 * min(abs(apart), pitch):
                z_out[i, j] = z[i, nearest] + off * rise / apart
                intensity_out[i, j] = intensity[i, nearest]


@njit(cache=True, nogil=True)
def shift_columns(
    z: NDArray[np.float32],
    intensity: NDArray[np.uint8],
    by: FloatArray,
    by_height: float,
    z_out: NDArray[np.float32],
    intensity_out: NDArray[np.uint8],
) -> None:
    """Move each column along its rows by `by` (cols,) rows, and by `by_height` rows more per mm of its height.

    A laser line that stands askew sees the ends of a profile at another place along travel than its middle, and
    one that leans sees high places elsewhere than low ones. z, intensity and their outputs: (rows, cols).
    Between two neighbouring points the height is interpolated linearly, unless a step lies between them; where
    two places come to lie in one, the higher is seen.
    """
    rows, cols = z.shape
    for j in range(cols):
        for i in range(rows):
            z_out[i, j], intensity_out[i, j] = np.nan, 0
        for i in range(rows):
            if np.isnan(z[i, j]):
                continue
            at = i + by[j] + by_height * z[i, j]
            first, last, after = round(at), round(at), i
            if i + 1 < rows and abs(z[i + 1, j] - z[i, j]) < JUMP:
                after = i + 1
                end = after + by[j] + by_height * z[after, j]
                first, last = math.ceil(at - SLACK), math.floor(end + SLACK)
            for k in range(max(first, 0), min(last, rows - 1) + 1):
                share = min(max(k - at, 0.0) / (end - at), 1.0) if after > i else 0.0
                height = z[i, j] + share * (z[after, j] - z[i, j])
                if np.isnan(z_out[k, j]) or height > z_out[k, j]:
                    grey = intensity[i, j] + share * (float(intensity[after, j]) - intensity[i, j])
                    z_out[k, j], intensity_out[k, j] = height, np.uint8(grey + 0.5)


def with_row_pitch(data: HeightMap, dy: float) -> HeightMap:
    """A map with another pitch along y in mm, over the same extent; rows are interpolated, steps kept."""
    grid, rows = data.grid, data.shape[0]
    span = grid.dy * (rows - 1)
    wanted = int(span / dy + 1e-9) + 1
    first = grid.y0 + (span - dy * (wanted - 1)) / 2
    at = (first + dy * np.arange(wanted) - grid.y0) / grid.dy
    low = np.clip(np.floor(at + 1e-9).astype(int), 0, rows - 1)
    high = np.minimum(low + 1, rows - 1)
    share = np.clip(at - low, 0.0, 1.0)[:, None]
    z = np.where(
        np.abs(data.z[high] - data.z[low]) < JUMP, data.z[low] + share * (data.z[high] - data.z[low]), np.nan
    )
    nearest = np.where(share <= 0.5, low[:, None], high[:, None])[:, 0]
    z = np.where(np.isnan(z), data.z[nearest], z)
    grey = None if data.intensity is None else data.intensity[nearest]
    return HeightMap(z, grey, grid.dx, dy, grid.x0, first)
