"""Edges on scan lines through a height map."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import astuple
from typing import NamedTuple

import numpy as np

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.detection.crossing_kernels import cross_smoothly
from hemtra.core.detection.edge_kernels import (
    ENDS,
    FIRST,
    FOOT,
    HALF,
    LAST,
    NEAREST,
    STRONGEST,
    TOP,
    edges_along,
)
from hemtra.core.errors import NotMeasured
from hemtra.core.maps.heightmap import Grid, HeightMap
from hemtra.core.maps.section import sample

CHANGES: Mapping[str, str] = {"falls": "falls", "rises": "rises", "either": "falls or rises"}
PICKS: Mapping[str, str] = {
    "strongest": "strongest",
    "first": "first",
    "last": "last",
    "nearest": "nearest the middle",
}
_PICK = {"strongest": STRONGEST, "first": FIRST, "last": LAST, "nearest": NEAREST}
WALLS: Mapping[str, str] = {"top": "top", "half": "half height", "foot": "toe"}
_WALL = {"top": TOP, "half": HALF, "foot": FOOT}
LOOK = 8.0
"""Search distance for the lower surface behind an edge with an occlusion, mm."""


PARTED = 0.8
"""Share of the lines on which an edge must only part points for it to be found from all points about it."""

SHADOWS = 0.2
"""Share of the lines with something missing behind their edge from which on that is no dropout but a shadow."""

ON_SURFACE = 0.5
"""Share of a printed edge's crossings that must lie on the surface for single others to count with them."""


class Wanted(NamedTuple):
    """Edge wanted on a scan line."""

    change: str
    """A key of `CHANGES`."""
    pick: str
    """A key of `PICKS`: which of several counts."""
    least: float
    """The step in mm that counts, or the contrast in grey levels."""
    wall: str = "half"
    """A key of `WALLS`: where on a wall the edge is."""
    grey: bool = False
    """Edges of intensity; heights on either side are then that of the surface."""
    blind: bool = False
    """The surface also ends where nothing is seen beyond, as in a hole too deep to look into."""


def crossings(data: HeightMap, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
    """The edge that counts on each of several scan lines.

    lines: (n, 4) x, y of the middle in mm and unit direction. reach: mm either way. Returns (n, 4): mm along
    the line from its middle, the heights above and below the edge, and 1 where it only parts points on the
    level from others, 2 where some of these are not seen, 3 where none is, less than 0 where the surface rises
    along the line, else 0; NaN where there is none.
    Raises `NotMeasured` when edges of intensity are wanted and the scan has no intensity.
    """
    if wanted.grey:
        return _of_brightness(data, lines, reach, wanted)
    return _along_values(data.z, data.grid, lines, reach, wanted)


class Parting(NamedTuple):
    """Consensus of the scan lines across an edge: its drop in mm, and how it is found from points.

    parts: nearly all lines only part points on its level from others. shadow: a missing point lies beyond it.
    blind: on some lines no lower surface is seen beyond it.
    """

    step: float
    parts: bool
    shadow: bool
    blind: bool


def parting(found: FloatArray) -> Parting:
    """Summarise the crossings (n, 4) that were found."""
    if not len(found):
        return Parting(math.nan, False, False, False)
    how = np.abs(found[:, 3])
    step = float(np.median(found[:, 1] - found[:, 2]))
    parts, shadow = bool(np.mean(how > 0.0) >= PARTED), bool(np.mean(how > 1.0) >= SHADOWS)
    return Parting(step, parts, shadow, bool((how > 2.0).any()))


def ends_below(step: float, wall: str) -> float:
    """Depth below its level from which on a point no longer belongs to it, for an edge at such a place, mm."""
    return min(ENDS, step / 4) if wall == "top" else step / 2


def _of_brightness(data: HeightMap, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
    """Edges of intensity, with the height of the surface where they lie."""
    values = data.seen_intensity
    if values is None:
        raise NotMeasured("the scan has no intensity to find edges of; take steps of height")
    found = _along_values(values, data.grid, lines, reach, wanted._replace(wall="half", blind=False))
    at = lines[:, :2] + np.nan_to_num(found[:, :1]) * lines[:, 2:]
    heights = sample(data, at[:, 0], at[:, 1])
    crossed = ~np.isnan(found[:, 0])
    on_surface = crossed & ~np.isnan(heights)
    if np.count_nonzero(on_surface) >= ON_SURFACE * np.count_nonzero(crossed) > 0:
        heights = np.where(np.isnan(heights), np.median(heights[on_surface]), heights)
    # where no surface is seen, another one begins and nothing is printed
    found[np.isnan(heights)] = np.nan
    found[:, 1] = found[:, 2] = np.where(np.isnan(found[:, 0]), np.nan, heights)
    found[:, 3] *= 0.0
    return found


def _along_values(values: Heights, g: Grid, lines: FloatArray, reach: float, wanted: Wanted) -> FloatArray:
    """Edges of any values on the grid."""
    change, pick = wanted.change, wanted.pick
    bounds = np.tile((wanted.least, np.inf), (len(lines), 1))
    spacing, wall, blind = min(g.dx, g.dy), _WALL[wanted.wall], wanted.blind

    def along(directions: FloatArray, which: int) -> FloatArray:
        found: FloatArray = edges_along(
            values, astuple(g), directions, bounds, reach, LOOK, spacing, which, wall, blind
        )
        if wall == HALF:
            found[:, 0] = cross_smoothly(values, astuple(g), directions, found, spacing)
        return found

    turned = lines * (1.0, 1.0, -1.0, -1.0)
    backward = {FIRST: LAST, LAST: FIRST}
    falling = along(lines, _PICK[pick]) if change != "rises" else np.full((len(lines), 4), np.nan)
    if change == "falls":
        return falling
    rising = along(turned, backward.get(_PICK[pick], _PICK[pick])) * (-1.0, 1.0, 1.0, -1.0)
    if change == "rises":
        return rising
    a, b = _merit(falling, pick), _merit(rising, pick)
    rather = np.isnan(a) | (b > a)
    return np.where(rather[:, None], rising, falling)


def _merit(found: FloatArray, pick: str) -> FloatArray:
    """Weight of each edge (n, 4)."""
    if pick == "strongest":
        return found[:, 1] - found[:, 2]
    return {"first": -found[:, 0], "last": found[:, 0], "nearest": -np.abs(found[:, 0])}[pick]
