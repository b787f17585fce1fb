"""Compiled measuring of beads and grooves on sections: one call takes all sections of a path."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.bead_base_kernels import FEW, PLANE, STEP, fit_bases, parabola
from hemtra.core.geometry.bead_flank_kernels import flank_end, smeared_area
from hemtra.core.geometry.middle import middle_of

(
    STATE,
    WIDTH,
    HEIGHT,
    AREA,
    OFFSET,
    LEAN,
    ANGLE_LEFT,
    ANGLE_RIGHT,
    VOID,
    LEFT,
    RIGHT,
    CREST,
    LEFT_BASE,
    RIGHT_BASE,
    CENTROID,
) = range(15)
"""Columns of what is measured on each section."""
BASES = 15
"""First of six columns: height, slope and bend at u = 0 of the base on the left, and on the right."""
COLUMNS = BASES + 6
FOUND, ABSENT, NO_DATA, NO_BASE, LEFT_HIDDEN, RIGHT_HIDDEN, TWO, WIDE, TOP_HIDDEN = range(9)
"""States of a section."""
NONE_OF_TWO, HIGHEST, NEAREST = range(3)

TOP = 0.03
"""Share of the height within which samples about the highest one are its top, and by which it may rise in a
hole between them."""
RISES_ON = 0.01
"""Share of the height that a hole in the data beside the top may hide."""
APART = 0.5
"""Of the narrower of two rises, the valley between them from which on they are two."""
WIDER, BASE_ROOM = 4, 0.02
"""Times that the base is begun farther out, and share of a bead's width that it may lie over its beginning."""
NEIGHBOURS, FILLED = 200, -1e9
"""Sections either way in which the slope of a half seen base is looked for, and the mark of those filled so."""


@lean
def _interpolate_base_slope(table: FloatArray) -> None:
    """Bases of which one side was seen get the slope of the nearest sections that show both."""
    n = table.shape[0]
    for row in range(n):
        one = table[row]
        if one[STATE] != FOUND or not math.isnan(one[BASES + 1]):
            continue
        slope, found = 0.0, 0
        for way in (-1, 1):
            for far in range(1, NEIGHBOURS):
                # a closed path continues at its other end; on an open one what is there is as good as any
                other = table[(row + way * far) % n]
                if other[STATE] == FOUND and not math.isnan(other[BASES + 1]) and other[BASES + 5] != FILLED:
                    slope += other[BASES + 1]
                    found += 1
                    break
        if not found:
            one[STATE] = NO_BASE
            continue
        slope /= found
        height = one[BASES] - slope * one[BASES + 2]
        one[BASES], one[BASES + 1], one[BASES + 2] = height, slope, 0.0
        one[BASES + 3], one[BASES + 4], one[BASES + 5] = height, slope, FILLED
    for row in range(n):
        if table[row, BASES + 5] == FILLED:
            table[row, BASES + 5] = 0.0


@compiled
def running_median(values: FloatArray, reach: int, closed: bool) -> FloatArray:
    """(n, q) each the median of itself and `reach` neighbours either way; NaN stays, and does not count."""
    n = values.shape[0]
    out = values.copy()
    held = np.empty(2 * reach + 1)
    for column in range(values.shape[1]):
        for row in range(n):
            if math.isnan(values[row, column]):
                continue
            count = 0
            for k in range(row - reach, row + reach + 1):
                if closed or 0 <= k < n:
                    value = values[k % n, column]
                    if not math.isnan(value):
                        held[count] = value
                        count += 1
            out[row, column] = middle_of(held, count)
    return out


@compiled
def _rise(u: FloatArray, h: FloatArray, level: float, several: int) -> tuple[int, int, bool]:
    """First and last sample of the rise above a level that counts, -1 without; and whether there are two."""
    first, last = -1, -1
    low, high = np.empty(h.size, np.int64), np.empty(h.size, np.int64)
    count = 0
    for k in range(h.size):
        if math.isnan(h[k]):
            continue
        if h[k] > level:
            if first < 0:
                first = k
            last = k
        elif first >= 0:
            low[count], high[count] = first, last
            count, first = count + 1, -1
    if first >= 0:
        low[count], high[count] = first, last
        count += 1
    # a hole in a bead does not make it two, and a stray spot of one sample is none
    kept = 0
    for k in range(count):
        if kept and _one_of(u, low[kept - 1], high[kept - 1], low[k], high[k]):
            high[kept - 1] = high[k]
        else:
            low[kept], high[kept] = low[k], high[k]
            kept += 1
    best, second = -1, False
    score = -np.inf
    for k in range(kept):
        if high[k] - low[k] < 2:
            continue
        if best >= 0:
            second = True
        top = -np.inf
        for j in range(low[k], high[k] + 1):
            if h[j] > top:
                top = h[j]
        value = -abs(u[low[k]] + u[high[k]]) if several == NEAREST else top
        if value > score:
            best, score = k, value
    if best < 0:
        return -1, -1, False
    return low[best], high[best], second


