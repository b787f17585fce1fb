"""Pictures of a turned rectangle of a map."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import ByteArray, Heights
from hemtra.core.compiled import lean
from hemtra.core.maps.heightmap import Grid


def upright(
    source: ByteArray,
    grid: Grid,
    middle: tuple[float, float],
    rotation: float,
    spacing: float,
    shape: tuple[int, int],
) -> Heights:
    """(rows, cols) values of a map about a place, its far side first, interpolated between four points.

    middle: x, y in mm. rotation: degrees, counter-clockwise. spacing: mm between points of the picture. Beyond
    the map its border goes on.
    """
    rows, cols = shape
    c, s = math.cos(math.radians(rotation)) * spacing, math.sin(math.radians(rotation)) * spacing
    right, down = (s / grid.dy, c / grid.dx), (-c / grid.dy, s / grid.dx)
    first = (
        (middle[1] - grid.y0) / grid.dy - right[0] * (cols - 1) / 2 - down[0] * (rows - 1) / 2,
        (middle[0] - grid.x0) / grid.dx - right[1] * (cols - 1) / 2 - down[1] * (rows - 1) / 2,
    )
    picture = np.empty(shape, np.float32)
    _sample(source, first, right, down, picture)
    return picture


@lean
def _sample(
    source: ByteArray,
    first: tuple[float, float],
    right: tuple[float, float],
    down: tuple[float, float],
    picture: Heights,
) -> None:
    """Fill the picture; the others are rows and columns of the map: of its first point, and between two."""
    last_row, last_col = source.shape[0] - 1, source.shape[1] - 1
    for i in range(picture.shape[0]):
        for j in range(picture.shape[1]):
            r = min(max(first[0] + i * down[0] + j * right[0], 0.0), float(last_row))
            c = min(max(first[1] + i * down[1] + j * right[1], 0.0), float(last_col))
            p, q = int(r), int(c)
            below, beside = min(p + 1, last_row), min(q + 1, last_col)
            upper = source[p, q] + (c - q) * (float(source[p, beside]) - source[p, q])
            lower = source[below, q] + (c - q) * (float(source[below, beside]) - source[below, q])
            picture[i, j] = upper + (r - p) * (lower - upper)
