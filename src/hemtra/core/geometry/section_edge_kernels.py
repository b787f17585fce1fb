"""Compiled finding of edges on profiles: where levels end, where data ends, and where roundings begin."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.compiled import compiled
from hemtra.core.geometry.profile_fits import robust_line
from hemtra.core.geometry.section_kernels import (
    EDGE_WIDTH,
    FEW,
    HIDDEN,
    NONE,
    SHADOWED,
    counted_points,
    rise_width,
)

WALL = 4.0
"""Slope from which on a point beside a level is on a wall, mm per mm."""


THREE = 3
"""Points together that are the other side of a gap; fewer with nothing beside them are strays."""


WHOLLY = 0.9
"""Share of the lines that must show a level where its height is used."""


GROUND, LEVEL_FEW, LEVEL_FLOOR = 2.0, 6, 0.002
"""mm behind a rounding on which its surface is fitted, samples that takes, and mm by which they may be off."""


ROUNDING = (0.04, 0.6)
"""Of its radius, the depths between which a rounding says where it ends, and is still seen well."""


STEEPEST, LEVEL, DATA = 0, 1, 2


FIRST, LAST, STRONGEST, NEAREST = 0, 1, 2, 3


@compiled
def on_levels(z: FloatArray, point: int, step: float) -> BoolArray:
    """Which samples of one line z (m,), NaN without data, show a level: neither a wall below it nor a stray.

    point: samples to a point of the map; step: mm from one to the next.
    """
    held = ~np.isnan(z)
    steep = WALL * point * step
    for way in (-1, 1):
        wall = np.zeros(z.size, np.bool_)
        for m in range(z.size):
            k = m if way < 0 else z.size - 1 - m
            above, beyond = k + way * point, k + 2 * way * point
            if not 0 <= beyond < z.size or not z[above] - z[k] > steep:
                continue
            # what it falls from is a level itself, or the wall farther up; a lone spike is neither
            wall[k] = wall[above] or abs(z[beyond] - z[above]) <= steep
            held[k] &= not wall[k]
    first = -1
    for k in range(z.size + 1):
        if k < z.size and held[k]:
            first = k if first < 0 else first
        elif first >= 0:
            if k - first < (THREE - 0.5) * point and not (first == 0 or k == z.size):
                held[first:k] = False
            first = -1
    return held


@compiled
def shown(x: FloatArray, z: FloatArray, inside: BoolArray) -> FloatArray:
    """(n, m) for `ends`, 1 or 0, of a stack of profiles z (n, m) over x, one line each."""
    out = np.zeros(z.shape)
    step = (x[-1] - x[0]) / max(x.size - 1, 1)
    for row in range(z.shape[0]):
        held = on_levels(z[row], 1, step)
        for k in range(x.size):
            out[row, k] = held[k] and inside[row, k]
    return out


@compiled
def ends(x: FloatArray, z: FloatArray, seen: FloatArray, least_gap: float) -> FloatArray:
    """(c, 5) place, height and steepness of the ends of the data about gaps wider than `least_gap` mm.

    seen: (m,) share of the lines across the section that show a level here, 0 outside the zone; the data ends
    where half of them do. The steepness is how wide the gap is, in mm. The rest as of `edge_candidates`.
    """
    found = np.empty((x.size + 1, 5))
    found[:, 3], found[:, 4] = 0.0, (x[-1] - x[0]) / max(x.size - 1, 1)
    n, last, height, falls = 0, np.nan, np.nan, np.nan
    for k in range(x.size):
        if k > 0 and (seen[k] >= 0.5) != (seen[k - 1] >= 0.5):
            place = x[k - 1] + (0.5 - seen[k - 1]) / (seen[k] - seen[k - 1]) * (x[k] - x[k - 1])
            if seen[k] < 0.5:
                falls, last = place, height
            elif place - falls > least_gap:
                found[n, :3] = falls, last, falls - place
                found[n + 1, :3] = place, z[k], place - falls
                n += 2
        if seen[k] >= 0.5 and not math.isnan(z[k]):
            height = z[k]
            if n and math.isnan(found[n - 1, 1]):
                found[n - 1, 1] = height
    return found[:n]


@compiled
def edge_candidates(x: FloatArray, z: FloatArray, inside: BoolArray, by: int, level: float) -> FloatArray:
    """(c, 5) place, height and steepness of all steps of one profile, in their order.

    Steepest places lie between neighbours, to fractions of a step by a parabola through three slopes. Where a
    step lies in a shadow, its edge is where its upper side was seen last. The rest: mm over which the step
    rises, 0 where points are missing on it, and mm from the point before the edge to the one behind it.
    """
    found = np.empty((x.size, 5))
    n = 0
    half = (x[-1] - x[0]) / max(x.size - 1, 1) / 2
    u, w = counted_points(x, z, inside)
    if by == LEVEL:
        for k in range(u.size - 1):
            if (w[k] > level) != (w[k + 1] > level):
                rise, run = w[k + 1] - w[k], u[k + 1] - u[k]
                place = u[k] + (level - w[k]) / rise * run
                wide = rise_width(u, w, k, 2.0 * half)
                if run > SHADOWED * 2.0 * half:
                    place, run = u[k] + half if rise < 0.0 else u[k + 1] - half, 2.0 * half
                found[n] = place, level, rise / (u[k + 1] - u[k]), wide, run
                n += 1
        return found[:n]
    slopes = np.empty(max(u.size - 1, 0))
    for k in range(slopes.size):
        slopes[k] = (w[k + 1] - w[k]) / (u[k + 1] - u[k])
    for k in range(slopes.size):
        size = abs(slopes[k])
        before = abs(slopes[k - 1]) if k > 0 else -1.0
        after = abs(slopes[k + 1]) if k + 1 < slopes.size else -1.0
        if size == 0.0 or size <= before or size < after:
            continue
        shift = 0.0
        if 0 < k < slopes.size - 1 and slopes[k - 1] * slopes[k] > 0.0 and slopes[k + 1] * slopes[k] > 0.0:
            bend = before - 2 * size + after
            shift = 0.5 * (before - after) / bend if bend < 0.0 else 0.0
        run = u[k + 1] - u[k]
        place = (u[k] + u[k + 1]) / 2 + shift * run
        wide = rise_width(u, w, k, 2.0 * half)
        if run > SHADOWED * 2.0 * half:
            # an edge throws its shadow to its lower side, so it lies just behind the last point above
            place, run = u[k] + half if slopes[k] < 0.0 else u[k + 1] - half, 2.0 * half
        # half a step at most, so it stays between these two points
        found[n] = place, w[k] + slopes[k] * (place - u[k]), slopes[k], wide, run
        n += 1
    return found[:n]


@compiled
def _rounded_end(
    x: FloatArray, z: FloatArray, seen: FloatArray, place: float, way: float, rounded: tuple[float, float]
) -> float:
    """Vertical tangent of a rounding of known radius at the end of the data; NaN with too little data.

    way: 1 where the surface lies at smaller x, -1 where at larger. Each sample on the rounding says where its
    circle, tangent to the surface behind it, ends; those on which it is steep say it best. rounded: its radius,
    and mm between the points that heights are interpolated in, which straight lines make lower in between.
    """
    radius, apart = rounded
    u, w = np.empty(x.size), np.empty(x.size)
    n = 0
    for k in range(x.size):
        behind = way * (place - x[k])
        if seen[k] >= WHOLLY and not math.isnan(z[k]) and 1.5 * radius < behind < 1.5 * radius + GROUND:
            u[n], w[n] = x[k], z[k]
            n += 1
    if n < LEVEL_FEW:
        return np.nan
    a, b, _ = robust_line(u[:n], w[:n], LEVEL_FLOOR)
    total = weights = 0.0
    for k in range(x.size):
        depth = a + b * x[k] - z[k]
        on = seen[k] >= WHOLLY and -0.5 * radius < way * (place - x[k]) < 1.5 * radius
        if on and 0.0 < depth < radius:
            # the mean of straight lines between points of an arc lies this much inside it
            depth -= apart**2 / 12.0 * radius**2 / (radius - depth) ** 3
        if not on or not ROUNDING[0] * radius < depth < ROUNDING[1] * radius:
            continue
        run = math.sqrt(2.0 * radius * depth - depth * depth)
        weight = (run / (radius - depth)) ** 2
        total += weight * (x[k] + way * (radius - run))
        weights += weight
    return total / weights if weights > 0.0 else np.nan


@compiled
def edges(
    x: FloatArray,
    z: FloatArray,
    inside: BoolArray,
    seen: FloatArray,
    by: int,
    level: float,
    least_gap: float,
    change: int,
    pick: int,
    sensitivity: float,
    near: FloatArray,
    rounded: tuple[float, float],
) -> FloatArray:
    """Place, height, steepness, how many could have been taken, and what else `edge_candidates` tells of it.

    seen: (n, m) as for `ends`, not looked at for steps.
    change: 1 rising, -1 falling, 0 either. sensitivity: share of the strongest edge below which one does not
    count. near: (n,) places in mm that the nearest one is wanted to. rounded: radius in mm of ends, 0 where
    they are sharp, and mm between points of the map that heights are interpolated in, 0 where they are not.
    """
    out = np.zeros((z.shape[0], EDGE_WIDTH))
    for row in range(z.shape[0]):
        count = 0
        for k in range(x.size):
            count += inside[row, k]
        if count < 3:
            out[row, 0], out[row, 4] = FEW, count
            continue
        if by == DATA:
            found = ends(x, z[row], seen[row], least_gap)
        else:
            found = edge_candidates(x, z[row], inside[row], by, level)
        strongest = 0.0
        for k in range(found.shape[0]):
            if change == 0 or found[k, 2] * change > 0.0:
                strongest = max(strongest, abs(found[k, 2]))
        best, taken = -1, 0
        for k in range(found.shape[0]):
            wanted = change == 0 or found[k, 2] * change > 0.0
            if not wanted or abs(found[k, 2]) < sensitivity * strongest or found[k, 2] == 0.0:
                continue
            taken += 1
            stronger = best < 0 or abs(found[k, 2]) > abs(found[best, 2])
            nearer = best < 0 or abs(found[k, 0] - near[row]) < abs(found[best, 0] - near[row])
            if best < 0 or pick == LAST or (pick == STRONGEST and stronger) or (pick == NEAREST and nearer):
                best = k
        if best < 0:
            out[row, 0] = NONE
            continue
        out[row, 1:4] = found[best, :3]
        out[row, 4] = taken
        out[row, 5:7] = found[best, 3:]
        if by == DATA and rounded[0] > 0.0:
            way = -1.0 if found[best, 2] > 0.0 else 1.0
            place = _rounded_end(x, z[row], seen[row], found[best, 0], way, rounded)
            out[row, 1] = place
            if not abs(place - found[best, 0]) <= rounded[0]:
                out[row, 0] = HIDDEN
    return out
