"""The main level of heights, some of which lie on others."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import FloatArray

NORMAL_SHORTH = 1.349
"""Width of the shortest half of a normal distribution in standard deviations."""
OUTLIER_REACH = 4.0
"""Standard deviations beyond which a height is an outlier: one good point in 16 000."""
OUTLIER_FLOOR = 0.002
"""Residual that is never an outlier, mm, so that exact data does not trim its own rounding."""


def main_level(heights: FloatArray) -> tuple[float, float]:
    """The heights between which the main level of sorted heights (n,) in mm lies.

    Centre and spread come from the shortest interval that holds half of the heights (the shorth; Rousseeuw &
    Leroy 1987), which up to half of the data on other levels does not disturb.
    """
    half = heights.size // 2
    if half < 2:
        return float(heights[0]), float(heights[-1])
    widths = heights[half:] - heights[: heights.size - half]
    first = int(np.argmin(widths))
    centre = float(heights[first : first + half + 1].mean())
    sigma = float(widths[first]) / NORMAL_SHORTH
    reach = max(OUTLIER_REACH * sigma, OUTLIER_FLOOR)
    # twice more with the mean and spread of what was kept, which the half interval knows only roughly
    for _ in range(2):
        ends = np.searchsorted(heights, [centre - reach, centre + reach])
        kept = heights[ends[0] : ends[1]]
        centre, reach = float(kept.mean()), max(OUTLIER_REACH * float(kept.std()), OUTLIER_FLOOR)
    ends = np.searchsorted(heights, [centre - reach, centre + reach])
    return float(heights[ends[0]]), float(heights[ends[1] - 1])