@lean
def _one_of(u: FloatArray, a: int, b: int, c: int, d: int) -> bool:
    """Whether two neighbouring rises are one with a hole in it."""
    return bool(u[c] - u[b] < APART * min(u[b] - u[a], u[d] - u[c]))


@compiled
def _top(u: FloatArray, h: FloatArray, first: int, last: int) -> tuple[float, float, bool]:
    """Position and height of the peak, by a parabola about the highest sample; and whether it was seen."""
    peak = first
    for k in range(first, last + 1):
        if h[k] > h[peak]:
            peak = k
    left, right, n = peak, peak, 1
    while left > first and not h[left - 1] < (1.0 - TOP) * h[peak]:
        left -= 1
        n += not math.isnan(h[left])
    while right < last and not h[right + 1] < (1.0 - TOP) * h[peak]:
        right += 1
        n += not math.isnan(h[right])
    while n < 5 and (left > first or right < last):
        # a sharp top: the higher neighbours count, too
        if right == last or (left > first and not h[left - 1] < h[right + 1]):
            left -= 1
            n += not math.isnan(h[left])
        else:
            right += 1
            n += not math.isnan(h[right])
    x, y = np.empty(n), np.empty(n)
    n = 0
    for k in range(left, right + 1):
        if not math.isnan(h[k]):
            x[n], y[n] = u[k], h[k]
            n += 1
    fit = parabola(x, y, np.ones(n)) if n >= 4 else np.full(3, np.nan)
    at, height = u[peak], h[peak]
    if not math.isnan(fit[0]):
        if fit[2] < 0.0:
            at = -fit[1] / (2.0 * fit[2])
        at = min(max(at, x[0]), x[n - 1])
        height = fit[0] + fit[1] * at + fit[2] * at * at
    hides = max(_hidden_rise(u, h, left, -1, fit), _hidden_rise(u, h, right, 1, fit))
    # written so that a parabola that opens upward, or none, says nothing of a hole
    between = n <= right - left and not (fit[2] < 0.0 and height - h[peak] <= TOP * height)
    return at, height, hides <= RISES_ON * height and not between


@lean
def _hidden_rise(u: FloatArray, h: FloatArray, end: int, way: int, fit: FloatArray) -> float:
    """How far the parabola of a top rises into the hole at its end; infinite where there is no parabola."""
    seen = far = end
    while math.isnan(h[seen]):
        seen -= way
    while 0 <= far + way < u.size and math.isnan(h[far + way]):
        far += way
    if far == seen:
        return 0.0
    if math.isnan(fit[0]):
        return np.inf
    room, slope = abs(u[far] - u[seen]), way * (fit[1] + 2.0 * fit[2] * u[seen])
    if slope <= 0.0:
        return 0.0
    if fit[2] < 0.0:
        room = min(room, -slope / (2.0 * fit[2]))
    return float(slope * room + fit[2] * room * room)


@compiled
def _void(h: FloatArray, first: int, last: int, spacing: float) -> float:
    """Area that water would fill on top of it, mm²."""
    left = np.empty(last - first + 1)
    top = -np.inf
    for k in range(first, last + 1):
        if h[k] > top:
            top = h[k]
        left[k - first] = top
    total, top = 0.0, -np.inf
    for k in range(last, first - 1, -1):
        if h[k] > top:
            top = h[k]
        if not math.isnan(h[k]):
            total += max(min(top, left[k - first]) - h[k], 0.0) * spacing
    return total


