"""Operations on height maps that know what is missing: nothing is invented where nothing was seen.

z everywhere: (rows, cols) float32 in mm, NaN without data; results are new arrays of the same shape.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.filters.rank_filter import WORTH_TWO, median_filter
from hemtra.core.parallel_rows import in_halves

Heights = NDArray[np.float32]

SIGMAS = 3.0
"""Standard deviations to which a Gaussian reaches; what lies beyond weighs one part in three hundred."""


def fill_holes(z: Heights, widest: tuple[int, int]) -> tuple[Heights, int]:
    """Fill holes that are at most so many rows and columns wide; answers with how many points were filled.

    A hole is a connected region without data (over edges and corners) that does not touch the border. Larger
    ones stay as they are, whole: to fill a part of one would be to invent data. A point is the mean of straight
    lines through it, across the hole in four directions, each weighing as much as it is short; on a plane that
    is exact.
    """
    z = np.ascontiguousarray(z)
    missing, labels, filled = _missing(z), np.zeros(z.shape, np.int32), z.copy()
    boxes, given = _holes(missing, labels)
    return filled, int(_fill(z, (missing, given, labels, boxes), widest, filled))


def remove_spikes(z: Heights, reach: float, size: int) -> tuple[Heights, int]:
    """Drop points farther than `reach` mm from the median of their window; answers with how many."""
    off = np.abs(z - median_filter(z, size)) > reach
    return np.where(off, np.float32(np.nan), z), int(np.count_nonzero(off))


def smooth_mean(z: Heights, rows: int, cols: int) -> Heights:
    """Mean over windows of rows x cols points (odd), of those with data; points without stay without."""
    kernels = [np.ones(n) for n in (rows, cols)]
    return _normalised(z, kernels[0], kernels[1])


def smooth_gaussian(z: Heights, sigma_rows: float, sigma_cols: float) -> Heights:
    """Gaussian mean with standard deviations in points; points without data neither count nor appear."""
    return _normalised(z, _gaussian(sigma_rows), _gaussian(sigma_cols))


def keep_band(z: Heights, low: float, high: float) -> Heights:
    """Drop what lies outside low to high, in mm."""
    return np.where((z >= low) & (z <= high), z, np.float32(np.nan))


def _gaussian(sigma: float) -> FloatArray:
    reach = max(0, math.ceil(SIGMAS * sigma))
    at = np.arange(-reach, reach + 1)
    kernel: FloatArray = np.exp(-0.5 * (at / max(sigma, 1e-9)) ** 2)
    return kernel


def _normalised(z: Heights, along: FloatArray, across: FloatArray) -> Heights:
    """Weighted means of the points with data (normalised convolution, Knutsson & Westin 1993)."""
    z = np.ascontiguousarray(z)
    found = ~np.isnan(z)
    if not found.any():
        return z.copy()
    # heights relative to a middle one, so that float32 keeps their digits
    middle = np.float32(np.median(z[found][:: max(1, found.sum() // 1000)]))
    sums, weights = np.where(found, z - middle, np.float32(0.0)), found.astype(np.float32)
    for kernel, axis in ((across, 1), (along, 0)):
        if kernel.size > 1:
            sums, weights = (_convolved(part, kernel.astype(np.float32), axis) for part in (sums, weights))
    with np.errstate(invalid="ignore", divide="ignore"):
        means = sums / weights + middle
    return np.where(found, means, np.float32(np.nan)).astype(np.float32)


def _convolved(values: Heights, kernel: Heights, axis: int) -> Heights:
    """Values convolved along an axis; outside is zero."""
    out = np.zeros_like(values)
    convolve = _along_columns if axis == 0 else _along_rows
    in_halves(
        lambda rows: convolve(values, kernel, rows.start, rows.stop, out),
        values.shape[0],
        worth=values.size > WORTH_TWO,
    )
    return out


@lean
def _along_columns(values: Heights, kernel: Heights, first: int, last: int, out: Heights) -> None:
    reach = kernel.size // 2
    for i in range(first, last):
        for k in range(max(0, i - reach), min(values.shape[0], i + reach + 1)):
            _add_weighted(out[i], values[k], kernel[k - i + reach])


@lean
def _along_rows(values: Heights, kernel: Heights, first: int, last: int, out: Heights) -> None:
    cols, reach = values.shape[1], kernel.size // 2
    for i in range(first, last):
        for k in range(-reach, reach + 1):
            begin, end = max(0, -k), min(cols, cols - k)
            if begin < end:
                _add_weighted(out[i, begin:end], values[i, begin + k : end + k], kernel[k + reach])


@lean
def _add_weighted(total: Heights, part: Heights, weight: float) -> None:
    """Add one row times a weight to another; the loop that runs in vector registers."""
    for c in range(total.size):
        total[c] += weight * part[c]


@compiled
def _missing(z: Heights) -> NDArray[np.int64]:
    """Indices of the points without data in the flattened map."""
    flat = z.ravel()
    # written without asking, and counted on only where data is missing: no branch to be guessed wrong
    found = np.empty(flat.size + 1, np.int64)
    count = 0
    for k in range(flat.size):
        found[count] = k
        count += flat[k] != flat[k]
    return found[:count].copy()


@compiled
def _holes(
    missing: NDArray[np.int64], labels: NDArray[np.int32]
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Fill labels (rows, cols) with numbers of connected regions (0: data), over edges and corners.

    missing: the points without data in rising order; labels: zero. Returns per label its first and last row and
    column, and the label that each point of `missing` got. Union-find over neighbours already seen (Rosenfeld &
    Pfaltz 1966), only where data is missing.
    """
    rows, cols = labels.shape
    parent = np.zeros(missing.size + 1, np.int32)
    count = 0
    i = 0
    for n in range(missing.size):
        # the row goes along with the points, which are in order; to divide would take longer than the rest
        while missing[n] >= (i + 1) * cols:
            i += 1
        j = missing[n] - i * cols
        label = 0
        for k in range(4):
            a = i if k == 0 else i - 1
            b = j - 1 if k == 0 else j - 2 + k
            if a < 0 or b < 0 or b >= cols or labels[a, b] == 0:
                continue
            other = labels[a, b]
            while parent[other] != other:
                other = parent[other]
            if label == 0:
                label = other
            elif other < label:
                parent[label] = other
                label = other
            else:
                parent[other] = label
        if label == 0:
            count += 1
            parent[count] = count
            label = count
        labels[i, j] = label
    boxes = np.zeros((count + 1, 4), np.int32)
    boxes[:, 0], boxes[:, 2] = rows, cols
    boxes[:, 1], boxes[:, 3] = -1, -1
    given = np.empty(missing.size, np.int32)
    i = 0
    for n in range(missing.size):
        while missing[n] >= (i + 1) * cols:
            i += 1
        j = missing[n] - i * cols
        label = labels[i, j]
        while parent[label] != label:
            label = parent[label]
        labels[i, j] = given[n] = label
        box = boxes[label]
        box[0], box[1] = min(box[0], i), max(box[1], i)
        box[2], box[3] = min(box[2], j), max(box[3], j)
    return boxes, given


