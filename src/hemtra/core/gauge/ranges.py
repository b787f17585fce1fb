"""The range of a few values of a standard normal distribution: its mean and its spread."""

from __future__ import annotations

import math
from functools import cache

import numpy as np

from hemtra.core.errors import HemtraError

LARGEST_SAMPLE = 50
"""Values of which a range is looked at; of more it says less than their standard deviation."""
STEPS, FARTHEST = 1601, 8.0
"""Of the integrals, and standard deviations to which they go."""


@cache
def range_factors(count: int) -> tuple[float, float]:
    """d2 and d3: mean and standard deviation of the range of `count` values, in standard deviations.

    By integrating the distribution of the range (Harter 1960): of the lowest value at x and all others within w
    of it. Raises `HemtraError` for less than two values or very many.
    """
    if not 2 <= count <= LARGEST_SAMPLE:
        raise HemtraError(f"A range is taken of 2 to {LARGEST_SAMPLE} values, not of {count}.")
    x = np.linspace(-FARTHEST, FARTHEST, STEPS)
    w = np.linspace(0.0, 2.0 * FARTHEST, STEPS)
    below = np.array([0.5 * math.erfc(-value / math.sqrt(2.0)) for value in np.linspace(-24.0, 24.0, 4801)])
    density = np.exp(-x * x / 2.0) / math.sqrt(2.0 * math.pi)
    grid = np.linspace(-24.0, 24.0, 4801)
    at_x = np.interp(x, grid, below)
    within = np.interp(x[None, :] + w[:, None], grid, below) - at_x[None, :]
    cumulative = count * np.trapezoid(density * within ** (count - 1), x, axis=1)
    beyond = 1.0 - cumulative
    mean = float(np.trapezoid(beyond, w))
    square = float(2.0 * np.trapezoid(w * beyond, w))
    return mean, math.sqrt(max(square - mean * mean, 0.0))


def bias_factor(count: int, ranges: float = math.inf) -> float:
    """d2*: what the root mean square of the mean of so many ranges is in standard deviations (Duncan 1986)."""
    mean, spread = range_factors(count)
    return math.sqrt(mean * mean + spread * spread / ranges)
