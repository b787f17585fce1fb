"""Compiled: where the flanks of a bead end, and what interpolation takes from its area there."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.bead_base_kernels import parabola

FOOT, AT_LEVEL, AT_SHARE = range(3)
"""Edge definition: flanks meeting the base, a level above it, or a share of the height."""

FLANK_LOW, FLANK_HIGH, FLANK_MOST = 0.14, 0.62, 0.85
"""Shares of the height between which a flank gives its toe; up to the last where half of it is hidden."""
NOTHING = 0.05
"""Share of the height below which a sample lies on the base."""
RISES = 0.15
"""Share of the height by which a flank that rises again while descending runs up a wall."""


@compiled
def flank_end(
    u: FloatArray, h: FloatArray, run: tuple[int, int], height: float, way: int, rule: tuple[int, float, float]
) -> tuple[float, float]:
    """End of the flank on one side, in u, and du/dh there; NaN without data.

    run: first and last sample that rise. way: -1 for the left flank, 1 for the right. rule: which edge, its
    level in mm for `AT_LEVEL` or share for `AT_SHARE`, and mm of shadow that is bridged.
    """
    edges, at, bridge = rule
    low = FLANK_LOW * height
    if edges == AT_LEVEL:
        low = at
    elif edges == AT_SHARE:
        low = at * height
    # from its outermost high place on, so that a hole on top is none of the flank
    top, crest = -np.inf, run[0]
    for j in range(run[0], run[1] + 1):
        if h[j] > top:
            top, crest = h[j], j
    k = run[0] if way < 0 else run[1]
    while run[0] < k - way < run[1] and not h[k] >= FLANK_MOST * min(height, top):
        k -= way
    x, y = np.empty(u.size), np.empty(u.size)
    n, least, before, hidden = 0, np.inf, -1, False
    while 0 <= k < u.size:
        if not math.isnan(h[k]):
            hidden |= before >= 0 and abs(k - before) > 1
            if h[k] > least + RISES * height:
                return np.nan, np.nan
            least = min(least, h[k])
            if h[k] < low and before >= 0:
                break
            if h[k] <= FLANK_MOST * height:
                x[n], y[n] = u[k], h[k]
                n += 1
            before = k
        k += way
    if k < 0 or k >= u.size or before < 0:
        return np.nan, np.nan
    if abs(k - before) > 1 and abs(u[k] - u[before]) > bridge:
        return np.nan, np.nan
    step = h[before] - h[k]
    crossing = u[before] + (h[before] - low) / step * (u[k] - u[before])
    slope = (u[k] - u[before]) / -step
    if edges != FOOT:
        return crossing, slope
    start = 0
    if hidden:
        # too little of the flank is left for its bend: that of all from the crest down is better known
        n = 0
        for j in range(crest, before + way, way):
            if not math.isnan(h[j]):
                x[n], y[n] = u[j], h[j]
                n += 1
    else:
        start = n
        while start > 0 and y[start - 1] <= FLANK_HIGH * height:
            start -= 1
        if n - start < 4:
            start = max(0, n - 4)
    if n - start >= 4:
        foot, steep = _root(x[start:n], y[start:n], way)
        if not math.isnan(foot):
            # the toe lies behind the last of the flank that is seen, and before the first of the base
            on_base = h[k] < NOTHING * height
            near = u[before] if on_base else u[k]
            far = (u[k] if on_base else u[k] - h[k] * slope) + way * abs(u[1] - u[0]) / 2.0
            return way * min(max(way * foot, way * near), way * far), 1.0 / steep
    return u[before] + h[before] / step * (u[k] - u[before]), slope


@compiled
def _root(x: FloatArray, y: FloatArray, way: int) -> tuple[float, float]:
    """Point where the parabola through a flank reaches 0, and its slope there; NaN where it does not."""
    a, b, c = parabola(x, y, np.ones(x.size))
    if math.isnan(a):
        return np.nan, np.nan
    square = b * b - 4.0 * a * c
    if square <= 0.0:
        return np.nan, np.nan
    # of its two roots the one where it falls outward, in the form that loses no digits
    steep = -way * math.sqrt(square)
    if b * steep > 0.0:
        return -2.0 * a / (b + steep), steep
    return (steep - b) / (2.0 * c) if c != 0.0 else np.nan, steep


@lean
def smeared_area(per_height: float, height: float, spacing: float, edges: int) -> float:
    """Area that interpolation takes from beyond an edge to before it, mm²; per_height: du/dh of the flank.

    Straight lines between the points of the map, and again between samples as far apart, smear a surface with a
    variance of spacing² / 3 and keep its whole area: half of that variance times the slope crosses a place on
    the flank, and a quarter its toe. A flank of less than two spacings shows no slope of its own.
    """
    if per_height == 0.0:
        return 0.0
    flow = spacing * spacing / (6.0 * abs(per_height))
    if edges != FOOT:
        return flow
    return flow / 2.0 * max(1.0 - (2.0 * spacing / (height * per_height)) ** 2, 0.0)
