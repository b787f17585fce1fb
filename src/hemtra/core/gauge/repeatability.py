"""Repeatability and reproducibility of a gauge, by average and range or by analysis of variance.

AIAG, Measurement Systems Analysis, 4th edition, chapter III section B.
"""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, TypeAlias

import numpy as np
import scipy  # its parts load when they are used first
from numpy.typing import NDArray

from hemtra.core.errors import HemtraError
from hemtra.core.gauge.ranges import bias_factor
from hemtra.core.gauge.readings import Readings

Method: TypeAlias = Literal["ranges", "anova"]
POOLED = 0.25
"""Probability from which on an interaction is taken for none, and pooled with the repeatability."""
CATEGORIES = 1.41
"""Standard deviations of the gauge, times this, by which a part must differ to be another sort (the square root
of two, as the manual rounds it)."""
CONFIDENCE = 0.95


@dataclass(frozen=True)
class Component:
    """A part of the variation: its standard deviation, and between what it lies with 95 % confidence."""

    deviation: float
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True)
class Source:
    """A line of the analysis of variance. chance: of an F as large where there is no such effect."""

    name: str
    squares: float
    freedom: int
    f: float | None = None
    chance: float | None = None
    known: float = math.inf
    """Degrees of freedom that the scatter of its shares allows, where it was looked at."""

    @property
    def mean_square(self) -> float:
        """Squares for each degree of freedom."""
        return self.squares / self.freedom if self.freedom else math.nan


@dataclass(frozen=True)
class Repeatability:
    """Result of a study, as standard deviations in the unit of the characteristic.

    repeatability: EV. reproducibility: AV, 0 with one operator. interaction: of operators and parts, 0 where it
    is none or unknown. gauge: GRR, all three together. parts: PV. total: TV.
    """

    method: Method
    repeatability: Component
    reproducibility: Component
    interaction: Component
    gauge: Component
    parts: Component
    total: float
    sources: tuple[Source, ...] = ()

    @property
    def categories(self) -> int:
        """ndc: sorts of parts that the gauge can distinguish, at least 1."""
        if self.gauge.deviation == 0.0:
            return 1_000_000 if self.parts.deviation > 0.0 else 1
        return max(1, int(CATEGORIES * self.parts.deviation / self.gauge.deviation))

    def of_total(self, one: Component) -> float:
        """Percent of the total variation; standard deviations, so that these do not add up to 100."""
        return 100.0 * one.deviation / self.total if self.total > 0.0 else 0.0


def repeatability(readings: Readings, method: Method = "anova") -> Repeatability:
    """Evaluate a study. Raises `HemtraError` with less than two parts or two trials."""
    parts, _, trials = readings.values.shape
    if parts < 2:
        raise HemtraError("All readings are of one part; a study needs two parts at least, better ten.")
    if trials < 2:
        raise HemtraError("Each part was measured once; repeatability needs two trials at least, better three.")
    return _by_ranges(readings) if method == "ranges" else _by_variance(readings)


def _by_ranges(readings: Readings) -> Repeatability:
    """Average and range; interaction is not separated."""
    values = readings.values
    parts, operators, trials = values.shape
    ev = float(np.ptp(values, axis=2).mean()) / bias_factor(trials)
    av = 0.0
    if operators > 1:
        apart = float(np.ptp(values.mean(axis=(0, 2)))) / bias_factor(operators, 1.0)
        av = math.sqrt(max(apart**2 - ev**2 / (parts * trials), 0.0))
    pv = float(np.ptp(values.mean(axis=(1, 2)))) / bias_factor(parts, 1.0)
    grr = math.hypot(ev, av)
    none = Component(0.0)
    return Repeatability(
        "ranges", Component(ev), Component(av), none, Component(grr), Component(pv), math.hypot(grr, pv)
    )


