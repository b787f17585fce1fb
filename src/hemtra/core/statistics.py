"""Statistics of a characteristic over many parts: spread, capability and performance.

Terms and formulas of ISO 22514-1 and -2 for a normal distribution: performance from the spread of all values,
capability from the spread within, which for single values in the order they were made is estimated by their
moving range (ISO 7870-2).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, IntArray

D2 = 1.128
"""Mean range of two values of a standard normal distribution (ISO 7870-2, table of factors)."""
FEW = 50
"""Parts below which capability says little."""


@dataclass(frozen=True)
class Statistics:
    """Statistics of the measured values, in their unit; None with too few values, or without such a limit.

    deviation: of all values (n - 1). within: estimated from the moving range. pp, ppk: performance by the one;
    cp, cpk: capability by the other. Only limits that exist count; one alone gives no pp and no cp.
    cpk_of_parts: capability without what the gauge scatters, None where that is not known.
    """

    count: int
    missing: int
    mean: float | None = None
    deviation: float | None = None
    within: float | None = None
    least: float | None = None
    greatest: float | None = None
    pp: float | None = None
    ppk: float | None = None
    cp: float | None = None
    cpk: float | None = None
    cpk_of_parts: float | None = None

    def scaled(self, factor: float) -> Statistics:
        """The same of values so many times as large; indices stay as they are."""

        def by(value: float | None) -> float | None:
            return None if value is None else value * factor

        return replace(
            self,
            mean=by(self.mean),
            deviation=by(self.deviation),
            within=by(self.within),
            least=by(self.least),
            greatest=by(self.greatest),
        )

    @property
    def few(self) -> bool:
        """Whether there are too few parts for the indices to be trusted."""
        return self.count < FEW

    @property
    def warning(self) -> str:
        """Doubts about the indices; empty where there are none."""
        if self.ppk is None:
            return ""
        return f"from {self.count} parts only; below {FEW} they say little" if self.few else ""


def statistics(
    values: FloatArray, lower: float | None, upper: float | None, gauge: float | None = None
) -> Statistics:
    """Statistics of values (n,) in the order the parts were made, NaN where one was not measured.

    gauge: standard deviation of the gauge, where a study found it.
    """
    known = values[~np.isnan(values)].astype(np.float64, copy=False)
    missing = int(values.size - known.size)
    if known.size == 0:
        return Statistics(0, missing)
    # about the first value, so that a large mean costs no digits
    first = float(known[0])
    off = known - first
    middle = float(off.mean())
    mean, least, greatest = first + middle, float(known.min()), float(known.max())
    if known.size < 2:
        return Statistics(1, missing, mean, None, None, least, greatest)
    ranges = np.diff(off)
    within = float(np.abs(ranges, out=ranges).mean()) / D2
    off -= middle
    deviation = math.sqrt(float(off @ off) / (off.size - 1))
    pp, ppk = _indices(mean, deviation, lower, upper)
    cp, cpk = _indices(mean, within, lower, upper)
    of_parts = None
    if gauge is not None and gauge < within:
        # gauge and parts scatter by themselves, so their variances add up
        _, of_parts = _indices(mean, math.sqrt(within**2 - gauge**2), lower, upper)
    return Statistics(
        int(known.size),
        missing,
        mean,
        deviation,
        within,
        least,
        greatest,
        pp=pp,
        ppk=ppk,
        cp=cp,
        cpk=cpk,
        cpk_of_parts=of_parts,
    )


def _indices(
    mean: float, spread: float, lower: float | None, upper: float | None
) -> tuple[float | None, float | None]:
    """The index of the spread alone, and the one that also counts where its middle lies."""
    if spread <= 0.0:
        return None, None
    sides = []
    if upper is not None:
        sides.append((upper - mean) / (3.0 * spread))
    if lower is not None:
        sides.append((mean - lower) / (3.0 * spread))
    both = None if lower is None or upper is None else (upper - lower) / (6.0 * spread)
    return both, min(sides) if sides else None


BLOCK = 256
"""Values, one after the other, that are one block."""


@dataclass(frozen=True)
class Blocks:
    """Values in blocks of `BLOCK`, for pictures of very many: (k,) the least and the greatest of each.

    NaN where nothing of a block was measured. missing: (k,) whether something of it was not.
    """

    least: FloatArray
    greatest: FloatArray
    missing: BoolArray

    @classmethod
    def of(cls, values: FloatArray) -> Blocks:
        """The blocks of values (n,), NaN where one was not measured; the last may hold fewer."""
        starts = np.arange(0, values.size, BLOCK)
        missing = np.isnan(values)
        least, greatest = _ends(values, values, starts, missing)
        return cls(least, greatest, np.logical_or.reduceat(missing, starts) if starts.size else missing)

    def scaled(self, factor: float) -> Blocks:
        """The same of values so many times as large."""
        return replace(self, least=self.least * factor, greatest=self.greatest * factor)


def thinned(
    values: FloatArray, columns: int, greatest: FloatArray | None = None
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Values (n,) for a picture of so many columns: where each lies (an index), its least and greatest value.

    (k,) each, k at most `columns`; NaN where nothing of a column was measured. greatest: (n,) where these are
    blocks, of which the values are the least.
    """
    above = values if greatest is None else greatest
    if values.size <= columns:
        return np.arange(float(values.size)), values, above
    starts = np.linspace(0, values.size, columns + 1).astype(np.int64)[:-1]
    low, high = _ends(values, above, starts, np.isnan(values))
    middle = (starts + np.append(starts[1:], values.size) - 1) / 2
    return middle, low, high


def _ends(
    low: FloatArray, high: FloatArray, starts: IntArray, missing: BoolArray
) -> tuple[FloatArray, FloatArray]:
    """The least and the greatest from each of some starts to the next, NaN where all is missing."""
    if not starts.size:
        return np.empty(0), np.empty(0)
    least = np.minimum.reduceat(np.where(missing, np.inf, low), starts)
    greatest = np.maximum.reduceat(np.where(missing, -np.inf, high), starts)
    nothing = np.isinf(least)
    least[nothing] = greatest[nothing] = np.nan
    return least, greatest


def bins_of(values: FloatArray, count: int, span: tuple[float, float]) -> IntArray:
    """(count,) how many values lie in each of the bins of a span; those beyond it count to its ends."""
    low, high = span
    bins = ((values - low) * (count / (high - low))).clip(0, count - 1)
    return np.bincount(bins.astype(np.int32), minlength=count)
