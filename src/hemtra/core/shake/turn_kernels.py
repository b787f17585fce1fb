"""Compiled loop that turns a height map onto another grid."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import Heights
from hemtra.core.compiled import lean
from hemtra.core.filters.glare import SATURATED

JUMP = 0.25
"""Height difference between neighbouring points that is not interpolated, mm: a wall stays a wall."""


@lean
def turn(
    z: Heights,
    grey: NDArray[np.uint8],
    grid: tuple[float, float, float, float],
    middle: tuple[float, float],
    way: tuple[float, float],
    first: tuple[float, float],
    z_out: Heights,
    grey_out: NDArray[np.uint8],
) -> None:
    """Fills z_out and grey_out (rows, cols), which begin at `first`."""
    x0, y0, dx, dy = grid
    c, s = way
    rows, cols = z.shape
    for i in range(z_out.shape[0]):
        for j in range(z_out.shape[1]):
            x, y = first[0] + j * dx - middle[0], first[1] + i * dy - middle[1]
            u = (middle[0] + c * x + s * y - x0) / dx
            v = (middle[1] - s * x + c * y - y0) / dy
            if not (-0.5 <= u < cols - 0.5 and -0.5 <= v < rows - 0.5):
                continue
            near_i, near_j = min(max(int(v + 0.5), 0), rows - 1), min(max(int(u + 0.5), 0), cols - 1)
            if grey.size > 1:
                grey_out[i, j] = grey[near_i, near_j]
                if grey[near_i, near_j] == SATURATED:
                    # a point that overran the camera is one point; copies of it would bear each other out
                    px, py = x0 + near_j * dx - middle[0], y0 + near_i * dy - middle[1]
                    at_x, at_y = c * px - s * py + middle[0], s * px + c * py + middle[1]
                    if round((at_x - first[0]) / dx) != j or round((at_y - first[1]) / dy) != i:
                        continue
            z_out[i, j] = z[near_i, near_j]
            k, m = min(max(int(v), 0), rows - 2), min(max(int(u), 0), cols - 2)
            p, q, r, t = z[k, m], z[k, m + 1], z[k + 1, m], z[k + 1, m + 1]
            span = max(max(p, q), max(r, t)) - min(min(p, q), min(r, t))
            # a NaN among them fails this
            if p + q + r + t == p + q + r + t and span < JUMP:
                f, h = min(max(u - m, 0.0), 1.0), min(max(v - k, 0.0), 1.0)
                z_out[i, j] = (1 - h) * ((1 - f) * p + f * q) + h * ((1 - f) * r + f * t)
