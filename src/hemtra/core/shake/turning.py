"""A height map turned about its middle, onto a grid of the same spacing."""

from __future__ import annotations

import math
from dataclasses import astuple

import numpy as np

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.shake.turn_kernels import turn


def turned(data: HeightMap, degrees: float) -> HeightMap:
    """The map turned counter-clockwise; what it then does not cover is missing.

    Heights are interpolated where one surface continues, and else those of the nearest point.
    """
    g, (rows, cols) = data.grid, data.shape
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    wide, high = (cols - 1) * g.dx, (rows - 1) * g.dy
    across, along = abs(c) * wide + abs(s) * high, abs(s) * wide + abs(c) * high
    shape = math.floor(along / g.dy + 1e-9) + 1, math.floor(across / g.dx + 1e-9) + 1
    middle = g.x0 + wide / 2, g.y0 + high / 2
    first = middle[0] - (shape[1] - 1) * g.dx / 2, middle[1] - (shape[0] - 1) * g.dy / 2
    z = np.full(shape, np.nan, np.float32)
    grey = np.zeros(shape, np.uint8)
    source = np.zeros((1, 1), np.uint8) if data.intensity is None else data.intensity
    turn(data.z, source, astuple(g), middle, (c, s), first, z, grey)
    return HeightMap(z, None if data.intensity is None else grey, g.dx, g.dy, *first)