@lean
def _fill_area(u: FloatArray, h: FloatArray, out: FloatArray) -> None:
    """Area and centroid between the edges, by trapezes from one to the other; a gap is bridged by a cubic."""
    left, right = out[LEFT], out[RIGHT]
    area = moment = 0.0
    at, level, before = left, max(_level(u, h, left), 0.0), -1
    for k in range(u.size + 1):
        if k < u.size and (u[k] <= left or u[k] >= right or math.isnan(h[k])):
            continue
        x = u[k] if k < u.size else right
        y = h[k] if k < u.size else max(_level(u, h, right), 0.0)
        part = (level + y) / 2.0 * (x - at)
        if 0 < before < k - 1 < u.size - 2 and u[before - 1] > left and u[k + 1] < right:
            # what the cubic through both ends of a gap, with their slopes on the bead, has above its chord
            bend = (h[before] - h[before - 1] - h[k + 1] + h[k]) / (u[1] - u[0]) * (x - at) ** 2 / 12.0
            if not math.isnan(bend):
                part += bend
        before = k
        area += part
        if level + y > 0.0:
            moment += part * (at + (x - at) * (level + 2.0 * y) / (3.0 * (level + y)))
        at, level = x, y
    out[AREA] = area
    out[CENTROID] = moment / area if area > 0.0 else (left + right) / 2.0


@compiled
def _level(u: FloatArray, h: FloatArray, at: float) -> float:
    """Height between two samples; zero where one is missing: the edge is then a toe."""
    k = int((at - u[0]) / (u[1] - u[0]))
    if k < 0 or k >= u.size - 1 or math.isnan(h[k]) or math.isnan(h[k + 1]):
        return 0.0
    f = (at - u[k]) / (u[k + 1] - u[k])
    return float((1.0 - f) * h[k] + f * h[k + 1])


@lean
def _contact(per_height: float, slope: float) -> float:
    """Angle between a flank, du/dh above a base of some slope, and the base, degrees."""
    steep = 90.0 if per_height == 0.0 else math.degrees(math.atan(abs(1.0 / per_height + slope)))
    return abs(steep - math.degrees(math.atan(abs(slope))) * (1.0 if per_height * slope > 0.0 else -1.0))


@compiled
def beads(
    u: FloatArray,
    z: FloatArray,
    inner: float,
    base: int,
    edges: int,
    at: float,
    least: float,
    several: int,
    least_data: float,
    bridge: float,
    floor: float,
) -> FloatArray:
    """(n, COLUMNS) the bead on each section; NaN where it is not known.

    u (m,) mm to the right of the path, z (n, m) mm. inner: mm from the path where the base begins on either
    side. at: level in mm or share of the height for the edges. least: mm that is a bead. several: which one
    counts where there are two. least_data: share of a section that must hold data. bridge: mm of hidden flank
    that still exceeds what is beside it. floor: mm by which a base may be off anywhere.
    """
    out = np.full((z.shape[0], COLUMNS), np.nan)
    h = np.empty(u.size)
    spacing = u[1] - u[0]
    for row in range(z.shape[0]):
        one = out[row]
        one[STATE], one[BASES:] = FOUND, 0.0
        held = 0
        for k in range(u.size):
            held += not math.isnan(z[row, k])
        if held < least_data * u.size or held < FEW:
            one[STATE] = NO_DATA
            continue
        if not fit_bases(u, z[row], inner, base, floor, one[BASES:]):
            one[STATE] = NO_BASE
    _interpolate_base_slope(out)
    for row in range(z.shape[0]):
        one = out[row]
        if one[STATE] != FOUND:
            continue
        begins = inner
        for _ in range(WIDER):
            first, last = _one_bead(u, z[row], h, begins, base, edges, at, least, several, bridge, one)
            if one[STATE] == ABSENT and _hides(u, z[row], begins, bridge):
                one[STATE] = NO_DATA
            if one[STATE] != FOUND:
                break
            reach = max(-one[LEFT], one[RIGHT])
            if base == PLANE or reach <= begins + BASE_ROOM * one[WIDTH]:
                one[VOID] = _void(h, first, last, spacing)
                break
            # it lies on what was taken for its base, which begins farther out then
            begins = reach + BASE_ROOM * one[WIDTH]
            one[WIDTH:BASES], one[BASES:] = np.nan, 0.0
            both = fit_bases(u, z[row], begins, base, floor, one[BASES:])
            one[STATE] = FOUND if both and not math.isnan(one[BASES + 1]) else WIDE
            if one[STATE] == WIDE:
                break
        if one[STATE] == FOUND and math.isnan(one[VOID]):
            one[WIDTH:BASES] = np.nan
            one[STATE] = WIDE
    return out


