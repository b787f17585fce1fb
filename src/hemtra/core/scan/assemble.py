"""From the points of profiles to a height map on a regular grid."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray

JUMP = 0.25
"""mm between neighbouring points beyond which nothing is interpolated: a wall stays a wall."""
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
    interpolated linearly; where one is missing, or a step lies between, a column takes a point within half a
    pitch.
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
            nearest = k if abs(x[i, k] - at) <= abs(x[i, after] - at) else after
            if abs(x[i, nearest] - at) <= 0.5 * pitch:
                z_out[i, j] = z[i, nearest]
                intensity_out[i, j] = intensity[i, nearest]
