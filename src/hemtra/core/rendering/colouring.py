"""Maps to colour a part by: slope, deviation from a plane or from the reference scan; and isolines."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.geometry.elements import Plane
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.heightmap import HeightMap, Profile
from hemtra.core.maps.section import sample


def slope_map(data: HeightMap) -> HeightMap:
    """Slope in degrees from the level, NaN where a neighbour is missing."""
    g = data.grid
    gy, gx = np.gradient(data.z, g.dy, g.dx) if min(data.shape) > 1 else (data.z * 0.0, data.z * 0.0)
    return _like(data, np.degrees(np.arctan(np.hypot(gx, gy))))


def plane_map(data: HeightMap, plane: Plane) -> HeightMap:
    """Height above a plane in mm, along z."""
    ground = plane.height_at(data.x, np.array(plane.y0))[None, :]
    return _like(data, data.z - ground - (plane.slope_y * (data.y - plane.y0))[:, None])


def reference_map(data: HeightMap, reference: HeightMap, found: Frame, home: Frame) -> HeightMap:
    """Height in mm above the reference scan laid onto this one, square to the part's own x-y plane.

    home, found: where the same frame lies on the reference and on this scan, which follows it in space.
    """
    turn = home.matrix @ found.matrix.T
    off = data.x[None, :] - found.x, data.y[:, None] - found.y, data.z - found.z
    x, y, z = (sum(part * share for part, share in zip(off, axis, strict=True)) for axis in turn)
    known = ~np.isnan(data.z)
    there = sample(reference, home.x + np.where(known, x, 0.0), home.y + np.where(known, y, 0.0))
    return _like(data, home.z + z - there)


def reference_profile(
    profile: Profile,
    line: tuple[tuple[float, float], tuple[float, float]],
    reference: HeightMap,
    found: Frame,
    home: Frame,
    datums: tuple[Plane, Plane] | None = None,
) -> Profile:
    """The reference scan laid onto a section of this one as `reference_map` lays it: heights along its line.

    line: x and y in mm of both ends of the section. datums: the same plane on this scan and on the reference;
    height and tilt follow it, which frames of an outline do not have.
    """
    (ax, ay), (bx, by) = line
    length = math.hypot(bx - ax, by - ay)
    along = profile.x / length
    x, y = ax + (bx - ax) * along - found.x, ay + (by - ay) * along - found.y
    turn = math.radians(found.rotation - home.rotation)
    c, s = math.cos(turn), math.sin(turn)
    at_x, at_y = home.x + c * x + s * y, home.y - s * x + c * y
    z = sample(reference, at_x, at_y)
    if datums is not None:
        here, there = datums
        base = here.height_at(found.x + x, found.y + y) - there.height_at(at_x, at_y)
        return Profile(profile.x, z + base)
    slope_x, slope_y = found.slopes
    return Profile(profile.x, z - home.z + found.z + slope_x * x + slope_y * y)


def isolines(heights: FloatArray, step: float) -> BoolArray:
    """Mask of the pixels of (rows, cols) heights in mm at odd multiples of half a step."""
    # half a step off, since drawings put surfaces at round heights and noise would cross a line all over them
    level = np.floor(heights / step + 0.5)
    lines = np.zeros(heights.shape, np.bool_)
    with np.errstate(invalid="ignore"):
        lines[:, 1:] |= np.abs(np.diff(level, axis=1)) > 0
        lines[1:, :] |= np.abs(np.diff(level, axis=0)) > 0
    return lines


def _like(data: HeightMap, values: FloatArray) -> HeightMap:
    """Values on the same grid as a map."""
    g = data.grid
    return HeightMap(values.astype(np.float32), data.intensity, g.dx, g.dy, g.x0, g.y0)