@lean
def _hides(u: FloatArray, z: FloatArray, inner: float, bridge: float) -> bool:
    """Whether what was not seen between the bases on either side is wide enough to hide what is looked for."""
    last = -1
    for k in range(u.size):
        if math.isnan(z[k]):
            continue
        apart = u[k] - u[last] if last >= 0 else u[k] - u[0]
        if apart > bridge and u[k] > -inner and (last < 0 or u[last] < inner):
            return True
        last = k
    return last >= 0 and u[-1] - u[last] > bridge and u[last] < inner


@compiled
def _one_bead(
    u: FloatArray,
    z: FloatArray,
    h: FloatArray,
    inner: float,
    base: int,
    edges: int,
    at: float,
    least: float,
    several: int,
    bridge: float,
    one: FloatArray,
) -> tuple[int, int]:
    """Measures one section above its base; heights go to h (m,). First and last sample that rise."""
    a, b = one[BASES : BASES + 3], one[BASES + 3 :]
    for k in range(u.size):
        f = min(max((u[k] + inner) / (2.0 * inner), 0.0), 1.0)
        under = (1.0 - f) * (a[0] + a[1] * u[k] + a[2] * u[k] ** 2)
        h[k] = z[k] - under - f * (b[0] + b[1] * u[k] + b[2] * u[k] ** 2)
    first, last, two = _rise(u, h, least, several)
    if first < 0:
        one[STATE] = ABSENT
    elif two and several == NONE_OF_TWO:
        one[STATE] = TWO
    else:
        _measure(u, z, h, first, last, base, edges, at, bridge, one)
    return first, last


@compiled
def _measure(
    u: FloatArray,
    z: FloatArray,
    h: FloatArray,
    first: int,
    last: int,
    base: int,
    edges: int,
    at: float,
    bridge: float,
    one: FloatArray,
) -> None:
    """Sizes of one bead, in the columns of its section."""
    a, b = one[BASES : BASES + 3], one[BASES + 3 :]
    one[STATE] = FOUND
    crest, height, seen = _top(u, h, first, last)
    if not seen:
        one[STATE] = TOP_HIDDEN
        return
    per_left = per_right = 0.0
    for _ in range(2 if base == STEP else 1):
        one[CREST], one[HEIGHT] = crest, height
        left, right = h, h
        if base == STEP:
            # each flank goes down to the base on its own side
            left = z - a[0] - a[1] * u
            right = z - b[0] - b[1] * u
        for way in range(-1, 2, 2):
            # a constant in its place would have the kernel compiled for either side
            side = left if way < 0 else right
            toe, per_height = flank_end(u, side, (first, last), height, way, (edges, at, bridge))
            if way < 0:
                one[LEFT], per_left = toe, per_height
            else:
                one[RIGHT], per_right = toe, per_height
        if math.isnan(one[LEFT]) or math.isnan(one[RIGHT]):
            one[STATE] = LEFT_HIDDEN if math.isnan(one[LEFT]) else RIGHT_HIDDEN
            return
        x, y = one[LEFT], one[RIGHT]
        one[LEFT_BASE] = a[0] + a[1] * x + a[2] * x * x
        one[RIGHT_BASE] = b[0] + b[1] * y + b[2] * y * y
        if base == STEP and y > x:
            # under the bead the base runs straight from toe to toe
            for k in range(u.size):
                f = min(max((u[k] - x) / (y - x), 0.0), 1.0)
                h[k] = z[k] - ((1.0 - f) * (a[0] + a[1] * u[k]) + f * (b[0] + b[1] * u[k]))
                if x < u[k] < y:
                    h[k] = z[k] - ((1.0 - f) * one[LEFT_BASE] + f * one[RIGHT_BASE])
            crest, height, _ = _top(u, h, first, last)
            one[CREST], one[HEIGHT] = crest, height
    one[WIDTH] = one[RIGHT] - one[LEFT]
    if not one[WIDTH] > 0.0:
        one[STATE] = LEFT_HIDDEN
        one[WIDTH] = np.nan
        return
    one[OFFSET] = (one[LEFT] + one[RIGHT]) / 2.0
    slope = a[1] + 2.0 * a[2] * one[LEFT], b[1] + 2.0 * b[2] * one[RIGHT]
    one[ANGLE_LEFT], one[ANGLE_RIGHT] = _contact(per_left, slope[0]), _contact(per_right, slope[1])
    _fill_area(u, h, one)
    for per_height in (per_left, per_right):
        one[AREA] += smeared_area(per_height, height, u[1] - u[0], edges)
    one[LEAN] = 100.0 * (one[CENTROID] - one[OFFSET]) / one[WIDTH]
