"""Compiled lines of sight: where a straight line first meets the surface of a part."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import lean
from hemtra.virtual.shapes import surface_at

BELT_REFLECTANCE = 0.16


MOST_ROUNDS, HALVINGS = 2000, 34


ON_SURFACE = 1e-6
"""Distance within which a place is on the surface, mm."""


STRIDE, STRIDE_DOWN = 0.08, 0.3
"""Sideways reach of a line of sight, and of one straight down, mm."""


CLEARLY, LEAVING = 1e-5, 1e-4
"""mm by which a line must be inside to be inside, and from where on a line of sight has left the surface."""


class Pose(NamedTuple):
    """Pose of the part before a fixed sensor: rotation (3, 3), and its origin."""

    rotation: FloatArray
    origin: FloatArray
    belt: NDArray[np.float64]
    """(3,) height at the origin and slopes in x and y."""
    along: tuple[float, float, float]
    """Unit vector of the sensor's motion."""
    top: float
    """The highest z of the surface; above it nothing hides anything."""
    highest: float
    """z of the part's own that it nowhere stands above."""


class SightLine(NamedTuple):
    """A straight line as the part sees it: places (x + t u, y + t v, z + t w) in mm of its own coordinates."""

    x: float
    y: float
    z: float
    u: float
    v: float
    w: float
    ground: float
    climb: float
    """The belt lies ground + climb t mm above the line, as the sensor sees it."""
    upright: float
    """Height of the part per height of the sensor, mm per mm."""


@lean
def line_of(x: float, y: float, z: float, u: float, v: float, w: float, pose: Pose) -> SightLine:
    """The line through places (x + t u, y + t v, z + t w) before the sensor that has not moved."""
    r, o, belt = pose.rotation, pose.origin, pose.belt
    dx, dy, dz = x - o[0], y - o[1], z - o[2]
    return SightLine(
        r[0, 0] * dx + r[1, 0] * dy + r[2, 0] * dz,
        r[0, 1] * dx + r[1, 1] * dy + r[2, 1] * dz,
        r[0, 2] * dx + r[1, 2] * dy + r[2, 2] * dz,
        r[0, 0] * u + r[1, 0] * v + r[2, 0] * w,
        r[0, 1] * u + r[1, 1] * v + r[2, 1] * w,
        r[0, 2] * u + r[1, 2] * v + r[2, 2] * w,
        belt[0] + belt[1] * x + belt[2] * y - z,
        belt[1] * u + belt[2] * v - w,
        r[2, 2],
    )


@lean
def rise_at(t: float, line: SightLine, shape: Any) -> tuple[float, float]:
    """Height of part or belt above a line's place, negative where clear of both; and the light."""
    height, reflectance, element = surface_at(line.x + t * line.u, line.y + t * line.v, shape)
    to_belt = line.ground + t * line.climb
    to_part = (height - line.z - t * line.w) / line.upright
    if element == 0 or to_part <= to_belt:
        return to_belt, BELT_REFLECTANCE
    return to_part, reflectance


@lean
def _ceiling(line: SightLine, top: float) -> float:
    """The height, on a line of which t is the height, down to which it is clear of part and belt."""
    return max((top - line.z) / line.w, -line.ground / line.climb)


@lean
def descend(line: SightLine, clear: float, guess: float, stride: float, shape: Any) -> tuple[float, float]:
    """The height at which a line, of which t is the height, first meets part or belt going down, and the light.

    clear: a height at which it is clear of everything; guess: where to begin, at most that high. What lies
    below a place is taken for the next one, but no farther than `stride` mm sideways, so that nothing wider is
    passed over; where that leads inside a wall, its face is halved down to.
    """
    side = math.hypot(line.u, line.v)
    deepest = stride / max(side, 1e-9)
    inside, t, before, light = -math.inf, guess, 0.0, 0.0
    for _ in range(MOST_ROUNDS):
        rise, light = rise_at(t, line, shape)
        # a change in height moves the place on the part by the line's slope against the part's own axis
        if abs(rise) * side < ON_SURFACE:
            return t + rise, light
        if rise > 0.0:
            inside = t
        else:
            clear = t
        ratio = rise / before if before != 0.0 else 0.0
        step = max(rise, -deepest)
        # a line that runs down beside a flank comes nearer to it by the same share every time (Aitken 1926)
        after = t + (rise / (1.0 - ratio) if 0.0 < ratio < 0.9 else step)
        before = rise if step == rise else 0.0
        if (after >= clear and inside != -math.inf) or after <= inside:
            break
        t = after
    for _ in range(HALVINGS):
        t = (clear + inside) / 2
        rise, faced = rise_at(t, line, shape)
        if rise > 0.0:
            inside, light = t, faced
        else:
            clear = t
        if clear - inside < ON_SURFACE / 10:
            break
    return clear, light


@lean
def row_surface(x: float, s: float, shape: Any, pose: Pose) -> float:
    """The highest of part and belt in the laser's plane of a sensor that has gone s mm."""
    a = pose.along
    line = line_of(x + s * a[0], s * a[1], s * a[2], 0.0, 0.0, 1.0, pose)
    top = _ceiling(line, pose.highest)
    return descend(line, top, top, STRIDE_DOWN, shape)[0]
