"""Chart data of a studied row, for paper and screen alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.gauge.study import StudiedRow

AT_ONE_PART = 0.6
"""Share of the width of a part over which the readings of its operators are spread."""


@dataclass(frozen=True)
class Series:
    """Readings of one operator. at: their places, groups count from 0."""

    name: str
    at: FloatArray
    values: FloatArray


@dataclass(frozen=True)
class Line:
    """A level across the picture, with its name."""

    value: float
    kind: Literal["centre", "limit"]
    name: str


@dataclass(frozen=True)
class GaugeChart:
    """groups: names along the lower axis, empty where readings are only counted. Values in the row's unit."""

    title: str
    groups: tuple[str, ...]
    series: tuple[Series, ...]
    lines: tuple[Line, ...]

    @property
    def span(self) -> tuple[float, float]:
        """From the lowest to the highest of what is drawn, with a little room."""
        drawn = [line.value for line in self.lines] + [float(v) for one in self.series for v in one.values]
        low, high = (min(drawn), max(drawn)) if drawn else (0.0, 1.0)
        room = 0.08 * (high - low) or 0.5e-3
        return low - room, high + room


def chart_of(row: StudiedRow) -> GaugeChart | None:
    """The picture of a row; None where it was not evaluated."""
    if row.readings is None:
        return None
    if row.chart is not None:
        return _over_time(row)
    return _against_reference(row) if row.size is not None else _by_part(row)


def _by_part(row: StudiedRow) -> GaugeChart:
    """Deviation of each reading from its part's mean, which is the gauge's own contribution."""
    assert row.readings is not None
    values = row.readings.values
    off = values - values.mean(axis=(1, 2), keepdims=True)
    parts, operators, trials = values.shape
    series = []
    for k, operator in enumerate(row.readings.operators):
        place = 0.0 if operators == 1 else AT_ONE_PART * (k / (operators - 1) - 0.5)
        at = np.repeat(np.arange(parts) + place, trials)
        series.append(Series(operator, at, off[:, k, :].ravel()))
    lines = [Line(0.0, "centre", "mean of the part")]
    if row.width is not None:
        # where six deviations of a usable gauge lie
        usable = row.rule.usable / 100.0 * row.width / 2.0
        lines += [Line(side * usable, "limit", f"{row.rule.usable:g} % of the tolerance") for side in (-1, 1)]
    return GaugeChart(f"off the mean of its part, {row.unit}", row.readings.parts, tuple(series), tuple(lines))


def _against_reference(row: StudiedRow) -> GaugeChart:
    """Readings in their order, about the known size."""
    assert row.readings is not None
    assert row.size is not None
    values = row.readings.values.ravel()
    reference = row.size.mean - row.size.bias
    lines = [Line(reference, "centre", "known size")]
    if row.width is not None:
        reach = row.rule.one.share / 200.0 * row.width
        name = f"{row.rule.one.share:g} % of the tolerance"
        lines += [Line(reference + side * reach, "limit", name) for side in (-1, 1)]
    series = Series("", np.arange(float(values.size)), values)
    return GaugeChart(f"readings, {row.unit}", (), (series,), tuple(lines))


def _over_time(row: StudiedRow) -> GaugeChart:
    """The control chart of the means."""
    assert row.chart is not None
    assert row.readings is not None
    chart = row.chart
    series = Series("", np.arange(float(chart.means.size)), chart.means)
    lines = (
        Line(chart.centre, "centre", "centre"),
        Line(chart.low, "limit", "control limit"),
        Line(chart.high, "limit", "control limit"),
    )
    return GaugeChart(f"mean of an occasion, {row.unit}", row.readings.operators, (series,), lines)
