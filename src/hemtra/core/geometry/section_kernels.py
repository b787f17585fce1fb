"""Compiled measuring of profiles: one call takes a zone of many profiles, a single section is a stack of one.

Each takes x (m,) in mm, heights z (n, m) in mm and which of them count, (n, m), and gives a row of numbers a
profile. The first number is 0 where something was measured, else the code of the reason.
"""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.bead_base_kernels import parabola
from hemtra.core.geometry.middle import middle_of
from hemtra.core.geometry.profile_fits import plain_line, robust_arc, robust_line

LONE, ABOUT = 8.0, 1.5
"""Times the usual step between neighbours, and times the range about it, by which a point is stray."""
DEEPER, AT_MOST, OF_NOISE = 0.02, 0.05, 3.0
"""Share of the depth that was seen by which what was not seen may change it, up to the second where there is
noise; and times the noise of one height that this leaves room for."""
FLOOR_SHARE = 0.9
"""Of the depth of a groove, beyond which a point lies on its flat floor."""
FOOT_OFF = 3.0
"""Standard deviations off the floor from which on a point belongs to the toe of a flank."""
ABOUT_DEEPEST, ABOUT_FEWEST, NEARLY = 0.15, 5, 0.95
"""Of the width of a groove at half its depth, and samples, to either side of its deepest place; and the share
of the depth from which on places are as deep."""
CLEARLY_SHARP, BENT, FLANKS = 0.4, 3.0, 0.3
"""Of the misfit of a parabola, below which two flanks fit better than their further number explains, times the
noise that it must be off in the first place, and the share of the width over which both are compared."""
BLUNT = 0.55
"""Points of the map to either side over which it makes a sharp bottom blunt."""
FEW, NONE, STRAIGHT, CUT_OFF, HIDDEN = 1.0, 2.0, 3.0, 4.0, 5.0
"""Reasons: too few points, nothing found, no curvature, reaching to the end of the zone, not seen."""

ROUNDS = 30
"""Times that the upper or lower points of a line are chosen anew."""

LINE_WIDTH, ARC_WIDTH, EDGE_WIDTH, GROOVE_WIDTH, CORNER_WIDTH, LEVEL_WIDTH = 8, 9, 7, 10, 7, 7
SHADOWED = 3.5
"""Number of points apart from which two neighbours have an occlusion between them, and no dropout."""
ON_FLANK, MISSING = 0.1, 1.5
"""Of the steepest slope, the share from which on neighbours belong to the same step, and the number of points
apart from which two neighbours have missing ones between them."""
ROBUST, ALL, UPPER, LOWER = 0, 1, 2, 3


@compiled
def counted_points(x: FloatArray, z: FloatArray, inside: BoolArray) -> tuple[FloatArray, FloatArray]:
    """The points of one profile that count."""
    n = 0
    for k in range(x.size):
        n += inside[k]
    u, w, at = np.empty(n), np.empty(n), 0
    for k in range(x.size):
        if inside[k]:
            u[at], w[at] = x[k], z[k]
            at += 1
    return u, w


@compiled
def lines(
    x: FloatArray, z: FloatArray, inside: BoolArray, mode: int, share: float, floor: float, fewest: int
) -> FloatArray:
    """Height at x = 0, slope, from and to in x, rms deviation, points used, points; mode: which points count.

    share: 0 to 1 of the points, ranked by their distance from the line, for the upper or lower ones.
    """
    out = np.zeros((z.shape[0], LINE_WIDTH))
    for row in range(z.shape[0]):
        u, w = counted_points(x, z[row], inside[row])
        out[row, 7] = u.size
        if u.size < fewest:
            out[row, 0] = FEW
            continue
        weight: FloatArray = np.ones(u.size)
        if mode == ROBUST:
            a, b, weight = robust_line(u, w, floor)
        else:
            a, b = plain_line(u, w)
        if mode >= UPPER:
            count = max(2, round(share * u.size))
            for _ in range(ROUNDS):
                left = w - a - b * u
                order = np.argsort(-left if mode == UPPER else left, kind="mergesort")
                chosen = np.zeros(u.size)
                chosen[order[:count]] = 1.0
                kept = chosen > 0.0
                a, b = plain_line(u[kept], w[kept])
                same = (chosen == weight).all()
                weight = chosen
                if same:
                    break
        low, high, total, used = np.inf, -np.inf, 0.0, 0
        for k in range(u.size):
            if weight[k] > 0.0:
                low, high = min(low, u[k]), max(high, u[k])
                total += (w[k] - a - b * u[k]) ** 2
                used += 1
        out[row, 1:7] = a, b, low, high, math.sqrt(total / max(used, 1)), float(used)
    return out


