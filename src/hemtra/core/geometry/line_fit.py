"""Robust fits of lines and circles to points."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.geometry.fit_kernels import settle_linear, weighted_fit
from hemtra.core.geometry.profile_fits import robust_arc

TRIES, JUDGES = 80, 120
"""Exact fits tried for a start, and values that rate them."""


def robust_linear(design: FloatArray, values: FloatArray, floor: float) -> tuple[FloatArray, BoolArray]:
    """Coefficients c (m,) of values (n,) = design (n, m) c by Tukey's biweight, and which values were used.

    Starts from the least median of squares. floor: deviation below which a value is never left out.
    """
    solution, weight = settle_linear(design, values, _least_median(design, values), floor)
    return solution, weight > 0.0


def robust_circle(x: FloatArray, y: FloatArray, floor: float) -> tuple[float, float, float, BoolArray]:
    """Centre x, y and radius of a circle through points (n,), geometric and robust, and which were used.

    Starts from the algebraic fit of Kåsa (1976), then Gauss-Newton on the distances with Tukey's biweight.
    """
    cx, cy, radius, weight = robust_arc(x, y, floor)
    return cx, cy, radius, weight > 0.0


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
        return weighted_fit(design, values, np.ones(count))
    tried = np.linalg.solve(bases[sound], values[picks[sound]][..., None])[..., 0]
    some = slice(None, None, max(1, count // JUDGES))
    left = np.abs(values[some] - tried @ design[some].T)
    middle = left.shape[1] // 2
    return np.asarray(tried[int(np.argmin(np.partition(left, middle, axis=1)[:, middle]))])
