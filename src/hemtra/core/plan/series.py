"""A characteristic measured many times on one part: at the profiles of a run or the instances of an outline."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, TypeAlias

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.coverage import Coverage
from hemtra.core.geometry.elements import Number
from hemtra.core.plan.limits import SLACK, Verdict, evaluate, thresholds
from hemtra.core.text import percent

Over: TypeAlias = Literal["each", "mean", "worst", "share"]
"""Rules by which many values of one characteristic give one verdict."""
WORDS = {"mm": "profiles", "instance": "instances", "section": "sections"}


@dataclass(frozen=True)
class Series:
    """Values (n,) of one characteristic, NaN where it was not measured, and where each was taken.

    at: (n,) mm along travel or along a path, or the number of the instance; `by` says which. places: (n, 3) in
    mm. reasons: why there is no value, by index. least: percent that must be measured, where that is not asked
    for by the plan.
    """

    values: FloatArray
    at: FloatArray
    places: FloatArray
    reasons: dict[int, str]
    by: Literal["mm", "instance", "section"] = "mm"
    least: float | None = None
    around: float | None = None
    """Length of a closed path, on which the last is beside the first, mm; None elsewhere."""

    @property
    def measured(self) -> BoolArray:
        """(n,) which of them were."""
        return ~np.isnan(self.values)

    @property
    def coverage(self) -> Coverage:
        """Share measured, and the longest stretch not measured, in mm of a sequence or path."""
        count, measured = self.values.size, self.measured
        if not count:
            return Coverage(seen=0.0)
        gap = 0.0
        if self.by != "instance" and count > 1:
            spacing = float(np.median(np.diff(self.at)))
            ends = stretches(~measured)
            gap = max((float(self.at[last] - self.at[first]) + spacing for first, last in ends), default=0.0)
            if self.around is not None and len(ends) > 1 and not measured[0] and not measured[-1]:
                # on a closed path the last stretch continues at the start
                (_, end), (begin, _) = ends[0], ends[-1]
                joined = float(self.at[end] - self.at[begin]) + self.around + spacing
                gap = max(gap, joined)
        return Coverage(float(measured.mean()), gap, points=count)


@dataclass(frozen=True)
class MeasuredAlong(Number):
    """A quantity that is evaluated on every section of a path; its value is their mean."""

    series: Series | None = None


@dataclass(frozen=True)
class Combined:
    """Result of a series: one value, its index, its verdict and the reason."""

    value: float | None
    at: int
    verdict: Verdict
    reason: str
    share: float
    """Share of all values that were measured and lie within the limits, 0 to 1."""
    least: float | None = None
    greatest: float | None = None
    """Share of the measured values."""


@dataclass(frozen=True)
class Demand:
    """Limits and how a series is held against them.

    share: percent that must lie within, for “share”. least: percent that must be measured at all; “each” asks
    for all of them.
    """

    over: Over
    lower: float | None
    upper: float | None
    decimals: int
    uncertainty: float = 0.0
    share: float = 95.0
    least: float = 95.0


def combined(series: Series, demand: Demand) -> Combined:
    """Reduce many values to one value and verdict.

    each: every one must be measured and pass. mean: their mean must pass. worst: the one farthest out must
    pass. share: so many percent of all must pass; what was not measured does not. For mean, worst and share the
    least share must be measured.
    """
    count, found = series.values.size, np.flatnonzero(series.measured)
    outside = beyond(series.values[found], demand.lower, demand.upper)
    proven = thresholds(demand.lower, demand.upper, demand.uncertainty)
    surely = beyond(series.values[found], proven.pass_from, proven.pass_to) <= 0.0
    within = float(np.count_nonzero(surely)) / count if count else 0.0
    worst = int(found[np.argmax(outside)]) if found.size else 0
    missing = _missing(series, demand)
    if not found.size:
        return Combined(None, 0, Verdict.NOT_MEASURED, missing, 0.0)
    value = float(series.values[worst])
    limits = (demand.lower, demand.upper, demand.decimals, demand.uncertainty)
    if demand.over == "mean":
        value = float(series.values[found].mean())
        verdict, reason = evaluate(value, *limits)
    elif demand.over == "share":
        value = float(series.values[found].mean())
        enough = 100.0 * within >= demand.share - 1e-9
        verdict = Verdict.PASS if enough else Verdict.FAIL
        reason = "" if enough else f"{percent(within, 1)} within its limits, below {demand.share:g} %"
    else:
        verdict, reason = evaluate(value, *limits)
        if reason:
            reason = f"{reason} {_where(series, worst, outside, demand)}"
    if missing and verdict is not Verdict.FAIL:
        verdict, reason = Verdict.NOT_MEASURED, missing
    span = float(series.values[found].min()), float(series.values[found].max())
    return Combined(value, worst, verdict, reason, within, *span)


def beyond(values: FloatArray, lower: float | None, upper: float | None) -> FloatArray:
    """(n,) how far each value lies outside its limits; below zero inside."""
    out = np.full(values.shape, -np.inf)
    for limit, sign in ((lower, -1.0), (upper, 1.0)):
        if limit is not None:
            off = sign * (values - limit)
            # what binary digits cannot distinguish from the decimal that was typed lies on it
            off = np.where(np.abs(off) <= SLACK * np.maximum(np.abs(values), abs(limit)), 0.0, off)
            out = np.maximum(out, off)
    return out


def stretches(outside: BoolArray) -> list[tuple[int, int]]:
    """First and last index of each run of neighbours that are outside."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], outside, [False]]).astype(np.int8)))
    return [(int(a), int(b) - 1) for a, b in edges.reshape(-1, 2)]