@compiled
def arcs(
    x: FloatArray, z: FloatArray, inside: BoolArray, fewest: int, floor: float, flattest: float
) -> FloatArray:
    """Centre x, z, radius, rms deviation, span in degrees, points used, points, and width in x.

    flattest: times the width beyond which a radius is a straight line.
    """
    out = np.zeros((z.shape[0], ARC_WIDTH))
    for row in range(z.shape[0]):
        u, w = counted_points(x, z[row], inside[row])
        out[row, 7] = u.size
        if u.size < fewest:
            out[row, 0] = FEW
            continue
        cx, cz, radius, weight = robust_arc(u, w, floor)
        width = u[-1] - u[0]
        if not radius <= flattest * max(width, 1e-9) or radius <= 0.0:
            out[row, 0] = STRAIGHT
            continue
        angles, total, used = np.empty(u.size), 0.0, 0
        for k in range(u.size):
            if weight[k] > 0.0:
                angles[used] = math.degrees(math.atan2(w[k] - cz, u[k] - cx))
                total += (math.hypot(u[k] - cx, w[k] - cz) - radius) ** 2
                used += 1
        angles = np.sort(angles[:used])
        gap = angles[0] + 360.0 - angles[used - 1]
        for k in range(used - 1):
            gap = max(gap, angles[k + 1] - angles[k])
        out[row, 1:7] = cx, cz, radius, math.sqrt(total / used), 360.0 - gap, float(used)
        out[row, 8] = width
    return out


@lean
def _may_be_deeper(u: FloatArray, down: FloatArray, depth: float, step: float, noise: float) -> bool:
    """Whether a stretch without data may hold a deeper point, in progress as steeply as it begins."""
    reach = 4
    most = depth + min(DEEPER * depth + OF_NOISE * noise, AT_MOST * depth)
    for k in range(u.size - 1):
        gap = u[k + 1] - u[k]
        if gap <= SHADOWED * step:
            continue
        a, b = max(k - reach, 0), min(k + 1 + reach, u.size - 1)
        fall = max((down[k] - down[a]) / max(u[k] - u[a], step), 0.0)
        rise = max((down[k + 1] - down[b]) / max(u[b] - u[k + 1], step), 0.0)
        # where the two continued flanks meet; on a level base nothing goes down
        if fall + rise > 0.0 and fall * gap + down[k] > most:
            meet = (down[k + 1] - down[k] + rise * gap) / (fall + rise)
            if down[k] + fall * min(max(meet, 0.0), gap) > most:
                return True
        elif fall == 0.0 and down[k + 1] + rise * gap > most:
            return True
    return False


@compiled
def _lone(down: FloatArray, floor: float) -> BoolArray:
    """Which points stick out, one or two together, farther than those about them explain."""
    n = down.size
    steps = np.empty(max(n - 1, 1))
    for k in range(n - 1):
        steps[k] = abs(down[k + 1] - down[k])
    tol = max(LONE * middle_of(steps.copy(), n - 1) if n > 1 else 0.0, LONE * floor)
    out = np.zeros(n, np.bool_)
    for k in range(2, n - 2):
        for sign in (1.0, -1.0):
            first = second = -np.inf
            least = np.inf
            for j in (k - 2, k - 1, k + 1, k + 2):
                value = sign * down[j]
                least = min(least, value)
                if value > first:
                    first, second = value, first
                elif value > second:
                    second = value
            if sign * down[k] - second > tol + ABOUT * (second - least):
                out[k] = True
    return out


