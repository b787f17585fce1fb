"""Compiled loops over height maps. They work in grid indices: u = column, v = row of a window.

`inside` is the window's (rows, cols) mask, or a (0, 0) array where all of it counts. A comparison with NaN is
false, which is what leaves missing points out everywhere below. Arrays should be contiguous: a slice of a map
keeps the loops from using vector registers and costs three times as much.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.compiled import compiled, lean, reordered

EVERYWHERE: BoolArray = np.ones((0, 0), dtype=np.bool_)


@reordered
def plane_moments(
    z: NDArray[np.float32],
    inside: BoolArray,
    a: float,
    b: float,
    c: float,
    low: float,
    high: float,
    stride: int,
) -> FloatArray:
    """Sums over residuals r = z - (a u + b v + c) with low <= r <= high, in every `stride`-th row.

    Returns (10,) float64: n, Σu, Σv, Σu², Σuv, Σv², Σr, Σur, Σvr, Σr². u and v count from the window's
    centre, and r from the plane given, so that no digits are lost to large offsets.
    """
    rows, cols = z.shape
    masked = inside.size > 0
    middle_u, middle_v = (cols - 1) / 2.0, (rows - 1) / 2.0
    sums = np.zeros(10)
    for i in range(0, rows, stride):
        n = su = suu = sr = sur = srr = 0.0
        v = i - middle_v
        base = b * v + c
        for j in range(cols):
            u = j - middle_u
            r = z[i, j] - (a * u + base)
            take = (r >= low) & (r <= high)
            if masked:
                take &= inside[i, j]
            w = 1.0 if take else 0.0
            r = r if take else 0.0
            n += w
            su += w * u
            suu += w * u * u
            sr += r
            sur += r * u
            srr += r * r
        sums[0] += n
        sums[1] += su
        sums[2] += n * v
        sums[3] += suu
        sums[4] += su * v
        sums[5] += n * v * v
        sums[6] += sr
        sums[7] += sur
        sums[8] += sr * v
        sums[9] += srr
    return sums


@compiled
def residual_histogram(
    z: NDArray[np.float32],
    inside: BoolArray,
    surface: tuple[float, float, float],
    stride: int,
    span: tuple[float, float],
    bins: int,
) -> NDArray[np.int64]:
    """Counts of the residuals against a u + b v + c in `bins` equal bins over `span`."""
    rows, cols = z.shape
    a, b, c = surface
    low, high = span
    masked = inside.size > 0
    middle_u, middle_v = (cols - 1) / 2.0, (rows - 1) / 2.0
    counts = np.zeros(bins, np.int64)
    scale = bins / (high - low)
    for i in range(0, rows, stride):
        base = b * (i - middle_v) + c
        for j in range(cols):
            if masked and not inside[i, j]:
                continue
            r = z[i, j] - (a * (j - middle_u) + base)
            if low <= r <= high:
                counts[min(int((r - low) * scale), bins - 1)] += 1
    return counts


@lean
def bin_of_rank(counts: NDArray[np.int64], rank: float) -> tuple[int, int]:
    """The bin that holds the point of a rank, and how many points lie below that bin."""
    k = below = 0
    while k < counts.size - 1 and below + counts[k] <= rank:
        below += counts[k]
        k += 1
    return k, below


@compiled
def residual_ends(
    z: NDArray[np.float32],
    inside: BoolArray,
    surface: tuple[float, float, float],
    stride: int,
    near: tuple[float, float],
    reach: float,
    bins: int,
    ranks: tuple[float, float],
) -> FloatArray:
    """(2, 2) the narrow bins in which two shares of the residuals end, looked for within `reach` of `near`.

    NaN for an end that lies elsewhere. One pass, which only counts what is farther from both ends.
    """
    rows, cols = z.shape
    a, b, c = surface
    masked = inside.size > 0
    middle_u, middle_v = (cols - 1) / 2.0, (rows - 1) / 2.0
    counts = np.zeros((2, bins), np.int64)
    starts = near[0] - reach, near[1] - reach
    scale = bins / (2.0 * reach)
    residuals = np.empty(cols)
    points = below_low = below_high = 0
    for i in range(0, rows, stride):
        base = b * (i - middle_v) + c
        for j in range(cols):
            r = z[i, j] - (a * (j - middle_u) + base)
            if masked:
                r = r if inside[i, j] else np.nan
            residuals[j] = r
            points += 1 if r == r else 0
            below_low += 1 if r < starts[0] else 0
            below_high += 1 if r < starts[1] else 0
        for j in range(cols):
            low, high = (residuals[j] - starts[0]) * scale, (residuals[j] - starts[1]) * scale
            if 0.0 <= low < bins:
                counts[0, int(low)] += 1
            if 0.0 <= high < bins:
                counts[1, int(high)] += 1
    found = np.full((2, 2), np.nan)
    for e in range(2):
        rank = ranks[0] * points if e == 0 else ranks[1] * points - 0.5
        below = below_low if e == 0 else below_high
        if below > rank:
            continue
        for k in range(bins):
            below += counts[e, k]
            if below > rank:
                found[e, 0], found[e, 1] = starts[e] + k / scale, starts[e] + (k + 1) / scale
                break
    return found
