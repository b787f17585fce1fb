"""A slow, exact tracer of rays against the virtual parts, and what it sees: hits, and maps of true heights.

It takes none of the virtual sensor's short cuts: a ray is followed in small steps from above the part until it
is below the surface, and the crossing is then halved down to a nanometre. Sensor coordinates in mm, level
stations.
"""

import math
from typing import Any

import numpy as np
from numba import njit

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.core.station.sensor_models import models_of
from hemtra.virtual.cover import BELT
from hemtra.virtual.shapes import surface_at

TOP = 12.0
"""mm above everything that the demo parts have, however they lie."""
DEEPEST = 0.05
"""mm of height in one step at most."""


@njit(nogil=True)
def above(p: np.ndarray, shape: Any, turn: np.ndarray, origin: np.ndarray, belt: float) -> float:
    """By how much a place lies above part and belt along the part's own height; negative inside."""
    d = p - origin
    x = turn[0, 0] * d[0] + turn[1, 0] * d[1] + turn[2, 0] * d[2]
    y = turn[0, 1] * d[0] + turn[1, 1] * d[1] + turn[2, 1] * d[2]
    z = turn[0, 2] * d[0] + turn[1, 2] * d[1] + turn[2, 2] * d[2]
    height, _, element = surface_at(x, y, shape)
    over: float = p[2] - belt
    return over if element == 0 else min(over, z - height)


@njit(nogil=True)
def first_inside(
    start: np.ndarray, way: np.ndarray, first: float, last: float, step: float, shape: Any, pose: Any
) -> float:
    """How far along start + t way, from t = first on, it first goes inside; NaN if it does not before `last`.

    pose: the part's rotation, its origin and the belt's height. step: mm sideways, as the part sees it.
    """
    turn, origin, belt = pose
    u = turn[0, 0] * way[0] + turn[1, 0] * way[1] + turn[2, 0] * way[2]
    v = turn[0, 1] * way[0] + turn[1, 1] * way[1] + turn[2, 1] * way[2]
    dt = min(step / max(math.hypot(u, v), 1e-12), DEEPEST / max(abs(way[2]), 1e-12))
    t = first
    while t < last:
        after = min(t + dt, last)
        if above(start + after * way, shape, turn, origin, belt) < 0.0:
            low, high = t, after
            while high - low > 1e-9:
                middle = (low + high) / 2
                if above(start + middle * way, shape, turn, origin, belt) < 0.0:
                    high = middle
                else:
                    low = middle
            return high
        t = after
    return math.nan


@njit(nogil=True)
def _heights(xs: np.ndarray, ys: np.ndarray, step: float, shape: Any, pose: Any) -> np.ndarray:
    z = np.empty((ys.size, xs.size), np.float32)
    down = np.array([0.0, 0.0, -1.0])
    for i in range(ys.size):
        for j in range(xs.size):
            t = first_inside(np.array([xs[j], ys[i], TOP]), down, 0.0, 40.0, step, shape, pose)
            z[i, j] = TOP - t
    return z


@njit(nogil=True)
def _seen(
    slopes: np.ndarray, ys: np.ndarray, height: float, baseline: float, step: float, shape: Any, pose: Any
) -> np.ndarray:
    z = np.empty(slopes.size)
    for k in range(slopes.size):
        laser, way = np.array([0.0, ys[k], height]), np.array([slopes[k], 0.0, -1.0])
        t = first_inside(laser, way, height - TOP, height + 40.0, step, shape, pose)
        hit = laser + t * way
        sight = np.array([0.0, ys[k] + baseline, height]) - hit
        z[k] = hit[2]
        # to the camera, from a micrometre above the surface on
        if not math.isnan(first_inside(hit, sight, 1e-5, (TOP - hit[2]) / sight[2], step, shape, pose)):
            z[k] = math.nan
    return z


def _pose(part: Any) -> tuple[np.ndarray, np.ndarray, float]:
    return np.ascontiguousarray(part.pose.matrix), np.array(part.pose.origin, float), BELT


def traced(part: Any, station: Any, slopes: np.ndarray, ys: np.ndarray, step: float = 0.002) -> np.ndarray:
    """(n,) heights that a level sensor at x = 0 sees along rays of such slopes at ys; NaN for none."""
    model, mount = models_of(station)[0], station.sensors[0]
    return _seen(slopes, ys, mount.stand_off, model.baseline, step, part.shape(), _pose(part))


def exact_map(part: Any, station: Any, step: float = 0.02) -> Scan:
    """The true height, or that of the belt, at every point of the grid that the station's scans have."""
    models = models_of(station)
    grid, cols = station.grid(models)
    xs, ys = grid.x0 + grid.dx * np.arange(cols), grid.y0 + grid.dy * np.arange(station.profiles)
    z = _heights(xs, ys, step, part.shape(), _pose(part))
    return Scan(HeightMap(z, None, grid.dx, grid.dy, grid.x0, grid.y0), serial=part.serial)
