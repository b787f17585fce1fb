"""Whether the bias of a gauge changes with the size that it measures (AIAG MSA, linearity and bias)."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError

CONFIDENCE = 0.95
FEWEST_SIZES, FEWEST = 3, 6
"""Minimum number of known sizes, and of readings in all, for a line."""


@dataclass(frozen=True)
class BiasAt:
    """The mean bias of the readings of one size; chance: how likely one as large is where there is none."""

    reference: float
    bias: float
    count: int
    chance: float | None


@dataclass(frozen=True)
class Linearity:
    """The line of bias over size, bias = intercept + slope × size, in the unit of the characteristic.

    slope_chance, intercept_chance: how likely ones as far from zero are where the gauge is true. explained:
    share of the scatter of the biases that the line takes (R²). deviation: standard deviation about it.
    holds: whether a bias of nothing lies within the 95 % limits of the line at every size that was measured.
    """

    slope: float
    intercept: float
    slope_chance: float
    intercept_chance: float
    explained: float
    deviation: float
    holds: bool
    sizes: tuple[BiasAt, ...]


def linearity(references: FloatArray, values: FloatArray) -> Linearity:
    """Linearity of (n,) readings of parts with (n,) known sizes, both in one unit.

    Raises `HemtraError` where there are too few sizes or readings, or one was not measured.
    """
    references, values = np.asarray(references, np.float64), np.asarray(values, np.float64)
    if not np.isfinite(values).all():
        raise HemtraError(
            f"{np.count_nonzero(~np.isfinite(values))} of the readings were not measured; repeat them."
        )
    sizes = np.unique(references)
    if sizes.size < FEWEST_SIZES or values.size < max(FEWEST, sizes.size + 1):
        raise HemtraError(
            f"{sizes.size} known sizes and {values.size} readings are too few for a line;"
            f" take {FEWEST_SIZES} sizes over the range, five times each."
        )
    off, n = values - references, values.size
    middle = float(references.mean())
    square = float(((references - middle) ** 2).sum())
    slope = float(((references - middle) * off).sum()) / square
    intercept = float(off.mean()) - slope * middle
    left = off - intercept - slope * references
    deviation = math.sqrt(float((left**2).sum()) / (n - 2))
    scatter = float(((off - off.mean()) ** 2).sum())
    explained = 1.0 - float((left**2).sum()) / scatter if scatter > 0.0 else 1.0
    slope_error = deviation / math.sqrt(square)
    intercept_error = deviation * math.sqrt(1.0 / n + middle**2 / square)
    reach = float(scipy.stats.t.ppf((1 + CONFIDENCE) / 2, n - 2))
    band = reach * deviation * np.sqrt(1.0 / n + (sizes - middle) ** 2 / square)
    holds = bool((np.abs(intercept + slope * sizes) <= band).all())
    return Linearity(
        slope,
        intercept,
        _chance(slope, slope_error, n - 2),
        _chance(intercept, intercept_error, n - 2),
        explained,
        deviation,
        holds,
        tuple(_bias_at(size, off[references == size]) for size in sizes.tolist()),
    )


def _bias_at(size: float, off: FloatArray) -> BiasAt:
    error = float(off.std(ddof=1)) / math.sqrt(off.size) if off.size > 1 else 0.0
    chance = _chance(float(off.mean()), error, off.size - 1) if off.size > 1 else None
    return BiasAt(size, float(off.mean()), int(off.size), chance)


def _chance(value: float, error: float, freedom: int) -> float:
    """p-value of a value this far from zero (t-test, two-sided)."""
    if error <= 0.0:
        return 1.0 if value == 0.0 else 0.0
    return float(2.0 * scipy.stats.t.sf(abs(value) / error, freedom))
