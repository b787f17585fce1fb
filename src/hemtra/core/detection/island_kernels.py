"""Connected regions of a mask: runs of points row by row, joined where they touch."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import BoolArray, IntArray
from hemtra.core.compiled import compiled, lean


def runs_of(mask: BoolArray) -> tuple[IntArray, IntArray]:
    """The runs (n, 3) of a mask (rows, cols), as row, first and last column, and the region of each, (n,).

    Regions are counted from 0 and touch along the sides of points (Rosenfeld and Pfaltz 1966, on runs).
    """
    rows, cols = mask.shape
    padded = np.zeros((rows, cols + 1), np.bool_)
    padded[:, :cols] = mask
    flat = padded.ravel()
    edges = np.flatnonzero(flat[1:] != flat[:-1]) + 1
    if rows and cols and mask[0, 0]:
        edges = np.concatenate([[0], edges])
    row, first = np.divmod(edges[::2], cols + 1)
    last = edges[1::2] - 1 - row * (cols + 1)
    runs = np.column_stack([row, first, last]).astype(np.int64)
    _, region = np.unique(_joined(runs), return_inverse=True)
    return runs, region.astype(np.int64)


@lean
def _root(parent: IntArray, k: int) -> int:
    """The first run of a region, with the way to it shortened."""
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@compiled
def _joined(runs: IntArray) -> IntArray:
    """(n,) for each run, in the order of rows and columns, the first run of its region."""
    n = runs.shape[0]
    parent = np.arange(n)
    above = 0
    for k in range(n):
        row, first, last = runs[k, 0], runs[k, 1], runs[k, 2]
        # runs of earlier rows, or of the row before that end before this one begins, touch no later one
        while above < k and (
            runs[above, 0] < row - 1 or (runs[above, 0] == row - 1 and runs[above, 2] < first)
        ):
            above += 1
        other = above
        while other < k and runs[other, 0] == row - 1 and runs[other, 1] <= last:
            a, b = _root(parent, other), _root(parent, k)
            parent[max(a, b)] = min(a, b)
            other += 1
    for k in range(n):
        parent[k] = _root(parent, k)
    return parent


def points_of(runs: IntArray) -> tuple[IntArray, IntArray]:
    """Rows and columns of all points of runs (n, 3)."""
    long = runs[:, 2] - runs[:, 1] + 1
    ends = np.cumsum(long)
    offset = np.arange(int(ends[-1]) if ends.size else 0) - np.repeat(ends - long, long)
    return np.repeat(runs[:, 0], long), np.repeat(runs[:, 1], long) + offset


@compiled
def regions_beside(labels: IntArray, runs: IntArray, region: IntArray) -> IntArray:
    """(n, 2) pairs of a region of the runs (k, 3) and a label that touches it; labels below 0 are none."""
    rows, cols = labels.shape
    out = np.empty((64, 2), np.int64)
    n = 0
    for k in range(runs.shape[0]):
        i, first, last = runs[k, 0], runs[k, 1], runs[k, 2]
        before = -1
        for p in range(max(i - 1, 0), min(i + 2, rows)):
            for q in range(max(first - 1, 0), min(last + 2, cols)):
                label = labels[p, q]
                if label < 0 or label == before:
                    continue
                before = label
                if n == out.shape[0]:
                    more = np.empty((2 * n, 2), np.int64)
                    for m in range(n):
                        more[m, 0], more[m, 1] = out[m, 0], out[m, 1]
                    out = more
                out[n, 0], out[n, 1] = region[k], label
                n += 1
    return out[:n].copy()