@compiled
def _deepest(u: FloatArray, down: FloatArray, noise: float, fine: int) -> float:
    """Depth of a groove: from a parabola or two straight flanks about its deepest place, as fits better.

    How much that takes depends on the groove alone, not on how far the section reaches beside it. noise:
    of one height, in mm. fine: samples to a point of the map.
    """
    at = 1
    most: float = -np.inf
    for k in range(1, u.size - 1):
        mean = (down[k - 1] + down[k] + down[k + 1]) / 3.0
        if mean > most:
            at, most = k, mean
    first, last = at, at
    while first > 0 and down[first - 1] > most / 2.0:
        first -= 1
    while last < u.size - 1 and down[last + 1] > most / 2.0:
        last += 1
    # on a flat floor the deepest place is where noise has it; the middle of the floor is as good
    low, high = at, at
    while low > first and down[low - 1] > NEARLY * most:
        low -= 1
    while high < last and down[high + 1] > NEARLY * most:
        high += 1
    at = (low + high) // 2
    step = (u[-1] - u[0]) / (u.size - 1)
    wide = u[last] - u[first]
    reach = max(ABOUT_DEEPEST * wide, (u[high] - u[low]) / 2.0, ABOUT_FEWEST * step)
    near = np.abs(u - u[at]) <= reach
    x, y = u[near] - u[at], down[near]
    a, b, c = parabola(x, y, np.ones(x.size))
    if x.size < ABOUT_FEWEST or math.isnan(a):
        return most
    top = min(max(-b / (2.0 * c), -reach), reach) if c < 0.0 else 0.0
    height: float = min(a + b * top + c * top * top, y.max())
    # whether it is sharp shows in more of its flanks, where they leave a parabola by more
    reach = max(FLANKS * wide, ABOUT_FEWEST * step)
    near = np.abs(u - u[at]) <= reach
    x, y = u[near] - u[at], down[near]
    # places in the middle lie on one flank or the other, or on the line between two points of the map
    left, right = x < -BLUNT * fine * step, x > BLUNT * fine * step
    if min(left.sum(), right.sum()) < ABOUT_FEWEST // 2:
        return height
    flanks = left | right
    a, b, c = parabola(x, y, np.ones(x.size))
    rounded = ((y - a - b * x - c * x * x)[flanks] ** 2).sum()
    p, q = plain_line(x[left], y[left])
    r, t = plain_line(x[right], y[right])
    sharp = ((y - p - q * x)[left] ** 2).sum() + ((y - r - t * x)[right] ** 2).sum()
    plain = rounded <= flanks.sum() * (BENT * noise) ** 2
    if plain or not sharp < CLEARLY_SHARP * rounded or not q > 0.0 > t:
        return height
    meet = (r - p) / (q - t)
    if abs(meet) > reach:
        return height
    # between two points of the map it continues no deeper than a flank does in half the way
    deeper: float = min(p + q * meet, y.max() + max(q, -t) * step * fine / 2.0)
    return deeper


@compiled
def rise_width(u: FloatArray, w: FloatArray, k: int, step: float) -> float:
    """mm that a step would take to rise all its height as steeply as from point k to the next.

    step: mm from one point to the next; 0 where some are missing on it.
    """
    run: float = u[k + 1] - u[k]
    height: float = w[k + 1] - w[k]
    slope = height / run
    if slope == 0.0 or run > MISSING * step:
        return 0.0
    for way in (-1, 1):
        j = k + way
        while 0 <= j < u.size - 1 and (w[j + 1] - w[j]) / (u[j + 1] - u[j]) / slope >= ON_FLANK:
            height += w[j + 1] - w[j]
            j += way
    return height / slope


