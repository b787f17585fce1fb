"""Robust fits of lines and circles to points."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray

ROUNDS = 20
TUKEY = 4.685
"""Tukey's constant: 95 % of the efficiency of least squares where nothing is wrong (Huber 1981)."""
SETTLED = 1e-7
"""mm by which a further round still moves anything."""
TRIES, JUDGES = 80, 120
"""Exact fits tried for a start, and values that judge them."""
RIDGE = 1e-14
"""Keeps points that do not span what is fitted from having no solution at all."""


def robust_linear(design: FloatArray, values: FloatArray, floor: float) -> tuple[FloatArray, BoolArray]:
    """Coefficients c (m,) of values (n,) = design (n, m) c by Tukey's biweight, and which values were used.

    Starts from the least median of squares. floor: deviation below which a value is never left out.
    """
    solution = _least_median(design, values)
    weight = np.ones(len(values))
    for _ in range(ROUNDS):
        left = values - design @ solution
        scale = max(1.4826 * float(np.median(np.abs(left))), floor)
        weight = np.clip(1.0 - (left / (TUKEY * scale)) ** 2, 0.0, None) ** 2
        new = _weighted(design, values, weight)
        done = np.abs(design @ (new - solution)).max(initial=0.0) < SETTLED
        solution = new
        if done:
            break
    return solution, weight > 0.0


def robust_circle(x: FloatArray, y: FloatArray, floor: float) -> tuple[float, float, float, BoolArray]:
    """Centre x, y and radius of a circle through points (n,), geometric and robust, and which were used.

    Starts from the algebraic fit of Kåsa (1976), then Gauss-Newton on the distances with Tukey's biweight.
    """
    mx, my = float(x.mean()), float(y.mean())
    u, v = x - mx, y - my
    design = np.column_stack([u, v, np.ones(u.size)])
    a, b, c = np.linalg.lstsq(design, u * u + v * v, rcond=None)[0]
    found = np.array([a / 2, b / 2, np.sqrt(max(c + (a * a + b * b) / 4, 0.0))])
    weight = np.ones(u.size)
    for _ in range(ROUNDS):
        du, dv = u - found[0], v - found[1]
        distance = np.maximum(np.hypot(du, dv), 1e-12)
        left = distance - found[2]
        scale = max(1.4826 * float(np.median(np.abs(left))), floor)
        weight = np.clip(1.0 - (left / (TUKEY * scale)) ** 2, 0.0, None) ** 2
        step = _weighted(np.column_stack([du / distance, dv / distance, np.ones(u.size)]), left, weight)
        found = found + step
        if np.abs(step).max() < SETTLED:
            break
    return mx + float(found[0]), my + float(found[1]), float(found[2]), weight > 0.0


def _least_median(design: FloatArray, values: FloatArray) -> FloatArray:
    """The best of many exact fits through few points, by its median deviation (Rousseeuw 1984).

    Up to half of the values may be wrong, also when they all lie at one end.
    """
    count, unknowns = design.shape
    rng = np.random.default_rng(count)
    picks = rng.integers(0, count, (TRIES, unknowns))
    bases = design[picks]
    sound = np.abs(np.linalg.det(bases)) > 1e-9 * np.abs(bases).max() ** unknowns
    if not sound.any():
        return _weighted(design, values, np.ones(count))
    tried = np.linalg.solve(bases[sound], values[picks[sound]][..., None])[..., 0]
    some = slice(None, None, max(1, count // JUDGES))
    left = np.abs(values[some] - tried @ design[some].T)
    middle = left.shape[1] // 2
    return np.asarray(tried[int(np.argmin(np.partition(left, middle, axis=1)[:, middle]))])


def _weighted(design: FloatArray, values: FloatArray, weight: FloatArray) -> FloatArray:
    """Weighted least squares; columns scaled alike, so that the normal equations keep their digits."""
    size = np.sqrt(np.einsum("ij,ij->j", design, design)) + 1e-300
    scaled = design / size
    weighted = scaled * weight[:, None]
    normal = weighted.T @ scaled + RIDGE * max(float(weight.sum()), RIDGE) * np.eye(design.shape[1])
    solution: FloatArray = np.linalg.solve(normal, weighted.T @ values) / size
    return solution
