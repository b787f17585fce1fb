"""The contour of a part: where its surface steps, or its intensity, as points with normals."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import astuple, dataclass, replace
from typing import Any, TypeAlias

import numpy as np
import scipy  # its parts load when they are used first
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.detection.edge_kernels import BEYOND, HALF, NEAREST, edges_along
from hemtra.core.errors import NotMeasured
from hemtra.core.locate.kernels import fill_lowest
from hemtra.core.maps.heightmap import Grid, HeightMap
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import AnyZone

MOST_POINTS = 640
"""Points of a taught contour at most, evenly spread."""
LEAST_POINTS = 24
SMOOTHING = 1.2
"""Standard deviation in points of the filter before slopes are taken."""
SHORTEST = 10
"""Points of the map along the shortest piece of contour that is no stray spot."""
LONGEST_SHADOW = 12.0
"""mm behind an edge within which the lower surface is searched when teaching."""
NEIGHBOURHOOD = 10.0
"""Points of the map about a point of the contour within which its neighbours say where it lies."""
NEIGHBOURS = 32
SAME_WAY = 0.94
"""Cosine of the angle by which the directions of neighbours on one edge may differ."""
AGREED = 1.5
"""Points of the map by which the edge of the search may lie off the steepest place it was taught at."""

Disc: TypeAlias = tuple[float, float, float]
HEIGHT, INTENSITY = 0, 1
"""Channels of a map that a contour can come from."""


@dataclass(frozen=True)
class Contour:
    """A contour: x, y, z in mm, direction from high to low in rad, difference across, channel; (n,) each.

    z: of the surface on the high side, in mm. The difference is in mm, or in grey levels for intensity.
    """

    x: FloatArray
    y: FloatArray
    z: FloatArray
    direction: FloatArray
    step: FloatArray
    channel: FloatArray

    def __len__(self) -> int:
        return len(self.x)

    def only(self, which: NDArray[Any]) -> Contour:
        """Some of its points, by mask or index."""
        return Contour(*(getattr(self, name)[which] for name in self.__dataclass_fields__))

    @staticmethod
    def joined(parts: list[Contour]) -> Contour:
        """All points of several contours."""
        names = Contour.__dataclass_fields__
        return Contour(*(np.concatenate([getattr(part, name) for part in parts]) for name in names))


def channel_values(data: HeightMap, channel: int) -> Heights | None:
    """(rows, cols) float32 of a channel, NaN without data; None where a map has none."""
    return data.z if channel == HEIGHT else data.seen_intensity


def contour_in(
    data: HeightMap, zone: AnyZone, least: Mapping[int, float], rubbed: Sequence[Disc] = ()
) -> Contour:
    """The contour inside a zone, from the channels named with the least difference that counts in each.

    rubbed: discs, x, y and radius in mm, in which there is to be none.
    Raises `NotMeasured` when there is too little to be recognised by.
    """
    view = window(zone, data)
    # slopes at the zone's border need what lies around it
    room = 4 * BEYOND
    rows = slice(max(view.rows.start - room, 0), view.rows.stop + room)
    cols = slice(max(view.cols.start - room, 0), view.cols.stop + room)
    grid = data.grid.shifted(rows.start, cols.start)
    parts = []
    for channel, difference in least.items():
        values = channel_values(data, channel)
        if values is None:
            raise NotMeasured("the scan has no intensity to take a contour from; take height steps")
        found = _steepest(np.ascontiguousarray(values[rows, cols]), grid, difference)
        inside = zone.contains(found[:, 0], found[:, 1])
        for x, y, radius in rubbed:
            inside &= np.hypot(found[:, 0] - x, found[:, 1] - y) > radius
        parts.append(_settled(data, channel, found[inside], difference))
    contour = Contour.joined(parts)
    if len(contour) < LEAST_POINTS:
        raise NotMeasured(
            "the zone holds too little contour to be recognised by; make it larger, or let smaller steps count"
        )
    return contour


def _steepest(values: Heights, grid: Grid, least: float) -> FloatArray:
    """(n, 3) x, y in mm and direction of the ridges of slope (Canny 1986: non-maximum suppression)."""
    there = ~np.isnan(values)
    if not there.any():
        return np.empty((0, 3))
    filled = fill_lowest(values, float(np.nanmin(values)))
    smooth = scipy.ndimage.gaussian_filter(filled, SMOOTHING, mode="nearest")
    spacing = math.sqrt(grid.dx * grid.dy)
    gy, gx = np.gradient(smooth)[:2]
    # in difference per mean spacing, so that the sum over the blur of an ideal step is its height
    gx, gy = gx * spacing / grid.dx, gy * spacing / grid.dy
    size = np.hypot(gx, gy)
    i, j = np.nonzero(size > 0.5 * least / (SMOOTHING * math.sqrt(2 * math.pi)))
    ux, uy = gx[i, j] / size[i, j] * spacing / grid.dx, gy[i, j] / size[i, j] * spacing / grid.dy
    before, after = (
        scipy.ndimage.map_coordinates(size, [i + k * uy, j + k * ux], order=1) for k in (-1.0, 1.0)
    )
    middle = size[i, j]
    ridge = (middle >= before) & (middle > after)
    linked = np.zeros(size.shape, np.bool_)
    linked[i[ridge], j[ridge]] = True
    labels, _ = scipy.ndimage.label(linked, np.ones((3, 3)))
    long = np.bincount(labels.ravel())[labels[i, j]] >= SHORTEST
    keep = ridge & long
    bend = (before - 2 * middle + after)[keep]
    shift = np.where(bend < 0, 0.5 * (before - after)[keep] / np.where(bend < 0, bend, -1.0), 0.0)
    x = grid.x0 + grid.dx * (j[keep] + shift * ux[keep])
    y = grid.y0 + grid.dy * (i[keep] + shift * uy[keep])
    gx, gy = (scipy.ndimage.gaussian_filter(g, 2 * SMOOTHING)[i[keep], j[keep]] for g in (gx, gy))
    return np.column_stack([x, y, np.arctan2(-gy, -gx)])


def _spread(contour: Contour) -> Contour:
    """At most so many of the points, evenly over the contour: one in each square of a net."""
    if len(contour) <= MOST_POINTS:
        return contour
    size = 1e-3 * 1.2
    while np.count_nonzero(np.diff(np.sort(_squares(contour, size)))) >= MOST_POINTS:
        size *= 1.2
    _, first = np.unique(_squares(contour, size), return_index=True)
    return contour.only(np.sort(first))


def _squares(contour: Contour, size: float) -> NDArray[np.int64]:
    """The square that each point is in, by place and direction, as one number: those sort much faster."""
    x, y, turn = (
        np.floor(numbers).astype(np.int64)
        for numbers in (contour.x / size, contour.y / size, contour.direction)
    )
    y, turn = y - y.min(), turn - turn.min()
    squares: NDArray[np.int64] = (x * (y.max() + 1) + y) * (turn.max() + 1) + turn
    return squares


def _settled(data: HeightMap, channel: int, found: FloatArray, least: float) -> Contour:
    """The points moved to where the search itself sees the edge, so that teaching and finding agree."""
    g, values = data.grid, channel_values(data, channel)
    assert values is not None
    normals = np.column_stack([np.cos(found[:, 2]), np.sin(found[:, 2])])
    bounds = np.tile((least, np.inf), (len(found), 1))
    reach = AGREED * max(g.dx, g.dy)
    points = np.column_stack([found[:, :2], normals])
    spacing = min(g.dx, g.dy)
    edge = edges_along(values, astuple(g), points, bounds, reach, LONGEST_SHADOW, spacing, NEAREST, HALF, False)
    good = ~np.isnan(edge[:, 0])
    x, y = (found[:, :2] + edge[:, :1] * normals)[good].T
    z = edge[good, 1]
    if channel == INTENSITY:
        z = _nearest(data.z, g, x, y)
        z = np.where(np.isnan(z), np.nanmedian(z) if (~np.isnan(z)).any() else 0.0, z)
    contour = Contour(x, y, z, found[good, 2], edge[good, 1] - edge[good, 2], np.full(x.size, float(channel)))
    return _smoothed(contour, _spread(contour), NEIGHBOURHOOD * max(g.dx, g.dy))


def _smoothed(every: Contour, chosen: Contour, radius: float) -> Contour:
    """The chosen points moved onto arcs through their neighbours in a radius in mm.

    An edge at one place is known no better than its sample spacing; its neighbours lie otherwise. Each
    arc is a parabola by least squares, twice, the second time without the neighbours that a dropout has moved.
    """
    if len(chosen) == 0:
        return chosen
    places = np.column_stack([every.x, every.y])
    spots = np.column_stack([chosen.x, chosen.y])
    count = min(NEIGHBOURS, len(every))
    _, near = scipy.spatial.cKDTree(places).query(spots, k=count, distance_upper_bound=radius)
    near = near.reshape(len(chosen), count)
    there = near < len(every)
    near = np.where(there, near, 0)
    c, s = np.cos(chosen.direction), np.sin(chosen.direction)
    away = places[near] - spots[:, None]
    across = away[:, :, 0] * c[:, None] + away[:, :, 1] * s[:, None]
    along = (away[:, :, 1] * c[:, None] - away[:, :, 0] * s[:, None]) / radius
    used = there & (np.cos(every.direction[near] - chosen.direction[:, None]) > SAME_WAY)
    design = np.stack([np.ones_like(along), along, along**2], axis=2)
    for _ in range(2):
        w = design * used[:, :, None]
        # the trace of stiffness keeps a point without neighbours where it is
        normal = np.einsum("pki,pkj->pij", w, design) + 1e-6 * np.eye(3)
        solution = np.linalg.solve(normal, np.einsum("pki,pk->pi", w, across)[:, :, None])[:, :, 0]
        left = np.abs(across - np.einsum("pki,pi->pk", design, solution))
        spread = np.nanmedian(np.where(used, left, np.nan), axis=1)
        used &= left <= np.maximum(4.0 * spread, 1e-6)[:, None]
    shift = solution[:, 0]
    return replace(chosen, x=chosen.x + shift * c, y=chosen.y + shift * s)


def _nearest(values: Heights, grid: Grid, x: FloatArray, y: FloatArray) -> FloatArray:
    """Values of the nearest points at places in mm; NaN outside the map."""
    j = np.round((x - grid.x0) / grid.dx).astype(np.intp)
    i = np.round((y - grid.y0) / grid.dy).astype(np.intp)
    inside = (i >= 0) & (j >= 0) & (i < values.shape[0]) & (j < values.shape[1])
    taken = values[np.where(inside, i, 0), np.where(inside, j, 0)].astype(np.float64)
    return np.where(inside, taken, np.nan)
