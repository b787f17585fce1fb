"""Compiled sampling of many sections across a curve."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray, Heights, IndexArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.section_edge_kernels import on_levels

SLACK = 1e-9
"""Points by which rounding may take a sample beyond the last grid line, which itself still counts as inside."""


@lean
def _careful(z: Heights, r: float, c: float) -> float:
    """Bilinear height at a row and column, where a point of no weight may be missing or lie outside."""
    rows, cols = z.shape
    if not (c >= -SLACK and r >= -SLACK and c <= cols - 1 + SLACK and r <= rows - 1 + SLACK):
        return np.nan
    c, r = min(max(c, 0.0), cols - 1.0), min(max(r, 0.0), rows - 1.0)
    j, i = int(c), int(r)
    f, g = c - j, r - i
    total = 0.0
    for a in range(2):
        for b in range(2):
            weight = (g if a else 1.0 - g) * (f if b else 1.0 - f)
            if weight > 0.0:
                total += weight * z[i + a, j + b]
    return total


@compiled
def _line(
    z: Heights,
    start: tuple[float, float],
    step: tuple[float, float],
    held: bool,
    scratch: tuple[IndexArray, FloatArray, FloatArray],
    values: FloatArray,
) -> None:
    """Fills heights along a line from a row and column on, by so much of both from sample to sample.

    held: whether all of it lies inside. scratch: the grid point before each sample, and the shares beyond it.
    """
    (r, c), (by_row, by_col) = start, step
    at, across, along = scratch
    if held:
        # loops without branches, which the compiler takes several samples at a time in
        flat, cols = z.ravel(), np.int32(z.shape[1])
        for m in range(values.size):
            y, x = r + m * by_row, c + m * by_col
            i, j = np.int32(y), np.int32(x)
            across[m], along[m] = x - j, y - i
            at[m] = i * cols + j
        lost = 0
        for m in range(values.size):
            k = np.uint32(at[m])
            low = np.uint32(k + np.uint32(cols))
            above = flat[k] + across[m] * (flat[k + np.uint32(1)] - flat[k])
            below = flat[low] + across[m] * (flat[low + np.uint32(1)] - flat[low])
            values[m] = above + along[m] * (below - above)
            lost += values[m] != values[m]
        if not lost:
            return
    # what is missing but has no weight must not spoil a sample, and what lies outside is none
    for m in range(values.size):
        if not held or values[m] != values[m]:
            values[m] = _careful(z, r + m * by_row, c + m * by_col)


@compiled
def sections_across(
    z: Heights,
    grid: FloatArray,
    places: FloatArray,
    directions: FloatArray,
    reach: float,
    count: int,
    behind: FloatArray,
) -> FloatArray:
    """(n, count) bilinear heights on sections across a curve, each the mean over parallel lines.

    z (rows, cols) in mm; grid: x0, y0, dx, dy. places, directions: (n, 2) of the middle of each section, and
    unit vectors along the curve. reach: mm to either side, from left to right. behind: (k,) mm along the
    curve of the parallel lines. A sample needs all grid points around it that have any weight; the mean takes
    the samples that exist.
    """
    rows, cols = z.shape
    x0, y0, dx, dy = grid[0], grid[1], grid[2], grid[3]
    spacing = 2.0 * reach / (count - 1)
    out = np.empty((places.shape[0], count))
    values, found = np.empty(count), np.zeros(count)
    scratch = np.empty(count, np.int32), np.empty(count), np.empty(count)
    for n in range(places.shape[0]):
        tx, ty = directions[n, 0], directions[n, 1]
        for k in range(behind.size):
            c = (places[n, 0] - reach * ty + behind[k] * tx - x0) / dx
            r = (places[n, 1] + reach * tx + behind[k] * ty - y0) / dy
            by_col, by_row = spacing * ty / dx, -spacing * tx / dy
            end_c, end_r = c + (count - 1) * by_col, r + (count - 1) * by_row
            held = min(c, end_c) >= 0.0 and max(c, end_c) < cols - 1 - 1e-9
            held = held and min(r, end_r) >= 0.0 and max(r, end_r) < rows - 1 - 1e-9
            if behind.size == 1:
                _line(z, (r, c), (by_row, by_col), held, scratch, out[n])
                break
            _line(z, (r, c), (by_row, by_col), held, scratch, values)
            if k == 0:
                out[n], found[:] = 0.0, 0.0
            for m in range(count):
                if values[m] == values[m]:
                    out[n, m] += values[m]
                    found[m] += 1.0
        if behind.size > 1:
            for m in range(count):
                out[n, m] = out[n, m] / found[m] if found[m] > 0.0 else np.nan
    return out


@compiled
def shown_shares(
    z: Heights,
    line: tuple[float, float, float, float],
    shifts: FloatArray,
    count: int,
    point: int,
    step: float,
) -> FloatArray:
    """(count,) share of parallel lines that show a level at each of their samples, by the nearest grid point.

    line: column and row of its start, and by how many of both each sample lies farther; shifts: (k, 2) columns
    and rows by which each line lies beside it. point, step: as for `on_levels`.
    """
    rows, cols = z.shape
    out, heights = np.zeros(count), np.empty(count)
    for n in range(shifts.shape[0]):
        for m in range(count):
            j = math.floor(line[0] + shifts[n, 0] + m * line[2] + 0.5)
            i = math.floor(line[1] + shifts[n, 1] + m * line[3] + 0.5)
            heights[m] = z[i, j] if 0 <= i < rows and 0 <= j < cols else np.nan
        held = on_levels(heights, point, step)
        for m in range(count):
            out[m] += held[m] / shifts.shape[0]
    return out
