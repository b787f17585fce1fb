"""Encoder resolution, measured instead of remembered."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from hemtra.core.errors import NotMeasured

MOST_SPREAD = 0.01
"""Largest relative difference between runs over the same travel."""


@dataclass(frozen=True)
class Run:
    """A known travel in mm and its counts; both may be negative for travel backwards."""

    travel: float
    counts: int


@dataclass(frozen=True)
class Resolution:
    """Counts per mm, its standard error, and how far each run lies from it as a share."""

    counts_per_mm: float
    error: float
    deviations: tuple[float, ...]


def measure_resolution(runs: Sequence[Run]) -> Resolution:
    """Counts per mm from repeated runs over known travels, by least squares through the origin.

    A longer travel weighs more, as it should: a count more or less at its ends matters less. Raises
    `NotMeasured` when a run is useless or the runs contradict each other.
    """
    if not runs:
        raise NotMeasured("no run has been made; move the line over a known travel")
    for number, run in enumerate(runs, start=1):
        if not math.isfinite(run.travel) or run.travel == 0.0:
            raise NotMeasured(f"run {number} has no travel; enter the millimetres the line moved")
        if run.counts == 0:
            raise NotMeasured(f"run {number} made no counts; check the encoder's wheel and cable")
    squares = sum(run.travel**2 for run in runs)
    found = sum(run.travel * run.counts for run in runs) / squares
    rates = [run.counts / run.travel for run in runs]
    usual = sorted(rates)[len(rates) // 2]
    deviations = tuple(rate / usual - 1.0 for rate in rates)
    if max(map(abs, deviations)) > MOST_SPREAD:
        worst = max(range(len(runs)), key=lambda k: abs(deviations[k]))
        raise NotMeasured(
            f"the runs contradict each other: run {worst + 1} is {100 * deviations[worst]:+.1f} % off;"
            " the wheel may slip, or a travel was typed wrong"
        )
    deviations = tuple(rate / found - 1.0 for rate in rates)
    left = sum((run.counts - found * run.travel) ** 2 for run in runs)
    error = math.sqrt(left / (len(runs) - 1) / squares) if len(runs) > 1 else math.nan
    return Resolution(abs(found), error, deviations)