@compiled
def grooves(
    x: FloatArray,
    z: FloatArray,
    inside: BoolArray,
    sign: float,
    shoulder: float,
    at: float,
    least: float,
    floor: float,
    flat: bool,
    fine: int,
) -> FloatArray:
    """Depth, left and right at the share `at` of it, height at x = 0 and slope of the base.

    And of the left wall and the right: mm over which it rises, 0 where points are missing on it, and mm from
    the point before it to the one behind it.
    sign: 1 for a groove, -1 for a ridge. shoulder: share of the stretch at either end that is the base.
    least: mm of depth below which it is none; then the depth is given all the same. flat: whether the floor is.
    fine: samples to a point of the map.
    """
    out, step = np.zeros((z.shape[0], GROOVE_WIDTH)), (x[-1] - x[0]) / max(x.size - 1, 1)
    for row in range(z.shape[0]):
        u, w = counted_points(x, z[row], inside[row])
        if u.size < 12:
            out[row, 0], out[row, 1] = FEW, u.size
            continue
        reach = shoulder * (u[-1] - u[0])
        beside = (u <= u[0] + reach) | (u >= u[-1] - reach)
        a, b, _ = robust_line(u[beside], w[beside], floor)
        down = (a + b * u - w) * sign
        noise = 1.4826 * middle_of(np.abs(down[beside]), beside.sum())
        lone = _lone(down, floor)
        if lone.any():
            # one or two points that nothing beside them supports are no floor
            u, w, down = u[~lone], w[~lone], down[~lone]
        depth = _deepest(u, down, noise, fine)
        if flat:
            # or by the middle of all that lies nearly as deep, to which noise adds nothing, without the
            # feet of the flanks
            floor_points = down[down > FLOOR_SHARE * depth]
            depth = middle_of(floor_points, floor_points.size)
            off = np.abs(floor_points - depth)
            near = off <= max(FOOT_OFF * 1.4826 * middle_of(off.copy(), off.size), 1e-9)
            depth = floor_points[near].mean()
        out[row, 1], out[row, 4], out[row, 5] = depth, a, b
        if _may_be_deeper(u, down, depth, step, noise):
            out[row, 0] = HIDDEN
            continue
        if depth < least:
            out[row, 0] = NONE
            continue
        level = at * depth
        first, last = 0, u.size - 1
        while down[first] < level:
            first += 1
        while down[last] < level:
            last -= 1
        if first == 0 or last == u.size - 1:
            out[row, 0] = CUT_OFF
            continue
        for k, outer, place in ((first, first - 1, 2), (last, last + 1, 3)):
            part = (down[k] - level) / (down[k] - down[outer])
            out[row, place] = u[k] + part * (u[outer] - u[k])
            out[row, 2 + 2 * place] = rise_width(u, down, min(k, outer), step)
            out[row, 3 + 2 * place] = abs(u[outer] - u[k])
    return out


@compiled
def _misfits(u: FloatArray, w: FloatArray) -> FloatArray:
    """(n,) sum of squared residuals of a line through the first k + 1 points."""
    out = np.empty(u.size)
    su = sw = suu = suw = sww = 0.0
    for k in range(u.size):
        su += u[k]
        sw += w[k]
        suu += u[k] * u[k]
        suw += u[k] * w[k]
        sww += w[k] * w[k]
        n = k + 1
        uu, uw, ww = suu - su * su / n, suw - su * sw / n, sww - sw * sw / n
        out[k] = max(ww - (uw * uw / uu if uu > 1e-12 else 0.0), 0.0)
    return out


@compiled
def corners(
    x: FloatArray, z: FloatArray, inside: BoolArray, clear: float, fewest: int, floor: float
) -> FloatArray:
    """Height at x = 0 and slope of the left flank, the same of the right one, and from and to in x.

    The split is where both flanks' least squares together are least; what lies nearer to the corner than
    `clear` is left out of the fits.
    """
    out = np.zeros((z.shape[0], CORNER_WIDTH))
    for row in range(z.shape[0]):
        u, w = counted_points(x, z[row], inside[row])
        if u.size < 2 * fewest:
            out[row, 0], out[row, 1] = FEW, u.size
            continue
        p, q = u - u.mean(), w - w.mean()
        left, right = _misfits(p, q), _misfits(p[::-1].copy(), q[::-1].copy())[::-1]
        split, least = fewest, np.inf
        for k in range(fewest, u.size - fewest + 1):
            if left[k - 1] + right[k] < least:
                split, least = k, left[k - 1] + right[k]
        corner = (u[split - 1] + u[split]) / 2
        out[row, 5], out[row, 6] = u[0], u[-1]
        for _ in range(2):
            before, after = u < corner - clear, u >= corner + clear
            if before.sum() < fewest or after.sum() < fewest:
                out[row, 0] = CUT_OFF
                break
            a, b, _ = robust_line(u[before], w[before], floor)
            c, d, _ = robust_line(u[after], w[after], floor)
            out[row, 1:5] = a, b, c, d
            if abs(d - b) > 1e-6:
                corner = min(max((a - c) / (d - b), u[fewest]), u[-fewest - 1])
    return out


@compiled
def levels(x: FloatArray, z: FloatArray, inside: BoolArray) -> FloatArray:
    """Mean, median and standard deviation of the heights, mean of x, how many points, and from where in x."""
    out = np.zeros((z.shape[0], LEVEL_WIDTH))
    for row in range(z.shape[0]):
        u, w = counted_points(x, z[row], inside[row])
        if u.size == 0:
            out[row, 0] = FEW
            continue
        out[row, 1], out[row, 3], out[row, 4], out[row, 5] = w.mean(), w.std(), u.mean(), u.size
        out[row, 6] = u[0]
        out[row, 2] = middle_of(w, w.size)
    return out
