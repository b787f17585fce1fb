"""Artefacts of known size in a scan: the height of a face, and how far it reaches."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.zones.window import window
from hemtra.core.zones.zone import EllipseZone

FACE = 3.0
"""Size of the spot whose mean is the height of a face, mm."""
SAME_FACE = 0.4
"""Distance from the height of the face within which a point belongs to it, mm."""
RAYS = 360
STEP = 0.05
"""Step along a ray, mm."""
BRIDGED = 1.0
"""Stretch without data or off the face that does not end it, mm: a dropout, a spike."""


@dataclass(frozen=True)
class Face:
    """A level face: its height, and how far it reaches along x and y through its middle, in mm."""

    x: float
    y: float
    height: float
    width: float
    length: float
    rms: float
    """Deviation of its edge points from the fitted shape, in mm."""


def height_at(data: HeightMap, x: float, y: float) -> float:
    """Mean height of a small spot in mm, without the quarter of its points farthest from the median."""
    z = window(EllipseZone(x=x, y=y, width=FACE, height=FACE), data).heights(data)
    if z.size < 10:
        raise NotMeasured("there is no data where you pointed")
    far = np.abs(z - np.median(z))
    return float(np.mean(z[far <= np.quantile(far, 0.75)]))


def round_face(data: HeightMap, x: float, y: float) -> Face:
    """The disc that has a place on its face: an ellipse along x and y through its edge points.

    Edge points come from rays in all directions; the conic is fitted by least squares, again without the
    points far from it. Raises `NotMeasured` where there is no such face.
    """
    height = height_at(data, x, y)
    edge = _edge(data, x, y, height)
    for _ in range(3):
        u, v = edge[:, 0] - x, edge[:, 1] - y
        try:
            (a, b, c, d), *_ = np.linalg.lstsq(
                np.column_stack([u * u, v * v, u, v]), np.ones(u.size), rcond=None
            )
        except np.linalg.LinAlgError:
            raise NotMeasured("its edge is no circle") from None
        if a <= 0 or b <= 0:
            raise NotMeasured("its edge is no circle; point at the middle of a disc")
        middle_u, middle_v = -c / (2 * a), -d / (2 * b)
        whole = 1.0 + a * middle_u**2 + b * middle_v**2
        half_x, half_y = math.sqrt(whole / a), math.sqrt(whole / b)
        off = (np.hypot((u - middle_u) / half_x, (v - middle_v) / half_y) - 1.0) * (half_x + half_y) / 2
        rms = math.sqrt(float(np.mean(off**2)))
        edge = edge[np.abs(off) <= max(2.5 * rms, data.grid.dx / 2)]
    if rms > SAME_FACE:
        raise NotMeasured(f"its edge is no circle: its points lie {rms:.2f} mm off")
    return Face(x + middle_u, y + middle_v, height, 2 * half_x, 2 * half_y, rms)


def _edge(data: HeightMap, x: float, y: float, height: float) -> FloatArray:
    """(n, 2) where rays from a place leave its face."""
    grid, (rows, cols) = data.grid, data.shape
    x_low, x_high, y_low, y_high = data.extent
    reach = math.hypot(max(x_high - x, x - x_low), max(y_high - y, y - y_low))
    along = np.arange(0.0, reach, STEP)
    angle = np.linspace(0.0, 2 * math.pi, RAYS, endpoint=False)
    px, py = x + np.outer(np.cos(angle), along), y + np.outer(np.sin(angle), along)
    j, i = np.rint((px - grid.x0) / grid.dx).astype(int), np.rint((py - grid.y0) / grid.dy).astype(int)
    inside = (i >= 0) & (i < rows) & (j >= 0) & (j < cols)
    z = np.where(inside, data.z[np.clip(i, 0, rows - 1), np.clip(j, 0, cols - 1)], np.nan)
    on = np.abs(z - height) <= SAME_FACE
    # the last sample of the face before more than a bridge's length of something else
    last = np.full(RAYS, 0)
    gap = np.zeros(RAYS, int)
    open_ = np.ones(RAYS, bool)
    for k in range(along.size):
        hit = on[:, k] & open_
        last[hit], gap[hit] = k, 0
        gap[~hit] += 1
        open_ &= gap * STEP <= BRIDGED
        if not open_.any():
            break
    # beyond the border of the scan nothing says whether the face continues
    beyond = np.minimum(last + math.ceil(BRIDGED / STEP), along.size - 1)
    left = ~open_ & inside[np.arange(RAYS), beyond]
    if np.count_nonzero(left) < RAYS / 2:
        raise NotMeasured("the face reaches beyond the scan; scan all of it")
    return np.column_stack([px[left, last[left]], py[left, last[left]]])
