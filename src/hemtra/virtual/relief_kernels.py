"""Surfaces made of frustums, as a compiled function of x and y: targets, gauges, frames."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hemtra.core.compiled import lean

MOST_PIECES = 64
RELIEF = np.dtype(
    [
        # x, y, half size along x and y of the top (radius where round), its height, run of the flanks per
        # height, 1 where round, reflectance
        ("pieces", np.float64, (MOST_PIECES, 8)),
        ("count", np.int64),  # of the pieces that there are
        ("base", np.float64),  # below this there is nothing
        ("bump", np.float64, (4,)),  # x, y, radius and height of a dent or bump; height 0 for none
    ]
)
"""Frustums, of which the highest counts."""


@lean
def relief_surface(x: float, y: float, s: Any) -> tuple[float, float, int]:
    """Height in mm, reflectance, and element at x, y; (-inf, 0, 0) beside the pieces."""
    highest, reflectance = -np.inf, 0.0
    for k in range(s.count):
        px, py, half_x, half_y, top, flank, is_round, light = s.pieces[k]
        if is_round > 0.0:
            outside = math.hypot(x - px, y - py) - half_x
        else:
            outside = max(abs(x - px) - half_x, abs(y - py) - half_y)
        z = top
        if outside > 0.0:
            if flank == 0.0:
                continue
            z -= outside / flank
        if z > highest:
            highest, reflectance = z, light
    if highest <= s.base:
        return -np.inf, 0.0, 0
    if s.bump[3] != 0.0:
        r = math.hypot(x - s.bump[0], y - s.bump[1]) / s.bump[2]
        if r < 1.0:
            highest += s.bump[3] * (1.0 - r * r)
    return highest, reflectance, 1