def _by_variance(readings: Readings) -> Repeatability:
    """Two-way analysis of variance with random effects; an interaction that may be chance is pooled."""
    values = readings.values
    p, o, n = values.shape
    mean = values.mean()
    by_part, by_operator, by_cell = values.mean(axis=(1, 2)), values.mean(axis=(0, 2)), values.mean(axis=2)
    parts = Source("parts", float(o * n * ((by_part - mean) ** 2).sum()), p - 1)
    operators = Source("operators", float(p * n * ((by_operator - mean) ** 2).sum()), o - 1)
    crossed = by_cell - by_part[:, None] - by_operator[None, :] + mean
    apart, within = n * crossed**2, ((values - by_cell[:, :, None]) ** 2).sum(axis=2)
    both = _shared("interaction", apart.sum(axis=1), (p - 1) * (o - 1))
    error = _shared("repeatability", within, p * o * (n - 1))
    both = _tested(both, error)
    pooled = both.freedom == 0 or both.chance is None or both.chance > POOLED
    if pooled and both.freedom:
        error_used = _shared("pooled", (within + apart).sum(axis=1), error.freedom + both.freedom)
    else:
        error_used = error
    against = error_used if pooled else both
    ev2, pv2 = error_used.mean_square, max((parts.mean_square - against.mean_square) / (o * n), 0.0)
    # one operator cannot differ from another
    av2 = 0.0 if o < 2 else max((operators.mean_square - against.mean_square) / (p * n), 0.0)
    int2 = 0.0 if pooled else max((both.mean_square - error.mean_square) / n, 0.0)
    grr2 = ev2 + av2 + int2
    # as the manual prints it, effects are tested against the repeatability
    table = (_tested(operators, error), _tested(parts, error), both, error)
    return Repeatability(
        "anova",
        _with_limits(ev2, [(1.0, error_used)]),
        _with_limits(av2, [(1.0 / (p * n), operators), (-1.0 / (p * n), against)] if o > 1 else []),
        _with_limits(int2, [] if pooled else [(1.0 / n, both), (-1.0 / n, error)]),
        _with_limits(grr2, _terms_of_gauge((p, o, n), operators, both, error, error_used, pooled)),
        _with_limits(pv2, [(1.0 / (o * n), parts), (-1.0 / (o * n), against)]),
        math.sqrt(grr2 + pv2),
        table,
    )


def _terms_of_gauge(
    shape: tuple[int, int, int], operators: Source, both: Source, error: Source, pooled: Source, is_pooled: bool
) -> list[tuple[float, Source]]:
    """The variance of the gauge as a sum of mean squares."""
    p, o, n = shape
    if is_pooled:
        return [(1.0, pooled)] if o < 2 else [(1.0 / (p * n), operators), (1.0 - 1.0 / (p * n), pooled)]
    return [(1.0 / (p * n), operators), (1.0 / n - 1.0 / (p * n), both), (1.0 - 1.0 / n, error)]


def _shared(name: str, shares: NDArray[np.float64], freedom: int) -> Source:
    """A source whose squares are the sum of equally many for each part, or part and operator.

    A gauge that scatters more on one part, or at the hands of one operator, knows its mean square less well
    than the count of readings says. Shares of one normal scatter have a relative variance of two for each
    degree of freedom; where these lie further apart, they stand for fewer degrees (Box 1953; Satterthwaite
    1946).
    """
    total, apart = float(shares.sum()), float(shares.var(ddof=1))
    known = max(2.0 * shares.size * float(shares.mean()) ** 2 / apart, 1.0) if apart > 0.0 else math.inf
    return Source(name, total, freedom, known=known)


def _tested(one: Source, against: Source) -> Source:
    """With its F and how likely that is by chance; without where nothing is left to test it against."""
    if one.freedom < 1 or against.freedom < 1 or not against.mean_square > 0.0:
        return one
    f = one.mean_square / against.mean_square
    chance = float(scipy.stats.f.sf(f, one.freedom, against.freedom))
    return dataclasses.replace(one, f=f, chance=chance)


def _with_limits(variance: float, terms: Sequence[tuple[float, Source]]) -> Component:
    """A variance component with the modified large-sample limits of a sum or difference of mean squares.

    Graybill and Wang 1980; for gauge studies Burdick, Borror and Montgomery 2005.
    """
    deviation = math.sqrt(max(variance, 0.0))
    if not terms or any(source.freedom < 1 for _, source in terms):
        return Component(deviation)
    tail = (1.0 - CONFIDENCE) / 2.0
    total, down, up = 0.0, 0.0, 0.0
    for factor, source in terms:
        n, part = min(source.freedom, source.known), factor * source.mean_square
        less = (1.0 - n / float(scipy.stats.chi2.ppf(1.0 - tail, n))) * part
        more = (n / float(scipy.stats.chi2.ppf(tail, n)) - 1.0) * part
        total += part
        # what is taken away makes the difference small where it is large
        down += (less if factor > 0.0 else more) ** 2
        up += (more if factor > 0.0 else less) ** 2
    low, high = max(total - math.sqrt(down), 0.0), max(total + math.sqrt(up), 0.0)
    return Component(deviation, math.sqrt(low), math.sqrt(high))
