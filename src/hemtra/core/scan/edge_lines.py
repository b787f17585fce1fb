"""Edges on scan lines through a height map."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import astuple
from typing import NamedTuple

import numpy as np

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.errors import NotMeasured
from hemtra.core.scan.edge_kernels import FIRST, FOOT, HALF, LAST, NEAREST, STRONGEST, TOP, edges_along
from hemtra.core.scan.heightmap import Grid, HeightMap
from hemtra.core.scan.section import sample

CHANGES: Mapping[str, str] = {"falls": "falls", "rises": "rises", "either": "falls or rises"}
PICKS: Mapping[str, str] = {
    "strongest": "strongest",
    "first": "first",
    "last": "last",
    "nearest": "nearest the middle",
}
_PICK = {"strongest": STRONGEST, "first": FIRST, "last": LAST, "nearest": NEAREST}
WALLS: Mapping[str, str] = {"top": "top", "half": "half height", "foot": "foot"}
_WALL = {"top": TOP, "half": HALF, "foot": FOOT}
LOOK = 8.0
"""mm behind an edge within which the ground is looked for, where the edge throws a shadow."""


class Wanted(NamedTuple):
    """Which edge is looked for on a scan line."""

    change: str
    """A key of `CHANGES`."""
    pick: str
    """A key of `PICKS`: which of several counts."""
    least: float
    """The step in mm that counts, or the contrast in grey levels."""
    wall: str = "half"
    """A key of `WALLS`: where on a wall the edge is."""
    grey: bool = False
    """Edges of brightness; heights on either side are then that of the surface."""


def crossings(data: HeightMap, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
    """The edge that counts on each of several scan lines.

    lines: (n, 4) x, y of the middle in mm and unit direction. reach: mm either way. Returns (n, 3): mm along
    the line from its middle, and the heights above and below the edge; NaN where there is none. Raises
    `NotMeasured` when edges of brightness are wanted and the scan has no intensity.
    """
    if wanted.grey:
        return _of_brightness(data, lines, reach, wanted)
    return _along_values(data.z, data.grid, lines, reach, wanted)


def _of_brightness(data: HeightMap, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
    """Edges of brightness, with the height of the surface where they lie."""
    if data.intensity is None:
        raise NotMeasured("the scan has no intensity to find edges of; take steps of height")
    values = np.where(np.isnan(data.z), np.float32(np.nan), data.intensity.astype(np.float32))
    found = _along_values(values, data.grid, lines, reach, wanted._replace(wall="half"))
    at = lines[:, :2] + np.nan_to_num(found[:, :1]) * lines[:, 2:]
    heights = sample(data, at[:, 0], at[:, 1])
    level = np.nanmedian(heights) if (~np.isnan(heights)).any() else np.nan
    heights = np.where(np.isnan(heights), level, heights)
    found[:, 1] = found[:, 2] = np.where(np.isnan(found[:, 0]), np.nan, heights)
    return found


def _along_values(values: Heights, g: Grid, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
    """Edges of any values on the grid."""
    change, pick = wanted.change, wanted.pick
    bounds = np.tile((wanted.least, np.inf), (len(lines), 1))
    pitch, wall = min(g.dx, g.dy), _WALL[wanted.wall]

    def along(directions: FloatArray, which: int) -> FloatArray:
        found: FloatArray = edges_along(values, astuple(g), directions, bounds, reach, LOOK, pitch, which, wall)
        return found

    turned = lines * (1.0, 1.0, -1.0, -1.0)
    backward = {FIRST: LAST, LAST: FIRST}
    falling = along(lines, _PICK[pick]) if change != "rises" else np.full((len(lines), 3), np.nan)
    if change == "falls":
        return falling
    rising = along(turned, backward.get(_PICK[pick], _PICK[pick])) * (-1.0, 1.0, 1.0)
    if change == "rises":
        return rising
    a, b = _merit(falling, pick), _merit(rising, pick)
    rather = np.isnan(a) | (b > a)
    return np.where(rather[:, None], rising, falling)


def _merit(found: FloatArray, pick: str) -> FloatArray:
    """How much each edge (n, 3) deserves to be taken."""
    if pick == "strongest":
        return found[:, 1] - found[:, 2]
    return {"first": -found[:, 0], "last": found[:, 0], "nearest": -np.abs(found[:, 0])}[pick]
