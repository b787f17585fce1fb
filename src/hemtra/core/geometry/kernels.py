"""Compiled loops over height maps. They work in grid indices: u = column, v = row of a window.

`inside` is the window's (rows, cols) mask, or a (0, 0) array where all of it counts. A comparison with NaN is
false, which is what leaves missing points out everywhere below. Arrays should be contiguous: a slice of a map
keeps the loops from using vector registers and costs three times as much.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray

# sums may be reordered to fill vector registers; NaN must keep its meaning, so plain fastmath is out
REORDER = {"reassoc", "contract", "nsz"}

EVERYWHERE: BoolArray = np.ones((0, 0), dtype=np.bool_)


@njit(cache=True, nogil=True, fastmath=REORDER)
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


@njit(cache=True, nogil=True)
def residual_histogram(
    z: NDArray[np.float32],
    inside: BoolArray,
    a: float,
    b: float,
    c: float,
    low: float,
    high: float,
    bins: int,
    stride: int,
) -> NDArray[np.int64]:
    """Counts of the residuals against a u + b v + c in `bins` equal bins from low to high."""
    rows, cols = z.shape
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
