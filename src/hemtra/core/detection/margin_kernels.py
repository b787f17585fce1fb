"""Compiled: the line or circle that best parts the points of a map on a level from those beyond its edge.

Where a level ends at a wall or a shadow, a map shows of each of its points only on which side of the edge it
lies. Logistic regression (Cox 1958) takes all of them: where one curve parts them cleanly it comes to lie in
the middle of the widest margin between both, and where noise or the sensor's own spacing mixes them, where
they are likeliest.
"""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, Heights
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.solving import solved

BAND = 1.5
"""Points of the map on either side of a first fit that are asked."""
ROUNDS, ENOUGH = 30, 0.2
"""Steps of the regression at most, and the gain in likelihood for each point after which it has settled."""
SHARP = 2.0
"""Points that still add something; with fewer the margin is clean, and only gets sharper."""
WIDE, WIDE_LINE = 3.0, 2.0
"""Standard errors by which a rim, or a line, may lie off where points are mixed.

A line crosses the columns all along in one direction, so that what its points are off by evens out better.
"""
CERTAIN = 14.0
"""Logarithm of the odds from which on a point has nothing to add."""
LINE = 3
"""Weights that make a line; a circle takes one more."""
FEWEST = 12
"""Points needed on each side."""
SAME = 2.0
"""Largest shift of a rim by another way to count its points, in multiples of its margin."""
UNMIXED = 0.2
"""The residual of the mixing of both sides where a rim runs along the rows, of that where it crosses them.

The points of a sensor lie anywhere between two columns and are brought onto these; from row to row nothing is.
"""


@compiled
def parted_by_line(
    z: Heights,
    grid: tuple[float, float, float, float],
    frame: tuple[float, float, float, float],
    half: float,
    line: tuple[float, float],
    level: tuple[float, float, float],
    falls: float,
    shadow: bool,
    good: BoolArray,
) -> tuple[float, float, float]:
    """Moves of place and slope of a first line, and mm it may lie off; NaN where that is unknown.

    grid: x0, y0, dx, dy. frame: x, y of the zone and the unit vector of its u axis; v is to its left, from
    -half to half. line: u = a + b v. level: height a + b v of the high side, and how far below it a point no
    longer belongs to it. falls: 1 where the surface falls along u, -1 where it rises. shadow: a
    missing point lies beyond the edge, else it says nothing. good: stretches of v, of
    equal length, in which points count.
    """
    x0, y0, dx, dy = grid
    x, y, c, s = frame
    rows, cols = z.shape
    spacing = max(dx, dy)
    reach = abs(line[0]) + abs(line[1]) * half + BAND * spacing
    wide, high = abs(c) * reach + abs(s) * half, abs(s) * reach + abs(c) * half
    j0, j1 = max(math.ceil((x - wide - x0) / dx), 1), min(math.floor((x + wide - x0) / dx), cols - 2)
    i0, i1 = max(math.ceil((y - high - y0) / dy), 1), min(math.floor((y + high - y0) / dy), rows - 2)
    room = max(j1 - j0 + 1, 0) * max(i1 - i0 + 1, 0)
    f, held = np.empty((room, 3)), np.empty(room, np.bool_)
    n = 0
    out = falls * c, falls * s
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            px, py = x0 + j * dx - x, y0 + i * dy - y
            u, v = px * c + py * s, -px * s + py * c
            d = u - line[0] - line[1] * v
            if abs(d) > BAND * spacing or abs(v) >= half:
                continue
            if (math.isnan(z[i, j]) and not shadow) or not good[int((v / half + 1.0) / 2.0 * good.size)]:
                continue
            on = z[i, j] >= level[0] + level[1] * v - level[2]
            if _agrees(z, i, j, out, on, level[0] + level[1] * v - level[2]):
                f[n, 0], f[n, 1], f[n, 2] = falls * d / spacing, v / half, 1.0
                held[n] = on
                n += 1
    b, spread, _ = _parted(f[:n], held[:n], np.ones(n))
    scale = -falls * spacing / b[0]
    turned = scale * b[1] / half
    # a sensor's own points lie anywhere between two columns, the same on each row; only crossing columns helps
    climb = math.atan(line[1] + turned)
    across, along = (
        abs(c * math.cos(climb) + s * math.sin(climb)),
        abs(s * math.cos(climb) - c * math.sin(climb)),
    )
    columns = 2.0 * half * along / dx
    return scale * b[2], turned, spread * spacing + dx / 2.0 * across / (1.0 + columns)