@compiled
def _fill(
    z: Heights,
    holes: tuple[NDArray[np.int64], NDArray[np.int32], NDArray[np.int32], NDArray[np.int32]],
    widest: tuple[int, int],
    filled: Heights,
) -> int:
    """Fill in what is missing in holes small enough; holes: missing, its labels, the label map, the boxes."""
    missing, given, labels, boxes = holes
    rows, cols = z.shape
    count = i = 0
    for n in range(missing.size):
        while missing[n] >= (i + 1) * cols:
            i += 1
        label = given[n]
        top, bottom, left, right = boxes[label]
        if bottom - top + 1 > widest[0] or right - left + 1 > widest[1]:
            continue
        if top == 0 or left == 0 or bottom == rows - 1 or right == cols - 1:
            continue
        j = missing[n] - i * cols
        total, weights = 0.0, 0.0
        for k in range(4):
            di, dj = (0, 1, 1, 1)[k], (1, 0, 1, -1)[k]
            a = 1
            while labels[i - a * di, j - a * dj] == label:
                a += 1
            b = 1
            while labels[i + b * di, j + b * dj] == label:
                b += 1
            before, after = z[i - a * di, j - a * dj], z[i + b * di, j + b * dj]
            if before == before and after == after:
                weight = 1.0 / (a + b)
                total += weight * (before + (after - before) * a / (a + b))
                weights += weight
        if weights > 0.0:
            filled[i, j] = total / weights
            count += 1
    return count
