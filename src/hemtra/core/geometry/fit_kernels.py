"""Compiled loops of the robust linear fit."""

from __future__ import annotations

import math

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled
from hemtra.core.geometry.middle import middle_of
from hemtra.core.geometry.solving import solved

ROUNDS = 20
TUKEY = 4.685
"""Tukey's constant: 95 % of the efficiency of least squares where nothing is wrong (Huber 1981)."""
SETTLED = 1e-7
"""Change at which a fit has settled, mm."""
RIDGE = 1e-14
"""Keeps points that do not span what is fitted from having no solution at all."""


@compiled
def weighted_fit(design: FloatArray, values: FloatArray, weight: FloatArray) -> FloatArray:
    """Weighted least squares; columns scaled alike, so that the normal equations keep their digits."""
    n, m = design.shape
    size = np.full(m, 1e-300)
    for k in range(m):
        total = 0.0
        for i in range(n):
            total += design[i, k] * design[i, k]
        size[k] += math.sqrt(total)
    normal, right = np.zeros((m, m)), np.zeros(m)
    sum_of_weights = 0.0
    for i in range(n):
        w = weight[i]
        sum_of_weights += w
        for k in range(m):
            t = w * design[i, k] / size[k]
            right[k] += t * values[i]
            for j in range(k + 1):
                normal[k, j] += t * design[i, j] / size[j]
    ridge = RIDGE * max(sum_of_weights, RIDGE)
    for k in range(m):
        normal[k, k] += ridge
        for j in range(k):
            normal[j, k] = normal[k, j]
    solution: FloatArray = solved(normal, right) / size
    return solution


@compiled
def biweight(left: FloatArray, floor: float) -> FloatArray:
    """Tukey's weights of deviations, their scale from the median deviation, at least `floor`."""
    scale = TUKEY * max(1.4826 * middle_of(np.abs(left), left.size), floor)
    weight = np.empty(left.size)
    for i in range(left.size):
        r = left[i] / scale
        weight[i] = (1.0 - r * r) ** 2 if abs(r) < 1.0 else 0.0
    return weight


@compiled
def settle_linear(
    design: FloatArray, values: FloatArray, start: FloatArray, floor: float
) -> tuple[FloatArray, FloatArray]:
    """Coefficients (m,) of values (n,) = design (n, m) from a start, and the weights (n,) they settled with."""
    n, m = design.shape
    solution = start
    left = np.empty(n)
    weight: FloatArray = np.ones(n)
    for _ in range(ROUNDS):
        for i in range(n):
            left[i] = values[i]
            for k in range(m):
                left[i] -= design[i, k] * solution[k]
        weight = biweight(left, floor)
        new = weighted_fit(design, values, weight)
        moved = 0.0
        for i in range(n):
            shift = 0.0
            for k in range(m):
                shift += design[i, k] * (new[k] - solution[k])
            moved = max(moved, abs(shift))
        solution = new
        if moved < SETTLED:
            break
    return solution, weight
