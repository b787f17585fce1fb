"""Compiled looks at every point of a zone: extremes that three connected points reach, and unseen patches.

`inside` is the window's (rows, cols) mask, or a (0, 0) array where all of it counts; `spans` (rows, 2) are the
first column of each row that is inside and the one after the last, so that a zone that lies turned costs no
more than another. Heights are residuals against a surface a u + b v + c, with u = column and v = row counted
from the middle of the window.
"""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, Heights, IntArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.middle import middle_of

SAMPLES = 1024
"""Differences of neighbours from which noise is estimated."""
NORMAL_MEDIAN = 0.6745
"""Median of the absolute values of a standard normal distribution."""


@compiled
def spans_of(inside: BoolArray, rows: int, cols: int) -> IntArray:
    """(rows + 1, 2) the first column inside of each row, and the one after the last; then (points, 0)."""
    spans = np.zeros((rows + 1, 2), np.int64)
    if inside.size == 0:
        spans[:rows, 1] = cols
        spans[rows, 0] = rows * cols
        return spans
    for i in range(rows):
        first = 0
        while first < cols and not inside[i, first]:
            first += 1
        last = cols
        while last > first and not inside[i, last - 1]:
            last -= 1
        spans[i, 0], spans[i, 1] = first, last
        for j in range(first, last):
            spans[rows, 0] += inside[i, j]
    return spans


