"""Compiled fitting of what a bead lies on: lines and parabolas on either side of it."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled
from hemtra.core.geometry.fit_kernels import TUKEY
from hemtra.core.geometry.middle import middle_of
from hemtra.core.geometry.profile_fits import robust_line

LINE, STEP, CURVE, PLANE = range(4)
"""Model of the base: one line, one on either side, a parabola, or the height origin's plane."""


FEW = 6
"""Points of a flank of the base that a line needs."""


FINE = 1.5
"""Deviation of a base that needs no weights, in multiples of the floor."""


ROUNDS = 12


@compiled
def _solve3(a: FloatArray, b: FloatArray) -> FloatArray:
    """Solve a symmetric system of three; NaN where it has no solution."""
    c00 = a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1]
    c01 = a[1, 2] * a[2, 0] - a[1, 0] * a[2, 2]
    c02 = a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0]
    det = a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02
    out = np.full(3, np.nan)
    if abs(det) <= 1e-14 * (abs(a[0, 0] * a[1, 1] * a[2, 2]) + 1e-300):
        return out
    out[0] = (c00 * b[0] + c01 * b[1] + c02 * b[2]) / det
    c11 = a[0, 0] * a[2, 2] - a[0, 2] * a[2, 0]
    c12 = a[0, 1] * a[2, 0] - a[0, 0] * a[2, 1]
    out[1] = (c01 * b[0] + c11 * b[1] + c12 * b[2]) / det
    c22 = a[0, 0] * a[1, 1] - a[0, 1] * a[1, 0]
    out[2] = (c02 * b[0] + c12 * b[1] + c22 * b[2]) / det
    return out


@compiled
def parabola(x: FloatArray, z: FloatArray, weight: FloatArray) -> FloatArray:
    """a, b, c of z = a + b x + c x² by weighted least squares; NaN where the points span none."""
    m = 0.0
    for k in range(x.size):
        m += x[k] / x.size
    a, b = np.zeros((3, 3)), np.zeros(3)
    for k in range(x.size):
        u, w = x[k] - m, weight[k]
        for i in range(3):
            p = w * u**i
            b[i] += p * z[k]
            for j in range(3):
                a[i, j] += p * u**j
    f = _solve3(a, b)
    # about the mean they are well conditioned, about 0 they are wanted
    return np.array([f[0] - f[1] * m + f[2] * m * m, f[1] - 2.0 * f[2] * m, f[2]])


@compiled
def line_of(x: FloatArray, z: FloatArray, floor: float) -> tuple[float, float]:
    """A line through points: by least squares where all lie on it, else robust."""
    n = x.size
    mx = mz = 0.0
    for k in range(n):
        mx += x[k] / n
        mz += z[k] / n
    sxx = sxz = szz = 0.0
    for k in range(n):
        sxx += (x[k] - mx) ** 2
        sxz += (x[k] - mx) * (z[k] - mz)
        szz += (z[k] - mz) ** 2
    slope = sxz / sxx if sxx > 0.0 else 0.0
    if szz - slope * sxz <= n * (FINE * floor) ** 2:
        return mz - slope * mx, slope
    height, slope, _ = robust_line(x, z, floor)
    return height, slope


@compiled
def _curve_of(x: FloatArray, z: FloatArray, floor: float) -> FloatArray:
    """A parabola through points by Tukey's biweight."""
    weight, off = np.ones(x.size), np.empty(x.size)
    found = parabola(x, z, weight)
    for _ in range(ROUNDS):
        for k in range(x.size):
            off[k] = abs(z[k] - found[0] - found[1] * x[k] - found[2] * x[k] ** 2)
        scale = TUKEY * max(1.4826 * middle_of(off.copy(), x.size), floor)
        for k in range(x.size):
            t = off[k] / scale
            weight[k] = (1.0 - t * t) ** 2 if t < 1.0 else 0.0
        after = parabola(x, z, weight)
        moved = abs(after[0] - found[0])
        found = after
        if not moved > 1e-6:
            break
    return found


@compiled
def fit_bases(u: FloatArray, z: FloatArray, inner: float, base: int, floor: float, out: FloatArray) -> bool:
    """Fills the six numbers of the base left and right; whether there was enough for it.

    Where one flank alone holds data, one line gets its height from that, and no slope yet: NaN.
    """
    if base == PLANE:
        return True
    n = 0
    x, y = np.empty(u.size), np.empty(u.size)
    split = 0
    for k in range(u.size):
        if abs(u[k]) >= inner and not math.isnan(z[k]):
            x[n], y[n] = u[k], z[k]
            n += 1
            if u[k] < 0.0:
                split = n
    if split < FEW or n - split < FEW:
        if base != LINE or n < FEW:
            return False
        part = slice(0, split) if split >= FEW else slice(split, n)
        out[0], out[1], out[2] = middle_of(y[part].copy(), y[part].size), np.nan, x[part].mean()
        return True
    if base == LINE:
        out[0], out[1] = line_of(x[:n], y[:n], floor)
        out[3], out[4] = out[0], out[1]
    elif base == STEP:
        out[0], out[1] = line_of(x[:split], y[:split], floor)
        out[3], out[4] = line_of(x[split:n], y[split:n], floor)
    else:
        found = _curve_of(x[:n], y[:n], floor)
        out[:3], out[3:] = found, found
    return not math.isnan(out[0])