@compiled
def parted_by_circle(
    z: Heights,
    grid: tuple[float, float, float, float],
    circle: tuple[float, float, float],
    plane: tuple[float, float, float, float],
    middle: tuple[float, float],
    falls: float,
    shadow: bool,
    good: BoolArray,
) -> tuple[float, float, float, float]:
    """Moves of centre and radius of a first circle, and mm it may lie off; NaN where that is unknown.

    circle: x, y, radius in the plane of the rim. plane: height at its centre and slopes of that plane in x and
    y, and how far below it a point no longer belongs to it. middle: about which stretches of angle count that
    are `good`, from 0 on. falls: 1 where the surface falls outward, -1 where it rises.
    shadow: a missing point lies beyond the rim, else it says nothing. Moves are in the plane.
    """
    x0, y0, dx, dy = grid
    x, y, radius = circle
    rows, cols = z.shape
    spacing = max(dx, dy)
    reach = radius + BAND * spacing
    steep = math.hypot(plane[1], plane[2])
    longer = math.hypot(1.0, steep) - 1.0
    ux, uy = (plane[1] / steep, plane[2] / steep) if steep > 0.0 else (0.0, 0.0)
    j0, j1 = max(math.ceil((x - reach - x0) / dx), 1), min(math.floor((x + reach - x0) / dx), cols - 2)
    i0, i1 = max(math.ceil((y - reach - y0) / dy), 1), min(math.floor((y + reach - y0) / dy), rows - 2)
    nearest, farthest = max(radius - BAND * spacing, 0.0) ** 2, (radius + BAND * spacing) ** 2
    room = max(j1 - j0 + 1, 0) * max(i1 - i0 + 1, 0)
    f, held = np.empty((room, 4)), np.empty(room, np.bool_)
    mixing, counts = np.empty(room), np.empty(room)
    n = 0
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            px, py = x0 + j * dx - x, y0 + i * dy - y
            along = longer * (px * ux + py * uy)
            u, v = px + along * ux, py + along * uy
            square = u * u + v * v
            if not nearest <= square <= farthest or (math.isnan(z[i, j]) and not shadow):
                continue
            turn = math.atan2(y0 + i * dy - middle[1], x0 + j * dx - middle[0]) / (2.0 * math.pi)
            if not good[int((turn % 1.0) * good.size + 0.5) % good.size]:
                continue
            least = plane[0] + plane[1] * px + plane[2] * py - plane[3]
            on = z[i, j] >= least
            if _agrees(z, i, j, (falls * u, falls * v), on, least):
                f[n, 0] = falls * (square - radius * radius) / (2.0 * radius * spacing)
                f[n, 1], f[n, 2], f[n, 3] = u / radius, v / radius, 1.0
                # both sides of the rim mix as far along a row as it crosses rows
                mixing[n] = (UNMIXED + abs(u) / radius) / (UNMIXED + 1.0)
                # and where it runs along the columns, rows one after the other see it from the same points
                counts[n] = min(1.0, dy * abs(v) / max(dx * abs(u), 1e-12))
                held[n] = on
                n += 1
    b, spread, margin = _parted(f[:n], held[:n], np.ones(n))
    scale = -falls * spacing / b[0]
    if not margin > 0.0:
        for k in range(n):
            for a in range(f.shape[1]):
                f[k, a] /= mixing[k]
        other, wide, _ = _parted(f[:n], held[:n], counts[:n])
        its = -falls * spacing / other[0]
        # farther apart than the points explain it is not round, and all of it counts alike
        if _apart(its, other, scale, b) <= SAME * wide * spacing:
            b, spread, scale = other, wide, its
    mx, my = scale * b[1], scale * b[2]
    grown = math.sqrt(max(radius * radius + 2.0 * radius * scale * b[3] + mx * mx + my * my, 0.0))
    return mx, my, grown - radius, spread * spacing


