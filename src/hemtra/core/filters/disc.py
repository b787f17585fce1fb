"""Means over discs, for extremes that a single stray point must not decide."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import FloatArray

LEAST_FILL = 0.5
"""Share of a disc that must hold data for its mean to count."""


def disc_means(z: FloatArray, radius_cols: float, radius_rows: float) -> FloatArray:
    """Mean of the heights within an ellipse around each point; the points outside the array count as missing.

    z: (rows, cols) float64 with NaN where there is no data; radii in grid points. NaN where less than half of
    the ellipse holds data. Row-wise running sums: the cost grows with the height of the disc only.
    """
    rows, cols = z.shape
    found = ~np.isnan(z)
    offset = float(z[found].mean()) if found.any() else 0.0
    sums = _running(np.where(found, z - offset, 0.0))
    counts = _running(found.astype(np.float64))
    total, count, full = np.zeros(z.shape), np.zeros(z.shape), 0
    column = np.arange(cols)
    reach = int(radius_rows)
    for dv in range(-reach, reach + 1):
        half = int(radius_cols * np.sqrt(max(0.0, 1.0 - (dv / radius_rows) ** 2))) if radius_rows > 0 else 0
        full += 2 * half + 1
        left, right = np.maximum(column - half, 0), np.minimum(column + half + 1, cols)
        target = slice(max(0, -dv), min(rows, rows - dv))
        source = slice(max(0, dv), min(rows, rows + dv))
        total[target] += sums[source][:, right] - sums[source][:, left]
        count[target] += counts[source][:, right] - counts[source][:, left]
    enough = count >= max(1.0, LEAST_FILL * full)
    means: FloatArray = np.divide(total, count, out=np.full(z.shape, np.nan), where=enough) + offset
    return means


def _running(values: FloatArray) -> FloatArray:
    """(rows, cols + 1) sums of everything to the left."""
    return np.concatenate([np.zeros((values.shape[0], 1)), np.cumsum(values, axis=1)], axis=1)
