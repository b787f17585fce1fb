"""Small charts: a trend with its limits, a histogram, failures by balloon."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from reportlab.lib.units import mm
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable

from hemtra.core.arrays import FloatArray
from hemtra.core.plan.limits import Verdict
from hemtra.core.statistics import bins_of, thinned
from hemtra.storage.records.trends import Failures, Trend
from hemtra.storage.reports import page

POINTS = 240
"""Largest number of columns of a printed trend; each shows its minimum and maximum."""
BINS = 24
ROW = 5.2 * mm


class TrendChart(Flowable):
    """Values in the order of the parts, with the limits as a band, and beside it their histogram."""

    def __init__(self, trend: Trend, size: tuple[float, float]) -> None:
        super().__init__()
        self.width, self.height = size
        self._lower, self._upper = trend.lower, trend.upper
        self.alt = f"Trend and histogram of {trend.balloon} {trend.name}"
        self._x, self._low, self._high = thinned(trend.values, POINTS)
        known = trend.values[~np.isnan(trend.values)]
        self._span = _span(known, trend.lower, trend.upper)
        self._bins = bins_of(known, BINS, self._span)
        self._count = max(trend.values.size - 1, 1)

    def wrap(self, width: float, height: float) -> tuple[float, float]:
        """Its size in points."""
        return self.width, self.height

    def draw(self) -> None:
        """Band, limits, values, histogram."""
        canvas, beside = self.canv, 0.22 * self.width
        wide = self.width - beside - 3
        canvas.setFillColor(page.BAND)
        bottom = 0.0 if self._lower is None else self._level(self._lower)
        top = self.height if self._upper is None else self._level(self._upper)
        canvas.rect(0, bottom, wide, top - bottom, stroke=0, fill=1)
        canvas.setStrokeColor(page.MUTED)
        canvas.setLineWidth(0.4)
        for limit in (self._lower, self._upper):
            if limit is not None:
                canvas.line(0, self._level(limit), self.width, self._level(limit))
        self._draw_values(canvas, wide)
        peak = max(int(self._bins.max(initial=0)), 1)
        step = self.height / BINS
        canvas.setFillColor(page.ANCHOR)
        for k, number in enumerate(self._bins.tolist()):
            if number:
                canvas.rect(wide + 3, k * step, max(beside * number / peak, 0.6), step, stroke=0, fill=1)

    def _level(self, value: float) -> float:
        low, high = self._span
        return self.height * min(max((value - low) / (high - low), 0.0), 1.0)

    def _draw_values(self, canvas: Canvas, wide: float) -> None:
        canvas.setStrokeColor(page.INK)
        canvas.setLineWidth(0.5)
        line = canvas.beginPath()
        known = False
        for x, low, high in zip(self._x.tolist(), self._low.tolist(), self._high.tolist(), strict=True):
            if low != low:
                known = False  # nothing was measured there; the line is broken
                continue
            at = wide * x / self._count
            (line.lineTo if known else line.moveTo)(at, self._level(low))
            line.lineTo(at, self._level(high) + 0.01)
            known = True
        canvas.drawPath(line, stroke=1, fill=0)


class Pareto(Flowable):
    """Bars of what did not pass, the most frequent first."""

    def __init__(self, failures: Sequence[Failures], width: float, most: int = 10) -> None:
        super().__init__()
        self._rows = [row for row in failures if row.count][:most]
        self.width, self.height = width, ROW * max(len(self._rows), 1)
        worst = ", ".join(f"{row.balloon} {row.name}: {row.count}" for row in self._rows)
        self.alt = f"Not passed, most frequent first: {worst or 'nothing'}"

    def wrap(self, width: float, height: float) -> tuple[float, float]:
        """Its size in points."""
        return self.width, self.height

    def draw(self) -> None:
        """Balloon, name, bar, number."""
        canvas = self.canv
        if not self._rows:
            canvas.setFillColor(page.MUTED)
            canvas.setFont(page.REGULAR, 8)
            canvas.drawString(0, ROW * 0.3, "Every part passed every characteristic.")
            return
        peak, named = self._rows[0].count, 52 * mm
        room = self.width - named - 34 * mm
        for k, row in enumerate(self._rows):
            y = self.height - (k + 0.5) * ROW
            page.draw_balloon(canvas, 7, y, str(row.balloon), Verdict.FAIL, 5)
            canvas.setFillColor(page.INK)
            canvas.setFont(page.REGULAR, 8)
            canvas.drawString(18, y - 2.8, page.fitted(row.name, 8, named - 22))
            canvas.setFillColor(page.COLOURS[Verdict.FAIL])
            failed = room * (row.count - row.missing) / peak
            canvas.rect(named, y - 3.4, failed, 6.8, stroke=0, fill=1)
            canvas.setFillColor(page.COLOURS[Verdict.NOT_MEASURED])
            canvas.rect(named + failed, y - 3.4, room * row.missing / peak, 6.8, stroke=0, fill=1)
            canvas.setFillColor(page.INK)
            words = str(row.count) + (f" ({row.missing} not measured)" if row.missing else "")
            canvas.drawString(named + room * row.count / peak + 4, y - 2.8, words)


def _span(known: FloatArray, lower: float | None, upper: float | None) -> tuple[float, float]:
    """Range of the chart: limits and nearly all values, so that one outlier does not flatten the rest."""
    ends = [limit for limit in (lower, upper) if limit is not None]
    if known.size:
        ends += np.percentile(known, [0.5, 99.5]).tolist()
    low, high = (min(ends), max(ends)) if ends else (0.0, 1.0)
    room = 0.1 * (high - low) or 0.1
    return low - room, high + room
