"""Compiled loops over the masks of zones."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, Heights
from hemtra.core.compiled import compiled, lean

TILE = 16
"""Points along the sides of the squares in which a mask is looked at."""


SLACK = 1e-9
"""Rounding margin of a span's ends, mm."""


@compiled
def rectangle_spans(
    y: FloatArray, place: tuple[float, float], turn: tuple[float, float], half: tuple[float, float]
) -> tuple[FloatArray, FloatArray]:
    """First and last x in mm, (n,) each, on lines at y (n,), of a rectangle; inf, or first > last, for none.

    turn: cosine and sine of its rotation; half: half its sides, mm.
    """
    first, last = np.empty(y.size), np.empty(y.size)
    c, s = turn
    for n in range(y.size):
        dy = y[n] - place[1]
        low, high = -math.inf, math.inf
        # sides along the height bound c dx + s dy, those along the width c dy - s dx
        for side in range(2):
            slope, offset = (c, s * dy) if side == 0 else (-s, c * dy)
            if abs(slope) < 1e-12:
                low = low if abs(offset) <= half[side] else math.inf
                continue
            one, other = (-half[side] - offset) / slope, (half[side] - offset) / slope
            low, high = max(low, min(one, other)), min(high, max(one, other))
        first[n], last[n] = place[0] + low, place[0] + high
    return first, last


@compiled
def ellipse_spans(
    y: FloatArray, place: tuple[float, float], turn: tuple[float, float], size: tuple[float, float]
) -> tuple[FloatArray, FloatArray]:
    """The same of an ellipse of a width and height, mm: between the two roots of its equation."""
    first, last = np.empty(y.size), np.empty(y.size)
    c, s = turn
    p, q = 4.0 / size[0] ** 2, 4.0 / size[1] ** 2
    a = p * c * c + q * s * s
    for n in range(y.size):
        dy = y[n] - place[1]
        b = (p - q) * c * s * dy
        root = b * b - a * ((p * s * s + q * c * c) * dy * dy - 1.0)
        reach = math.sqrt(root) if root >= 0.0 else -math.inf
        first[n], last[n] = place[0] + (-b - reach) / a, place[0] + (-b + reach) / a
    return first, last


@compiled
def between(first: FloatArray, last: FloatArray, start: float, step: float, cols: int) -> BoolArray:
    """(rows, cols) mask of the columns at start + j step between the first and last x of each row, in mm."""
    inside = np.zeros((first.size, cols), np.bool_)
    for i in range(first.size):
        j0 = math.ceil(min(max((first[i] - SLACK - start) / step, 0.0), float(cols)))
        j1 = math.floor(min(max((last[i] + SLACK - start) / step, -1.0), cols - 1.0))
        for j in range(j0, j1 + 1):
            inside[i, j] = True
    return inside


@lean
def points_and_missing(z: Heights, corner: tuple[int, int], inside: BoolArray) -> tuple[int, int]:
    """Points of a mask (rows, cols) at a row and column of a map, and how many of them have no data."""
    points, missing = 0, 0
    for i in range(inside.shape[0]):
        for j in range(inside.shape[1]):
            held = inside[i, j]
            points += held
            missing += held and z[corner[0] + i, corner[1] + j] != z[corner[0] + i, corner[1] + j]
    return points, missing


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
