"""Bounding box of the part in a scan."""

from __future__ import annotations

import numpy as np

from hemtra.core.maps.heightmap import HeightMap

PART_SHARE = 0.25
"""Share of the range of heights above which a point belongs to the part and not to what it lies on."""
COARSE, LEAST_POINTS = 5, 3
"""Every how manyth point is looked at, and how many of them make a row of the part."""
SAMPLED, TAIL = 37, 0.5
"""Every how manyth height, and percent at either end left out, for the range of heights."""


def height_span(data: HeightMap) -> tuple[float, float]:
    """The heights in mm between which nearly all of a scan lies; 0 and 1 without data."""
    z = data.z.reshape(-1)[::SAMPLED]
    z = z[~np.isnan(z)]
    low, high = np.percentile(z, [TAIL, 100.0 - TAIL]) if z.size else (0.0, 1.0)
    return float(low), float(high)


def part_box(data: HeightMap) -> tuple[float, float, float, float] | None:
    """x from, x to, y from, y to in mm of the raised region of a scan, spikes apart; None for nothing."""
    low, high = height_span(data)
    on_part = data.z[::COARSE, ::COARSE] > low + PART_SHARE * (high - low)
    rows, cols = (np.flatnonzero(on_part.sum(axis=axis) >= LEAST_POINTS) for axis in (1, 0))
    if rows.size == 0 or cols.size == 0:
        return None
    g = data.grid
    x0, x1 = (g.x0 + g.dx * COARSE * int(c) for c in (cols[0], cols[-1]))
    y0, y1 = (g.y0 + g.dy * COARSE * int(r) for r in (rows[0], rows[-1]))
    return x0, x1, y0, y1
