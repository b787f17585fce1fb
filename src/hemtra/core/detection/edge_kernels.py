"""Compiled loops that find edges along lines through a map: (rows, cols) float32, NaN without data."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.compiled import compiled, lean

BEYOND = 3
"""Samples on either side of an edge from which its two levels are taken."""
SHADOWED = 3
"""Missing samples in a row that are a shadow and no dropout."""
TOP, HALF, FOOT = range(3)
"""Position of an edge on its wall: end of the upper level, mid-height, or start of the lower level."""
ENDS = 0.1
"""Distance from its level at which a level has ended, mm, or a quarter of the step where that is less."""
FALLS = 0.025
"""Drop between samples from which on the surface still goes down a wall, mm."""
STEEP = 0.25
"""Drop between samples that is a wall, mm: the depth at which it was met says nothing about its place."""
NEAREST, FIRST, LAST, STRONGEST = range(4)
"""Choice among several edges on a line: nearest to its middle, first or last along it, or the largest."""


@compiled
def edges_along(
    values: Heights,
    grid: tuple[float, float, float, float],
    points: FloatArray,
    bounds: FloatArray,
    reach: float,
    look: float,
    spacing: float,
    pick: int,
    wall: int,
    blind: bool,
) -> FloatArray:
    """Find falling edges along lines through a map, to fractions of a sample.

    values: the map; grid: x0, y0, dx, dy. points: (n, 4) x, y of a line's middle and its unit direction, along
    which the surface falls. bounds: (n, 2) differences across between which an edge counts. reach: mm either
    way from the middle. pick: which of several counts, see `NEAREST`. Samples lie `spacing` mm apart and reach
    `look` mm on the low side, to find the lower surface in a shadow; an edge into a shadow lies half a sample
    behind the last one seen. wall: where on a wall the edge is, see `TOP`; a toe in the shadow is no edge.
    blind: the surface also ends where nothing is seen beyond, as in a hole too deep to look into; the value
    below is then only as low as counts.
    Returns (n, 4): offset in mm, the values above and below, and how the edge parts samples on the level from
    others: 1 where nothing lies between both, 2 where something is not seen, 3 where nothing is;
    0 where a wall is. NaN without.
    """
    x0, y0, dx, dy = grid
    n = points.shape[0]
    found = np.full((n, 4), np.nan)
    half = math.ceil(reach / spacing) + BEYOND
    most = 2 * half + 1 + math.ceil(look / spacing)
    line = np.empty(most)
    for p in range(n):
        du, dv = spacing * points[p, 2] / dx, spacing * points[p, 3] / dy
        u, v = (points[p, 0] - x0) / dx - half * du, (points[p, 1] - y0) / dy - half * dv
        count, beyond = 0, 0
        while count < most:
            line[count] = _sample(values, u + count * du, v + count * dv, wall != HALF)
            if count >= 2 * half and line[count] == line[count]:
                beyond += 1
                if beyond > (BEYOND if line[2 * half] != line[2 * half] else 0):
                    count += 1
                    break
            count += 1
        best = -math.inf
        k = 0
        while k < 2 * half:
            if line[k] != line[k] or line[k] <= line[k + 1]:
                k += 1  # nothing falls there, which is so of every other sample of a level
                continue
            after = k + 1
            while after < count and line[after] != line[after]:
                after += 1
            ends = after == count
            if ends and not blind:
                break
            upper = _upper(line, k)
            lower = np.nan if ends else _lower(line, after, count)
            wide = after - k > SHADOWED and (ends or abs(upper - lower) < bounds[p, 0])
            unseen = blind and wide
            if unseen and _inside(values, u + (k + SHADOWED + 1) * du, v + (k + SHADOWED + 1) * dv):
                lower = upper - bounds[p, 0]
            elif ends:
                break
            level = _level(upper, lower, wall)
            hidden_foot = wall == FOOT and after > k + 1
            steps = unseen or (level > line[after] and bounds[p, 0] <= upper - lower <= bounds[p, 1])
            if steps and line[k] >= level and not hidden_foot:
                offset = k + 0.5 if ends or unseen else _offset(line, k, after, level, wall)
                t = (offset - half) * spacing
                merit = -abs(t)
                if pick == FIRST:
                    merit = -t
                elif pick == LAST:
                    merit = t
                elif pick == STRONGEST:
                    merit = upper - lower
                if abs(t) <= reach and merit > best:
                    best = merit
                    found[p, 0], found[p, 1], found[p, 2] = t, upper, lower
                    found[p, 3] = _parts(line, k, after, count, upper, lower)
                    if found[p, 3] > 0.0 and after > k + 1:
                        found[p, 3] = 2.0
                    if unseen:
                        found[p, 3] = 3.0
            k = after
    return found


@lean
def _inside(values: Heights, u: float, v: float) -> bool:
    return bool(0.0 <= u <= values.shape[1] - 1 and 0.0 <= v <= values.shape[0] - 1)


@lean
def _level(upper: float, lower: float, wall: int) -> float:
    """The height at which an edge between two levels is crossed."""
    ends = min(ENDS, (upper - lower) / 4)
    if wall == TOP:
        return upper - ends
    return lower + ends if wall == FOOT else (upper + lower) / 2


@lean
def _offset(line: FloatArray, k: int, after: int, level: float, wall: int) -> float:
    """Crossing of a level between two samples with data, counted in samples."""
    drop: float = line[k] - line[after]
    shadow = after > k + 1
    if wall != HALF and (shadow or drop > STEEP):
        return k + 0.5
    if not shadow:
        crossing: float = k + (line[k] - level) / drop
        return crossing
    return k + 0.5 if after - k > SHADOWED or drop > STEEP else (k + after) / 2


@lean
def _parts(line: FloatArray, k: int, after: int, count: int, upper: float, lower: float) -> bool:
    """Whether the surface goes from one level to the other within two samples, or in a shadow."""
    ends = min(ENDS, (upper - lower) / 4)
    if upper - lower < STEEP:
        return False
    if after > k + 1:
        return True
    above, below = line[max(k - 1, 0)], line[min(after + 1, count - 1)]
    # the two may lie on either side of the one that interpolation makes of them
    near = line[k] >= upper - ends or not above < upper - ends
    return bool(near and (line[after] <= lower + ends or not below > lower + ends))


@lean
def _upper(line: FloatArray, k: int) -> float:
    """The highest of the samples just before an edge, up all of a wall that it lies on."""
    upper: float = line[k]
    m, left = k - 1, BEYOND
    while m >= 0 and left > 0:
        left -= 1
        if line[m] > upper:
            if line[m] - upper > FALLS:
                left = BEYOND
            upper = line[m]
        m -= 1
    return upper


@lean
def _lower(line: FloatArray, k: int, count: int) -> float:
    """The lowest of the first `count` samples just behind an edge, down all of a wall that it lies on."""
    lower: float = line[k]
    m, left = k + 1, BEYOND
    while m < count and left > 0:
        left -= 1
        if line[m] < lower:
            if lower - line[m] > FALLS:
                left = BEYOND
            lower = line[m]
        m += 1
    return lower


@lean
def _sample(values: Heights, u: float, v: float, kept: bool) -> float:
    """The map between its points; beside missing ones its nearest point, so that data ends where it ends.

    kept: also across a wall, so that a level ends there and does not fade.
    """
    rows, cols = values.shape
    if u < 0.0 or v < 0.0 or u > cols - 1 or v > rows - 1:
        return np.nan
    j, i = min(int(u), cols - 2), min(int(v), rows - 2)
    fu, fv = u - j, v - i
    a, b = values[i, j], values[i, j + 1]
    c, d = values[i + 1, j], values[i + 1, j + 1]
    mean: float = (1 - fv) * ((1 - fu) * a + fu * b) + fv * ((1 - fu) * c + fu * d)
    if mean == mean and not (kept and max(max(a, b), max(c, d)) - min(min(a, b), min(c, d)) > STEEP):
        return mean
    nearest: float = values[i + (fv >= 0.5), j + (fu >= 0.5)]
    return nearest
