"""Compiled fits of lines and circles to points of a profile."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.geometry.fit_kernels import TUKEY
from hemtra.core.geometry.middle import middle_of

ROUNDS = 30
SETTLED = 1e-9
"""Change at which a fit has settled, mm."""
TRIES, JUDGES = 32, 40
"""Lines through two points tried for a start, and points that rate each at first."""
FAR_OFF, LEFT_OVER = 2.0, 0.12
"""Times the floor that half of the points of an arc are off, and share of them that its fit leaves out, from
which on it is tried from another start.
"""
ENOUGH = 0.35
"""Share of these that must be nearer to it than half of all points are to the best line yet."""


@compiled
def robust_line(x: FloatArray, z: FloatArray, floor: float) -> tuple[float, float, FloatArray]:
    """Height at x = 0, slope, and weights (n,) of a line through points by Tukey's biweight.

    Starts from the least median of squares (Rousseeuw 1984), so that up to half of the points may be wrong.
    floor: mm by which a point may always be off.
    """
    n = x.size
    weight = np.ones(n)
    mx, mz = x.mean(), z.mean()
    best, slope, height = np.inf, 0.0, 0.0
    off = np.empty(n)
    stride = max(1, n // JUDGES)
    state = np.uint64(n * 2654435761 + 12345)
    for _ in range(TRIES):
        state = state * np.uint64(6364136223846793005) + np.uint64(1442695040888963407)
        i = int((state >> np.uint64(33)) % np.uint64(n))
        state = state * np.uint64(6364136223846793005) + np.uint64(1442695040888963407)
        j = int((state >> np.uint64(33)) % np.uint64(n))
        run = x[j] - x[i]
        if run == 0.0:
            continue
        b = (z[j] - z[i]) / run
        a = (z[i] - mz) - b * (x[i] - mx)
        # only some points say whether a line may be better; whether it is, all of them do
        count = near = 0
        for k in range(0, n, stride):
            near += abs((z[k] - mz) - a - b * (x[k] - mx)) < best
            count += 1
        if near < ENOUGH * count:
            continue
        for k in range(n):
            off[k] = abs((z[k] - mz) - a - b * (x[k] - mx))
        deviation = middle_of(off, n)
        if deviation < best:
            best, slope, height = deviation, b, a
            if best < floor:
                break
    for _ in range(ROUNDS):
        for k in range(n):
            off[k] = abs((z[k] - mz) - height - slope * (x[k] - mx))
        scale = TUKEY * max(1.4826 * middle_of(off, n), floor)
        s = sx = sz = 0.0
        for k in range(n):
            r = ((z[k] - mz) - height - slope * (x[k] - mx)) / scale
            w = (1.0 - r * r) ** 2 if abs(r) < 1.0 else 0.0
            weight[k] = w
            s += w
            sx += w * (x[k] - mx)
            sz += w * (z[k] - mz)
        if s == 0.0:
            break
        cx, cz = sx / s, sz / s
        sxx = sxz = 0.0
        for k in range(n):
            u = x[k] - mx - cx
            sxx += weight[k] * u * u
            sxz += weight[k] * u * (z[k] - mz - cz)
        b = sxz / sxx if sxx > 0.0 else 0.0
        a = cz - b * cx
        moved = abs(a - height) + abs(b - slope)
        height, slope = a, b
        if moved < SETTLED:
            break
    return mz + height - slope * mx, slope, weight


@compiled
def plain_line(x: FloatArray, z: FloatArray) -> tuple[float, float]:
    """Height at x = 0 and slope by least squares."""
    mx, mz = x.mean(), z.mean()
    sxx = sxz = 0.0
    for k in range(x.size):
        sxx += (x[k] - mx) ** 2
        sxz += (x[k] - mx) * (z[k] - mz)
    b = sxz / sxx if sxx > 0.0 else 0.0
    return mz - b * mx, b


@compiled
def robust_arc(x: FloatArray, z: FloatArray, floor: float) -> tuple[float, float, float, FloatArray]:
    """Centre x, z, radius, and weights (n,) of a circle through points; the radius is infinite if straight.

    Starts from the algebraic fit of Kåsa (1976), then Gauss-Newton on the distances with Tukey's biweight.
    Where points are left over, it is tried again from the least median of squares (Rousseeuw 1984), which up to
    half of the points on one side do not mislead; the nearer to most of the points is taken.
    """
    n = x.size
    mx, mz = x.mean(), z.mean()
    u, v = x - mx, z - mz
    start = _kasa(u, v)
    cx, cz, radius, weight, spread = _settled_arc(u, v, start, floor)
    if spread > FAR_OFF * floor or (weight <= 0.0).sum() > LEFT_OVER * n:
        other = _least_median_arc(u, v)
        if not math.isnan(other[2]):
            ox, oz, again, other_weight, other_spread = _settled_arc(u, v, other, floor)
            if other_spread < spread:
                cx, cz, radius, weight = ox, oz, again, other_weight
    return mx + cx, mz + cz, radius, weight


@lean
def _kasa(u: FloatArray, v: FloatArray) -> tuple[float, float, float]:
    """Centre and radius of the algebraic fit about the mean; the radius is infinite if straight."""
    suu = suv = svv = suw = svw = sw = 0.0
    for k in range(u.size):
        w = u[k] * u[k] + v[k] * v[k]
        suu += u[k] * u[k]
        suv += u[k] * v[k]
        svv += v[k] * v[k]
        suw += u[k] * w
        svw += v[k] * w
        sw += w
    det = suu * svv - suv * suv
    if det <= 1e-12 * (suu + svv) ** 2:
        return 0.0, 0.0, np.inf
    cx = (suw * svv - svw * suv) / det / 2
    cz = (svw * suu - suw * suv) / det / 2
    return cx, cz, math.sqrt(sw / u.size + cx * cx + cz * cz)


@compiled
def _least_median_arc(u: FloatArray, v: FloatArray) -> tuple[float, float, float]:
    """Centre and radius of the circle through three points that is nearest to most; NaN without one."""
    n = u.size
    best, found = np.inf, (np.nan, np.nan, np.nan)
    off = np.empty(n)
    # some of the points are enough to rate a start
    stride = max(1, n // JUDGES)
    state = np.uint64(n * 2654435761 + 97531)
    for _ in range(2 * TRIES):
        at = np.empty(3, np.int64)
        for m in range(3):
            state = state * np.uint64(6364136223846793005) + np.uint64(1442695040888963407)
            at[m] = int((state >> np.uint64(33)) % np.uint64(n))
        i, j, k = at
        ax, ay, bx, by = u[j] - u[i], v[j] - v[i], u[k] - u[i], v[k] - v[i]
        cross = 2.0 * (ax * by - ay * bx)
        if abs(cross) < 1e-12:
            continue
        a, b = ax * ax + ay * ay, bx * bx + by * by
        px, py = (by * a - ay * b) / cross, (ax * b - bx * a) / cross
        radius = math.hypot(px, py)
        count = 0
        for m in range(0, n, stride):
            off[count] = abs(math.hypot(u[m] - u[i] - px, v[m] - v[i] - py) - radius)
            count += 1
        deviation = middle_of(off, count)
        if deviation < best:
            best, found = deviation, (u[i] + px, v[i] + py, radius)
    return found


@compiled
def _settled_arc(
    u: FloatArray, v: FloatArray, start: tuple[float, float, float], floor: float
) -> tuple[float, float, float, FloatArray, float]:
    """Centre, radius and weights from a start by Gauss-Newton, and the median distance of the points in mm."""
    n = u.size
    weight = np.ones(n)
    cx, cz, radius = start
    if not math.isfinite(radius):
        return cx, cz, np.inf, weight, np.inf
    off, spread = np.empty(n), np.inf
    for _ in range(ROUNDS):
        for k in range(n):
            off[k] = abs(math.hypot(u[k] - cx, v[k] - cz) - radius)
        spread = middle_of(off, n)
        scale = TUKEY * max(1.4826 * spread, floor)
        a00 = a01 = a02 = a11 = a12 = a22 = 0.0
        r0 = r1 = r2 = 0.0
        for k in range(n):
            du, dv = u[k] - cx, v[k] - cz
            far = max(math.hypot(du, dv), 1e-12)
            left = far - radius
            t = left / scale
            w = (1.0 - t * t) ** 2 if abs(t) < 1.0 else 0.0
            weight[k] = w
            p, q = du / far, dv / far
            a00 += w * p * p
            a01 += w * p * q
            a02 += w * p
            a11 += w * q * q
            a12 += w * q
            a22 += w
            r0 += w * p * left
            r1 += w * q * left
            r2 += w * left
        c00, c01, c02 = a11 * a22 - a12 * a12, a02 * a12 - a01 * a22, a01 * a12 - a02 * a11
        det = a00 * c00 + a01 * c01 + a02 * c02
        if det <= 1e-18 * a22**3:
            return cx, cz, np.inf, weight, np.inf
        c11, c12, c22 = a00 * a22 - a02 * a02, a01 * a02 - a00 * a12, a00 * a11 - a01 * a01
        step0 = (c00 * r0 + c01 * r1 + c02 * r2) / det
        step1 = (c01 * r0 + c11 * r1 + c12 * r2) / det
        step2 = (c02 * r0 + c12 * r1 + c22 * r2) / det
        cx, cz, radius = cx + step0, cz + step1, radius + step2
        if abs(step0) + abs(step1) + abs(step2) < SETTLED * max(1.0, radius):
            break
    return cx, cz, radius, weight, spread
