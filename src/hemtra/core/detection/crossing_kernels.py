"""Compiled loop that finds where a soft edge crosses a level between the points of a map."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.compiled import compiled, lean

STEPS, SETTLED = 8, 1e-4
"""Steps of the secant method at most, and samples within which it has settled."""
FARTHEST = 0.5
"""Samples by which linear interpolation may have been off; more is another crossing."""


@compiled
def cross_smoothly(
    values: Heights,
    grid: tuple[float, float, float, float],
    lines: FloatArray,
    found: FloatArray,
    spacing: float,
) -> FloatArray:
    """(n,) mm along lines where the surface lies half way between two values.

    Linear interpolation puts a soft edge up to a hundredth of a spacing off, and a curved one always to
    the same side; the polynomials through 6 x 6 points (Lagrange) follow both.

    values: the map, NaN without data; grid: x0, y0, dx, dy; lines: (n, 4) x, y and unit direction; found:
    (n, 4) the crossings as `edges_along` gives them from samples `spacing` mm apart. Where one of the points
    about is missing, or no crossing is near, the place stays.
    """
    x0, y0, dx, dy = grid
    places = found[:, 0].copy()
    for p in range(places.size):
        if np.isnan(places[p]) or found[p, 3] != 0.0:
            continue
        u, v = (lines[p, 0] - x0) / dx, (lines[p, 1] - y0) / dy
        du, dv = lines[p, 2] / dx, lines[p, 3] / dy
        level, at = (found[p, 1] + found[p, 2]) / 2, places[p]
        before = at - FARTHEST * spacing
        last = _between(values, u + before * du, v + before * dv)
        here = _between(values, u + at * du, v + at * dv)
        for _ in range(STEPS):
            # a NaN of either stays one, and ends it
            following = at - (here - level) * (at - before) / (here - last) if here != last else np.nan
            before, last, at = at, here, following
            if not abs(at - places[p]) <= FARTHEST * spacing:
                break
            here = _between(values, u + at * du, v + at * dv)
            if abs(at - before) <= SETTLED * spacing:
                places[p] = at
                break
    return places


@lean
def _between(values: Heights, u: float, v: float) -> float:
    """The map between its points, by the polynomials through 6 x 6 of them; NaN where one is missing."""
    rows, cols = values.shape
    if not (2.0 <= u < cols - 3 and 2.0 <= v < rows - 3):
        return np.nan
    j, i = int(u), int(v)
    total = 0.0
    for q in range(6):
        row = 0.0
        for k in range(6):
            row += _weight(u - j, k) * values[i + q - 2, j + k - 2]
        total += _weight(v - i, q) * row
    return total


@lean
def _weight(f: float, q: int) -> float:
    """Weight of the q-th of six points a unit apart, f past the third one (Lagrange)."""
    x = f + 2.0
    product = 1.0
    for k in range(6):
        if k != q:
            product *= (x - k) / (q - k)
    return product