@lean
def _apart(one: float, of_one: FloatArray, other: float, of_other: FloatArray) -> float:
    """Distance of two rims by their weights without the first, each times a scale."""
    total = 0.0
    for a in range(1, of_one.size):
        total = math.hypot(total, one * of_one[a] - other * of_other[a])
    return total


@lean
def _agrees(z: Heights, i: int, j: int, out: tuple[float, float], on: bool, least: float) -> bool:
    """Whether the next point inward, or outward of one beyond the edge, lies on the same side: no dropout."""
    u, v = out
    big = max(abs(u), abs(v), 1e-12)
    way = -1.0 if on else 1.0
    other = z[i + round(way * v / big), j + round(way * u / big)]
    return bool((other >= least) == on)


@compiled
def _parted(f: FloatArray, held: BoolArray, counts: FloatArray) -> tuple[FloatArray, float, float]:
    """Weights of features f (n, p), the first a distance in points, for `held`.

    Besides, the points that it may lie off, and the margin in points by which it parts them, below zero where
    they are mixed. counts: (n,) by how much each counts, 0 to 1.
    """
    n, p = f.shape
    b = np.full(p, np.nan)
    count = 0
    for k in range(n):
        count += held[k]
    if min(count, n - count) < FEWEST:
        return b, np.nan, np.nan
    b[:] = 0.0
    b[0] = -4.0
    last = -np.inf
    hessian: FloatArray = np.eye(p)
    step: FloatArray = np.zeros(p)
    stride = 1.0
    for _ in range(ROUNDS):
        likely = 0.0
        total = 0.0
        slope = np.zeros(p)
        bend: FloatArray = np.zeros((p, p))
        for k in range(n):
            score = 0.0
            for a in range(p):
                score += b[a] * f[k, a]
            sure = score if held[k] else -score
            if sure > CERTAIN:
                continue
            wrong = math.exp(-max(sure, -CERTAIN))
            likely -= counts[k] * (math.log1p(wrong) if sure > -CERTAIN else -sure)
            missed = counts[k] * wrong / (1.0 + wrong)
            if not held[k]:
                missed = -missed
            weight = abs(missed) / (1.0 + wrong)
            total += weight
            for a in range(p):
                slope[a] += missed * f[k, a]
                for c in range(a + 1):
                    bend[a, c] += weight * f[k, a] * f[k, c]
        if likely < last:
            # too far; a part of the last step
            stride /= 2.0
            for a in range(p):
                b[a] -= step[a] * stride
            if stride < 1e-3:
                break
            continue
        for a in range(p):
            bend[a, a] += 1e-9
            for c in range(a):
                bend[c, a] = bend[a, c]
        hessian = bend
        if total < SHARP or (likely - last < ENOUGH and last > -np.inf):
            break
        step, stride, last = solved(bend, slope), 1.0, likely
        for a in range(p):
            b[a] += step[a]
    margin = _margin(f, held, b)
    # of the last weight alone where it is a line: its slope is returned apart
    loose = 0.0
    for a in range(1 if p > LINE else p - 1, p):
        alone = np.zeros(p)
        alone[a] = 1.0
        loose = max(loose, solved(hessian, alone)[a])
    error = math.sqrt(loose) / abs(b[0])
    return b, margin + error if margin > 0.0 else (WIDE if p > LINE else WIDE_LINE) * error, margin


@lean
def _margin(f: FloatArray, held: BoolArray, b: FloatArray) -> float:
    """Points by which weights b (p,) of features f (n, p) part `held` from the others, below zero where not."""
    margin = np.inf
    for k in range(f.shape[0]):
        score = 0.0
        for a in range(f.shape[1]):
            score += b[a] * f[k, a]
        margin = min(margin, (score if held[k] else -score) / abs(b[0]))
    return margin