@compiled
def noise_of(z: Heights, inside: BoolArray, spans: IntArray) -> float:
    """Standard deviation in mm of the noise, from second differences, which see no slope.

    Along rows and along columns, whichever is more: resampling evens out neighbours in one of them.
    """
    rows, cols = z.shape
    masked = inside.size > 0
    stride = max(1, spans[rows, 0] // SAMPLES)
    found = np.empty((2, SAMPLES * 2))
    n = np.zeros(2, np.int64)
    passed = 0
    for i in range(rows):
        for j in range(spans[i, 0], spans[i, 1]):
            if masked and not inside[i, j]:
                continue
            passed += 1
            if passed % stride:
                continue
            for way in range(2):
                size, at = (cols, j) if way == 0 else (rows, i)
                if not 0 < at < size - 1 or n[way] == found.shape[1]:
                    continue
                before, after = (z[i, j - 1], z[i, j + 1]) if way == 0 else (z[i - 1, j], z[i + 1, j])
                bend = abs(before - 2.0 * z[i, j] + after)
                if bend == bend:
                    found[way, n[way]] = bend
                    n[way] += 1
    noise = 0.0
    for way in range(2):
        if n[way]:
            noise = max(noise, middle_of(found[way], n[way]) / NORMAL_MEDIAN / np.sqrt(6.0))
    return noise


@compiled
def supported_ends(
    z: Heights,
    inside: BoolArray,
    spans: IntArray,
    surface: tuple[float, float, float],
    start: tuple[float, float],
) -> FloatArray:
    """(6,) lowest residual that three connected points reach, its row and column; then the highest.

    The middle one of the three touches both others. start: residuals from which on anything is looked at; they
    come back, with row -1, where nothing lies beyond them.
    """
    rows, cols = z.shape
    a, b, c = surface
    masked = inside.size > 0
    middle_u, middle_v = (cols - 1) / 2.0, (rows - 1) / 2.0
    out = np.array([start[0], -1.0, -1.0, start[1], -1.0, -1.0])
    for i in range(rows):
        base = b * (i - middle_v) + c
        for j in range(spans[i, 0], spans[i, 1]):
            r = z[i, j] - (a * (j - middle_u) + base)
            if not (r < out[0] or r > out[3]) or (masked and not inside[i, j]):
                continue
            sign = 1.0 if r > out[3] else -1.0
            first = second = -np.inf
            for p in range(max(i - 1, 0), min(i + 2, rows)):
                for q in range(max(j - 1, 0), min(j + 2, cols)):
                    if p == i and q == j:
                        continue
                    near = sign * (z[p, q] - (a * (q - middle_u) + b * (p - middle_v) + c))
                    if near > first:
                        first, second = near, first
                    elif near > second:
                        second = near
            level = min(sign * r, second)
            if sign > 0.0 and level > out[3]:
                out[3], out[4], out[5] = level, i, j
            elif sign < 0.0 and -level < out[0]:
                out[0], out[1], out[2] = -level, i, j
    return out


@lean
def count_beyond(
    z: Heights,
    inside: BoolArray,
    spans: IntArray,
    surface: tuple[float, float, float],
    span: tuple[float, float],
) -> tuple[int, int]:
    """Number of points with residuals outside a span, and number of points with data."""
    rows, cols = z.shape
    a, b, c = surface
    masked = inside.size > 0
    middle_u, middle_v = (cols - 1) / 2.0, (rows - 1) / 2.0
    beyond = points = 0
    for i in range(rows):
        base = b * (i - middle_v) + c
        for j in range(spans[i, 0], spans[i, 1]):
            r = z[i, j] - (a * (j - middle_u) + base)
            take = r == r
            if masked:
                take &= inside[i, j]
            points += 1 if take else 0
            beyond += 1 if take and (r < span[0] or r > span[1]) else 0
    return beyond, points


@compiled
def residual_sample(
    z: Heights, inside: BoolArray, spans: IntArray, surface: tuple[float, float, float], most: int
) -> FloatArray:
    """Up to about `most` residuals of points with data, spread evenly, sorted."""
    rows, cols = z.shape
    a, b, c = surface
    masked = inside.size > 0
    stride = max(1, spans[rows, 0] // most)
    out = np.empty(2 * most)
    n = passed = 0
    for i in range(rows):
        base = b * (i - (rows - 1) / 2.0) + c
        for j in range(spans[i, 0], spans[i, 1]):
            if masked and not inside[i, j]:
                continue
            passed += 1
            if passed % stride or n == out.size:
                continue
            r = z[i, j] - (a * (j - (cols - 1) / 2.0) + base)
            if r == r:
                out[n] = r
                n += 1
    return np.sort(out[:n])


@compiled
def points_beyond(
    z: Heights,
    inside: BoolArray,
    spans: IntArray,
    surface: tuple[float, float, float],
    span: tuple[float, float],
    most: int,
) -> tuple[FloatArray, int, int]:
    """(n, 3) row, column and residual of points outside a span, n at most `most`; how many are below, above."""
    rows, cols = z.shape
    a, b, c = surface
    masked = inside.size > 0
    out = np.empty((most, 3))
    n = below = above = 0
    for i in range(rows):
        base = b * (i - (rows - 1) / 2.0) + c
        for j in range(spans[i, 0], spans[i, 1]):
            r = z[i, j] - (a * (j - (cols - 1) / 2.0) + base)
            if (r < span[0] or r > span[1]) and not (masked and not inside[i, j]):
                below += 1 if r < span[0] else 0
                above += 1 if r > span[1] else 0
                if n < most:
                    out[n, 0], out[n, 1], out[n, 2] = i, j, r
                    n += 1
    return out[:n].copy(), below, above


@compiled
def cell_sums(
    z: Heights,
    inside: BoolArray,
    spans: IntArray,
    surface: tuple[float, float, float],
    span: tuple[float, float],
    cell: tuple[int, int],
) -> FloatArray:
    """(4, cells) n, Σu, Σv and Σr of the points of each cell whose residuals r lie within a span.

    cell: rows and columns of one. u and v count from the middle of the window.
    """
    rows, cols = z.shape
    a, b, c = surface
    masked = inside.size > 0
    across = (cols + cell[1] - 1) // cell[1]
    sums = np.zeros((4, (rows + cell[0] - 1) // cell[0] * across))
    for i in range(rows):
        v = i - (rows - 1) / 2.0
        for j in range(spans[i, 0], spans[i, 1]):
            u = j - (cols - 1) / 2.0
            r = z[i, j] - (a * u + b * v + c)
            if not (span[0] <= r <= span[1]) or (masked and not inside[i, j]):
                continue
            at = i // cell[0] * across + j // cell[1]
            sums[0, at] += 1.0
            sums[1, at] += u
            sums[2, at] += v
            sums[3, at] += r
    return sums


@lean
def any_missing(z: Heights, inside: BoolArray, spans: IntArray) -> bool:
    """Whether any point of a zone holds no data."""
    masked = inside.size > 0
    for i in range(z.shape[0]):
        for j in range(spans[i, 0], spans[i, 1]):
            if z[i, j] != z[i, j] and not (masked and not inside[i, j]):
                return True
    return False


@compiled
def rims_of(
    z: Heights,
    surface: tuple[float, float, float],
    span: tuple[float, float],
    spacing: tuple[float, float],
    runs: IntArray,
    region: IntArray,
    count: int,
) -> FloatArray:
    """(count, 10) of patches without data: points, first and last row, first and last column, and of the points
    with data about each their number, the mean, the lowest and the highest residual, and their mean slope
    towards the patch. Isolated points outside of `span` do not count. spacing: mm of rows and columns.
    """
    rows, cols = z.shape
    a, b, c = surface
    middle_u, middle_v = (cols - 1) / 2.0, (rows - 1) / 2.0
    out = np.zeros((count, 10))
    slopes = np.zeros(count)
    out[:, 1], out[:, 2], out[:, 3], out[:, 4] = np.inf, -np.inf, np.inf, -np.inf
    out[:, 7], out[:, 8] = np.inf, -np.inf
    for k in range(runs.shape[0]):
        i, first, last = runs[k, 0], runs[k, 1], runs[k, 2]
        one = out[region[k]]
        one[0] += last - first + 1
        one[1], one[2] = min(one[1], i), max(one[2], i)
        one[3], one[4] = min(one[3], first), max(one[4], last)
        for p in range(max(i - 1, 0), min(i + 2, rows)):
            for q in range(max(first - 1, 0), min(last + 2, cols)):
                r = z[p, q] - (a * (q - middle_u) + b * (p - middle_v) + c)
                if span[0] <= r <= span[1]:
                    one[5] += 1.0
                    one[6] += r
                    one[7], one[8] = min(one[7], r), max(one[8], r)
                    # the next point outward, seen from the nearest of the patch
                    down, right = p - i, q - min(max(q, first), last)
                    k_row, k_col = p + down, q + right
                    if 0 <= k_row < rows and 0 <= k_col < cols:
                        far = z[k_row, k_col] - (a * (k_col - middle_u) + b * (k_row - middle_v) + c)
                        if span[0] <= far <= span[1]:
                            apart = np.hypot(down * spacing[0], right * spacing[1])
                            one[9] += (r - far) / apart
                            slopes[region[k]] += 1.0
    for k in range(count):
        if out[k, 5] > 0.0:
            out[k, 6] /= out[k, 5]
        if slopes[k] > 0.0:
            out[k, 9] /= slopes[k]
    return out
