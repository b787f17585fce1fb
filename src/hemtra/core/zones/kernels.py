"""Compiled loops over the masks of zones."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.compiled import compiled

TILE = 16
"""Points along the sides of the squares in which a mask is looked at."""


@compiled
def fill_spans(first: NDArray[np.int64], last: NDArray[np.int64], cols: int) -> BoolArray:
    """(rows, cols) mask that holds the columns from `first` up to, not with, `last` of each row."""
    inside = np.zeros((first.size, cols), np.bool_)
    for i in range(first.size):
        inside[i, first[i] : max(last[i], first[i])] = True
    return inside


@compiled
def near_line(u: FloatArray, v: FloatArray, line: FloatArray, reach: float) -> BoolArray:
    """Mask of the points (n, m) within `reach` of a line through (k, 2) places, all in mm.

    Tile by tile: most pieces of the line are far from all points of a tile.
    """
    rows, cols = u.shape
    near = np.zeros((rows, cols), np.bool_)
    for i0 in range(0, rows, TILE):
        for j0 in range(0, cols, TILE):
            i1, j1 = min(i0 + TILE, rows), min(j0 + TILE, cols)
            west = east = u[i0, j0]
            south = north = v[i0, j0]
            for i in range(i0, i1):
                for j in range(j0, j1):
                    west, east = min(west, u[i, j]), max(east, u[i, j])
                    south, north = min(south, v[i, j]), max(north, v[i, j])
            for k in range(line.shape[0] - 1):
                au, av = line[k]
                du, dv = line[k + 1, 0] - au, line[k + 1, 1] - av
                left, right = min(au, au + du) - reach, max(au, au + du) + reach
                low, high = min(av, av + dv) - reach, max(av, av + dv) + reach
                if west > right or east < left or south > high or north < low:
                    continue
                square = max(du * du + dv * dv, 1e-18)
                for i in range(i0, i1):
                    for j in range(j0, j1):
                        x, y = u[i, j], v[i, j]
                        if near[i, j] or x < left or x > right or y < low or y > high:
                            continue
                        t = min(max(((x - au) * du + (y - av) * dv) / square, 0.0), 1.0)
                        off_u, off_v = x - au - t * du, y - av - t * dv
                        near[i, j] = off_u * off_u + off_v * off_v <= reach * reach
    return near
