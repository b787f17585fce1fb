"""Compiled measuring of seams and trimmed edges on sections: one call takes all sections of a path."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.bead_base_kernels import FEW, line_of

STATE, GAP, FLUSH, CENTRE, LEFT, RIGHT, LEFT_HEIGHT, LEFT_SLOPE, RIGHT_HEIGHT, RIGHT_SLOPE = range(10)
"""Columns of what is measured on each section."""
COLUMNS = 10
FOUND, CLOSED, NO_DATA, NO_LEFT, NO_RIGHT, LEFT_EDGE, RIGHT_EDGE, NO_ROUND, NO_GAP = range(9)
"""States of a section."""
DEEP = 2
"""Samples in a row that are an opening and no dropout."""
SHARP, ROUNDED = range(2)
BOTH, ONLY_LEFT, ONLY_RIGHT = range(3)
"""Mask of the sides present."""
ROUND_FEW, LARGEST = 3, 50.0
"""Points of a rounded edge that give its radius, and mm beyond which that is none."""
UPRIGHT = 3.0
"""Slope from which on a fall is an upright edge."""
BEGINS = 0.02
"""Depth below its surface from which on a rounded edge counts as round, mm."""


@lean
def _edge(
    u: FloatArray, z: FloatArray, line: tuple[float, float], way: int, inner: float, rule: tuple[float, float]
) -> tuple[int, float]:
    """Last sample on a surface inward, and where it ends; -1 where it continues to the end.

    way: 1 for the surface on the left. rule: mm of fall that ends it, mm that may be missing in between.
    """
    drop, bridge = rule
    n = u.size
    step = abs(u[1] - u[0])
    k = 0 if way > 0 else n - 1
    on, below = -1, 0
    while 0 <= k < n:
        h = z[k] - line[0] - line[1] * u[k]
        if not math.isnan(h):
            if abs(h) < drop:
                # what is missing in between, without the one step that neighbours are apart anyhow
                missing = abs(u[k] - u[on]) - step if on >= 0 else 0.0
                if on >= 0 and -way * u[on] < inner and (below >= DEEP or missing > bridge + 1e-9):
                    break
                on, below = k, 0
            elif h < 0.0:
                # depth that is seen is no dropout, however narrow it is
                below += 1
        k += way
    if on < 0 or on + way < 0 or on + way >= n:
        return -1, np.nan
    h = z[on] - line[0] - line[1] * u[on]
    after = z[on + way] - line[0] - line[1] * u[on + way]
    # between samples an upright edge may lie anywhere; where it slopes, it is where it has fallen so far
    if math.isnan(after) or after > -drop or h - after > UPRIGHT * step:
        return on, u[on] + way * step / 2.0
    return on, u[on] + (h + drop) / (h - after) * (u[on + way] - u[on])


@lean
def _narrow(u: FloatArray, z: FloatArray, line: tuple[float, float], inner: float, drop: float) -> float:
    """mm of the widest opening between the surfaces that is too narrow to end them; 0 where they touch.

    An opening is where several samples in a row are missing or lie below both surfaces.
    """
    widest, first = 0.0, -1
    for k in range(u.size):
        open_ = math.isnan(z[k]) or z[k] - line[0] - line[1] * u[k] < -drop
        if abs(u[k]) <= inner and open_:
            if first < 0:
                first = k
            if k - first + 1 >= DEEP:
                widest = max(widest, u[k] - u[first] + abs(u[1] - u[0]))
        else:
            first = -1
    return widest


@compiled
def _round_edge(u: FloatArray, z: FloatArray, line: tuple[float, float], way: int, on: int) -> float:
    """Outermost place of the circle that rounds an edge, tangent to its surface; NaN where it shows too little.

    Gauss-Newton on the distances, with the place where the rounding begins and its radius as unknowns.
    """
    n = u.size
    first = on
    while 0 <= first - way < n and not z[first] - line[0] - line[1] * u[first] > -BEGINS:
        first -= way
    x, d = np.empty(n), np.empty(n)
    count, k = 0, first + way
    while 0 <= k < n and not math.isnan(z[k]):
        depth = line[0] + line[1] * u[k] - z[k]
        # beyond where it stands upright a circle gives nothing more
        if count and (depth < d[count - 1] - BEGINS or depth - d[count - 1] > 4.0 * abs(u[1] - u[0])):
            break
        if depth > BEGINS:
            x[count], d[count] = way * (u[k] - u[first]), depth
            count += 1
        k += way
    if count < ROUND_FEW:
        return np.nan
    a, radius = _through_two(x[0], d[0], x[count - 1], d[count - 1])
    if math.isnan(a):
        return np.nan
    for _ in range(20):
        saa = sab = sbb = ra = rb = 0.0
        for k in range(count):
            p, q = x[k] - a, d[k] - radius
            far = max(math.hypot(p, q), 1e-9)
            da, db = -p / far, -q / far - 1.0
            left = far - radius
            saa += da * da
            sab += da * db
            sbb += db * db
            ra += da * left
            rb += db * left
        det = saa * sbb - sab * sab
        if det <= 1e-12:
            break
        step_a, step_r = (sab * rb - sbb * ra) / det, (sab * ra - saa * rb) / det
        a, radius = a + step_a, radius + step_r
        if not 0.0 < radius < LARGEST:
            return np.nan
        if abs(step_a) + abs(step_r) < 1e-7:
            break
    return float(u[first] + way * (a + radius))


@lean
def _through_two(x0: float, d0: float, x1: float, d1: float) -> tuple[float, float]:
    """Start and radius of the rounding: the circle tangent to the surface through two points."""
    low, high = d1 / 2.0, LARGEST
    run = x1 - x0
    for _ in range(60):
        radius = (low + high) / 2.0
        apart = math.sqrt(max(2 * radius * d1 - d1 * d1, 0.0)) - math.sqrt(max(2 * radius * d0 - d0 * d0, 0.0))
        if apart < run:
            low = radius
        else:
            high = radius
    if high > 0.99 * LARGEST or low < 0.5001 * d1:
        return np.nan, np.nan
    return x0 - math.sqrt(max(2 * low * d0 - d0 * d0, 0.0)), low


@compiled
def _fill_flush(u: FloatArray, z: FloatArray, inner: float, floor: float, one: FloatArray) -> None:
    """The surfaces on both sides of a closed gap, and the height of the left above the right one."""
    for way, first in ((1, LEFT_HEIGHT), (-1, RIGHT_HEIGHT)):
        x, y, n = np.empty(u.size), np.empty(u.size), 0
        for k in range(u.size):
            if -way * u[k] >= inner and not math.isnan(z[k]):
                x[n], y[n] = u[k], z[k]
                n += 1
        if n < FEW:
            return
        one[first], one[first + 1] = line_of(x[:n], y[:n], floor)
    one[FLUSH] = one[LEFT_HEIGHT] - one[RIGHT_HEIGHT]


@compiled
def seams(
    u: FloatArray,
    z: FloatArray,
    inner: float,
    drop: float,
    edges: int,
    sides: int,
    least_data: float,
    bridge: float,
    floor: float,
) -> FloatArray:
    """(n, COLUMNS) gap and flush on each section; NaN where they are not known.

    u (m,) mm to the right of the path, z (n, m) mm. inner: mm from the path where the surfaces on either side
    begin to be fitted. drop: mm of fall below its surface that ends it. sides: with one only, the centre is its
    edge. least_data: share of a side that must hold data. bridge: mm that may be missing in a surface.
    """
    out = np.full((z.shape[0], COLUMNS), np.nan)
    x, y = np.empty(u.size), np.empty(u.size)
    for row in range(z.shape[0]):
        one = out[row]
        one[STATE] = FOUND
        for way in (1, -1):
            if (way > 0 and sides == ONLY_RIGHT) or (way < 0 and sides == ONLY_LEFT):
                continue
            n = asked = 0
            for k in range(u.size):
                if -way * u[k] >= inner:
                    asked += 1
                    if not math.isnan(z[row, k]):
                        x[n], y[n] = u[k], z[row, k]
                        n += 1
            if n < FEW or n < least_data * asked:
                one[STATE] = NO_LEFT if way > 0 else NO_RIGHT
                break
            line = line_of(x[:n], y[:n], floor)
            on, at = _edge(u, z[row], line, way, inner, (drop, bridge))
            if on >= 0 and edges == ROUNDED:
                at = _round_edge(u, z[row], line, way, on)
                if math.isnan(at):
                    one[STATE] = NO_ROUND
                    break
            if math.isnan(at) and sides == BOTH and on < 0:
                # it continues to the end, so that the gap is closed, or too narrow to end a surface
                one[STATE] = CLOSED
                one[GAP] = _narrow(u, z[row], line, inner, drop)
                break
            if math.isnan(at):
                one[STATE] = LEFT_EDGE if way > 0 else RIGHT_EDGE
                break
            first = LEFT_HEIGHT if way > 0 else RIGHT_HEIGHT
            one[first], one[first + 1] = line
            one[LEFT if way > 0 else RIGHT] = at
        if one[STATE] == CLOSED:
            one[CENTRE] = 0.0
            _fill_flush(u, z[row], inner, floor, one)
        if one[STATE] != FOUND:
            continue
        if sides != BOTH:
            one[CENTRE] = one[LEFT] if sides == ONLY_LEFT else one[RIGHT]
            continue
        one[GAP] = one[RIGHT] - one[LEFT]
        one[CENTRE] = (one[RIGHT] + one[LEFT]) / 2.0
        if not one[GAP] > 0.0:
            one[STATE], one[GAP] = NO_GAP, np.nan
            continue
        one[FLUSH] = one[LEFT_HEIGHT] - one[RIGHT_HEIGHT] + (one[LEFT_SLOPE] - one[RIGHT_SLOPE]) * one[CENTRE]
    return out
