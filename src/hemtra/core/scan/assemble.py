"""From the points of profiles to a height map on a regular grid."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray

JUMP = 0.25
"""mm between neighbouring points beyond which nothing is interpolated: a wall stays a wall."""


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

    x, z, intensity: (rows, points), x rising along a row, z NaN where there is no data; z_out and
    intensity_out: (rows, cols), overwritten. Between two neighbouring points the height is interpolated
    linearly; where a point is missing, or a step lies between, a column takes a point within half a pitch.
    """
    rows, points = x.shape
    cols = z_out.shape[1]
    for i in range(rows):
        k = 0
        for j in range(cols):
            z_out[i, j] = np.nan
            intensity_out[i, j] = 0
            at = first + j * pitch
            while k + 1 < points - 1 and x[i, k + 1] <= at:
                k += 1
            gap = x[i, k + 1] - x[i, k]
            share = (at - x[i, k]) / gap if gap > 0 else 0.0
            left, right = z[i, k], z[i, k + 1]
            joined = abs(right - left) < JUMP and gap < 2.5 * pitch
            if 0.0 <= share <= 1.0 and joined:
                z_out[i, j] = left + share * (right - left)
                grey = intensity[i, k] + share * (float(intensity[i, k + 1]) - intensity[i, k])
                intensity_out[i, j] = np.uint8(grey + 0.5)
                continue
            nearest = k if abs(x[i, k] - at) <= abs(x[i, k + 1] - at) else k + 1
            if abs(x[i, nearest] - at) <= 0.5 * pitch and not np.isnan(z[i, nearest]):
                z_out[i, j] = z[i, nearest]
                intensity_out[i, j] = intensity[i, nearest]