@dataclass(frozen=True)
class Stretch:
    """A stretch of a run or path that is out of limits: mm from its start, how long, and its worst value."""

    start: float
    length: float
    worst: float


def out_of_limits(series: Series, lower: float | None, upper: float | None) -> list[Stretch]:
    """The stretches whose values lie beyond the limits; they end where these are crossed between neighbours."""
    if series.at.size < 2:
        return []
    apart = float(np.median(np.diff(series.at)))
    far = beyond(np.where(series.measured, series.values, np.nan), lower, upper)
    far[~series.measured] = -np.inf

    def end(k: int, way: int) -> float:
        """Boundary between a stretch that ends at one value and the next."""
        n, half = k + way, way * apart / 2
        if not 0 <= n < far.size or abs(series.at[n] - series.at[k]) > 1.5 * apart or not np.isfinite(far[n]):
            return float(series.at[k]) + half
        share = far[k] / (far[k] - far[n])
        return float(series.at[k] + share * (series.at[n] - series.at[k]))

    out = far > 0.0
    for first, last in stretches(~series.measured):
        # what was not measured between two that are out does not part them
        if first > 0 and last + 1 < out.size and out[first - 1] and out[last + 1]:
            out[first : last + 1] = True
    found = []
    for first, last in stretches(out):
        start, stop = end(first, -1), end(last, 1)
        worst = first + int(np.argmax(far[first : last + 1]))
        found.append(Stretch(start, stop - start, float(series.values[worst])))
    if series.around is not None and len(found) > 1 and out[0] and out[-1]:
        head, *others, tail = found
        both = np.array([head.worst, tail.worst])
        farther = float(both[np.argmax(beyond(both, lower, upper))])
        found = [*others, Stretch(tail.start, tail.length + head.length, farther)]
    return found


def _where(series: Series, worst: int, outside: FloatArray, demand: Demand) -> str:
    failing = int(np.count_nonzero(outside > demand.uncertainty))
    if series.by == "instance":
        return f"at instance {series.at[worst]:.0f}, {failing} of {series.values.size} outside"
    return f"at {series.at[worst]:.1f} mm, {failing} of {series.values.size} {WORDS[series.by]} outside"


def _missing(series: Series, demand: Demand) -> str:
    """Reason with too few measured; nothing with enough."""
    count, measured = series.values.size, int(np.count_nonzero(series.measured))
    least = 100.0 if demand.over == "each" else demand.least
    if series.least is not None:
        least = series.least
    if count and 100.0 * measured >= least * count - 1e-9:
        return ""
    reasons = list(series.reasons.values())
    usual = max(set(reasons), key=reasons.count) if reasons else "there was nothing to measure"
    return f"measured on {measured} of {count} {WORDS[series.by]}; otherwise {usual}"
