"""Whether a gauge stays as it is: a control chart of one part over time (ISO 7870-2, X̄ and R)."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError
from hemtra.core.gauge.ranges import range_factors

FEWEST, ADVISED = 5, 20
"""Occasions that a chart takes at least, and should have."""
ON_ONE_SIDE, RISING = 9, 6
"""Occasions in a row on one side of the centre, or rising or falling, that are no chance (ISO 7870-2)."""


@dataclass(frozen=True)
class Signal:
    """Signal of a control chart: the occasion, counted from 0, and the rule it breaks, in words."""

    occasion: int
    why: str


@dataclass(frozen=True)
class Stability:
    """The chart, in the unit of the characteristic.

    means, ranges: (k,) of the occasions; of single readings the ranges are moving ones, k - 1 of them. centre,
    low, high: of the means. usual_range, most_range: centre and upper limit of the ranges.
    """

    means: FloatArray
    ranges: FloatArray
    centre: float
    low: float
    high: float
    usual_range: float
    most_range: float
    signals: tuple[Signal, ...]

    @property
    def is_stable(self) -> bool:
        """Whether everything may be chance."""
        return not self.signals


def stability(values: FloatArray) -> Stability:
    """Evaluate (k, n) readings of one part: n on each of k occasions, in order of time.

    Raises `HemtraError` where there are too few occasions, or a reading was not measured.
    """
    values = np.asarray(values, np.float64)
    if not np.isfinite(values).all():
        raise HemtraError(
            f"{np.count_nonzero(~np.isfinite(values))} of the readings were not measured; repeat them."
        )
    if len(values) < FEWEST:
        raise HemtraError(f"{len(values)} occasions are too few; take {ADVISED}, and {FEWEST} at least.")
    means, count = values.mean(axis=1), values.shape[1]
    single = count == 1
    ranges = np.abs(np.diff(means)) if single else np.ptp(values, axis=1)
    usual, (d2, d3) = float(ranges.mean()), range_factors(2 if single else count)
    deviation = usual / d2
    reach = 3.0 * deviation / math.sqrt(count)
    centre, most = float(means.mean()), usual + 3.0 * d3 * deviation
    signals = [
        *(Signal(int(k), "beyond its limits") for k in np.flatnonzero(np.abs(means - centre) > reach)),
        *(Signal(int(k) + single, "readings too far apart") for k in np.flatnonzero(ranges > most)),
        *_in_a_row(np.sign(means - centre), ON_ONE_SIDE, f"{ON_ONE_SIDE} in a row on one side"),
        *(
            Signal(one.occasion + 1, one.why)
            for one in _in_a_row(np.sign(np.diff(means)), RISING - 1, f"{RISING} in a row in one direction")
        ),
    ]
    signals.sort(key=lambda one: one.occasion)
    return Stability(means, ranges, centre, centre - reach, centre + reach, usual, most, tuple(signals))


def _in_a_row(signs: FloatArray, many: int, why: str) -> list[Signal]:
    """At the last of so many alike in a row, the first time only."""
    found, run = [], 0
    for k, sign in enumerate(signs.tolist()):
        run = run + 1 if k and sign == signs[k - 1] and sign != 0.0 else int(sign != 0.0)
        if run == many:
            found.append(Signal(k, why))
    return found
