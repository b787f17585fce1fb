"""Compiled loops that find edges along lines through a map: (rows, cols) float32, NaN without data."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from hemtra.core.arrays import FloatArray, Heights

BEYOND = 3
"""Samples on either side of an edge from which its two levels are taken."""
SHADOWED = 3
"""Missing samples in a row that are a shadow and no dropout."""
NEAREST, FIRST, LAST, STRONGEST = range(4)
"""Which of several edges on a line counts: nearest to its middle, first or last along it, or the largest."""


@njit(cache=True, nogil=True)
def edges_along(
    values: Heights,
    grid: tuple[float, float, float, float],
    points: FloatArray,
    bounds: FloatArray,
    reach: float,
    look: float,
    pitch: float,
    pick: int,
) -> FloatArray:
    """Where the surface falls along lines through a map, to fractions of a sample.

    values: the map; grid: x0, y0, dx, dy. points: (n, 4) x, y of a line's middle and its unit direction, along
    which the surface falls. bounds: (n, 2) differences across between which an edge counts. reach: mm either
    way from the middle. pick: which of several counts, see below. Samples lie `pitch` mm apart and go on for
    `look` mm on the low side, to find the ground behind a shadow; an edge into a shadow lies half a sample
    behind the last one seen. Returns (n, 3): offset in mm, and the values above and below; NaN without.
    """
    x0, y0, dx, dy = grid
    n = points.shape[0]
    found = np.full((n, 3), np.nan)
    half = math.ceil(reach / pitch) + BEYOND
    most = 2 * half + 1 + math.ceil(look / pitch)
    line = np.empty(most)
    for p in range(n):
        du, dv = pitch * points[p, 2] / dx, pitch * points[p, 3] / dy
        u, v = (points[p, 0] - x0) / dx - half * du, (points[p, 1] - y0) / dy - half * dv
        count, beyond = 0, 0
        while count < most:
            line[count] = _sample(values, u + count * du, v + count * dv)
            if count >= 2 * half and line[count] == line[count]:
                beyond += 1
                if beyond > (BEYOND if line[2 * half] != line[2 * half] else 0):
                    count += 1
                    break
            count += 1
        best = -math.inf
        k = 0
        while k < 2 * half:
            if line[k] != line[k]:
                k += 1
                continue
            after = k + 1
            while after < count and line[after] != line[after]:
                after += 1
            if after == count:
                break
            upper, lower = _upper(line, k), _lower(line, after, count)
            middle = (upper + lower) / 2
            if line[k] >= middle > line[after] and bounds[p, 0] <= upper - lower <= bounds[p, 1]:
                if after == k + 1:
                    offset = k + (line[k] - middle) / (line[k] - line[after])
                elif after - k > SHADOWED:
                    offset = k + 0.5
                else:
                    offset = (k + after) / 2
                t = (offset - half) * pitch
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
            k = after
    return found


@njit(cache=True, nogil=True, inline="always")
def _upper(line: FloatArray, k: int) -> float:
    """The highest of the samples just before an edge."""
    upper: float = line[k]
    for m in range(max(k - BEYOND, 0), k):
        if line[m] > upper:
            upper = line[m]
    return upper


@njit(cache=True, nogil=True, inline="always")
def _lower(line: FloatArray, k: int, count: int) -> float:
    """The lowest of the samples just behind an edge, of the first `count` that were taken."""
    lower: float = line[k]
    for m in range(k + 1, min(k + BEYOND + 1, count)):
        if line[m] < lower:
            lower = line[m]
    return lower


@njit(cache=True, nogil=True, inline="always")
def _sample(values: Heights, u: float, v: float) -> float:
    """The map between its points; beside missing ones its nearest point, so that data ends where it ends."""
    rows, cols = values.shape
    if u < 0.0 or v < 0.0 or u > cols - 1 or v > rows - 1:
        return np.nan
    j, i = min(int(u), cols - 2), min(int(v), rows - 2)
    fu, fv = u - j, v - i
    a, b = values[i, j], values[i, j + 1]
    c, d = values[i + 1, j], values[i + 1, j + 1]
    mean: float = (1 - fv) * ((1 - fu) * a + fu * b) + fv * ((1 - fu) * c + fu * d)
    if mean == mean:
        return mean
    nearest: float = values[i + (fv >= 0.5), j + (fu >= 0.5)]
    return nearest
