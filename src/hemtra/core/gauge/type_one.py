"""Type 1 study: one part of known size, measured many times; bias and capability of the gauge.

ISO 22514-7 and the usual indices Cg and Cgk.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError

FEWEST, ADVISED = 10, 25
"""Readings a study takes at least, and should have."""
CONFIDENCE = 0.95


@dataclass(frozen=True)
class Rule:
    """Requirements for a gauge. share: percent of the tolerance that its spread may take at an index of 1.

    spreads: standard deviations that are compared with it. least: of both indices. resolution: percent of the
    tolerance of the smallest step a reading can take.
    """

    share: float = 20.0
    spreads: float = 6.0
    least: float = 1.33
    resolution: float = 5.0


@dataclass(frozen=True)
class TypeOne:
    """Result of a study; bias, deviation and limits in the unit of the characteristic.

    t, chance: of the bias, and how likely one as large is where there is none. bias_low, bias_high: between
    which it lies with 95 % confidence. Cg, Cgk and the share of the resolution: None without a tolerance.
    """

    count: int
    mean: float
    bias: float
    deviation: float
    t: float | None
    chance: float | None
    bias_low: float
    bias_high: float
    cg: float | None
    cgk: float | None
    resolution: float
    resolution_share: float | None

    @property
    def is_biased(self) -> bool:
        """Whether the bias is more than chance."""
        return self.chance is not None and self.chance < 1.0 - CONFIDENCE

    def capable(self, rule: Rule) -> bool | None:
        """Whether the gauge keeps a rule; None without a tolerance."""
        if self.cg is None or self.cgk is None or self.resolution_share is None:
            return None
        return min(self.cg, self.cgk) >= rule.least and self.resolution_share <= rule.resolution


def type_one(
    values: FloatArray, reference: float, width: float | None, rule: Rule = Rule(), resolution: float = 0.0
) -> TypeOne:
    """Evaluate (n,) readings of one part whose size is known.

    width: of the tolerance. resolution: smallest step of a reading, all in one unit. Raises `HemtraError` where
    there are too few readings, or one was not measured.
    """
    values = np.asarray(values, np.float64)
    if not np.isfinite(values).all():
        raise HemtraError(
            f"{np.count_nonzero(~np.isfinite(values))} of the readings were not measured; repeat them."
        )
    if values.size < FEWEST:
        raise HemtraError(f"{values.size} readings are too few; take {ADVISED}, and {FEWEST} at least.")
    n = int(values.size)
    off = values - reference
    bias, deviation = float(off.mean()), float(off.std(ddof=1))
    error = deviation / math.sqrt(n)
    t = bias / error if error > 0.0 else None
    chance = None if t is None else float(2.0 * scipy.stats.t.sf(abs(t), n - 1))
    if t is None and bias != 0.0:
        chance = 0.0
    reach = float(scipy.stats.t.ppf((1 + CONFIDENCE) / 2, n - 1)) * error
    cg = cgk = share = None
    if width is not None and width > 0.0:
        room = rule.share / 100.0 * width
        # a gauge without any spread is as good as its resolution
        spread = max(rule.spreads * deviation, 1e-12 * width)
        cg, cgk = room / spread, (room / 2.0 - abs(bias)) / (spread / 2.0)
        share = 100.0 * resolution / width
    return TypeOne(
        n, reference + bias, bias, deviation, t, chance, bias - reach, bias + reach, cg, cgk, resolution, share
    )
