"""Trend painting: scale, limits, lots, values, and their histogram."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from hemtra.core.arrays import FloatArray, IntArray
from hemtra.core.plan.budget import USUAL_COVERAGE
from hemtra.core.statistics import BLOCK, Blocks, thinned
from hemtra.desktop.models.records_bench import TrendSeries
from hemtra.desktop.widgets import theme, units
from hemtra.storage.records.trends import Trend

DOTS = 300
"""Parts in view up to which each has a dot."""
MANY = 200_000
"""Parts in view from which on they are painted in blocks."""


@dataclass(frozen=True)
class Chart:
    """Layout: the frame in pixels, and its range of parts and values."""

    frame: QRectF
    view: tuple[float, float]
    span: tuple[float, float]

    def at(self, index: float, value: float) -> QPointF:
        """The pixel of a value of a part, counted over all series."""
        frame, (first, last), (low, high) = self.frame, self.view, self.span
        x = frame.left() + frame.width() * (index - first) / (last - first)
        return QPointF(x, frame.bottom() - frame.height() * (value - low) / (high - low))

    def shown(self, index: float, value: float) -> QPointF:
        """The same, but never off the chart."""
        return self.at(index, min(max(value, self.span[0]), self.span[1]))


def draw_scale(painter: QPainter, chart: Chart) -> None:
    """Round values on the left, with a line across."""
    frame, (low, high) = chart.frame, chart.span
    painter.setFont(theme.font(11))
    places = max(0, min(6, 1 - math.floor(math.log10(max((high - low) / 5, 1e-9)))))
    for value in ticks(low, high):
        y = chart.at(0, value).y()
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(QPointF(frame.left(), y), QPointF(frame.right(), y))
        painter.setPen(theme.colour("muted"))
        box = QRectF(4, y - 8, frame.left() - 10, 16)
        painter.drawText(
            box,
            Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            units.signed(f"{value:.{places}f}"),
        )


def draw_series(painter: QPainter, chart: Chart, start: int, series: TrendSeries) -> None:
    """A series: limits, lots, values; `start` is the index of its first part among all."""
    frame, (first, last), trend = chart.frame, chart.view, series.trend
    size = trend.values.size
    low, high = max(math.floor(first) - start, 0), min(math.ceil(last) - start + 1, size)
    if low >= high:
        return
    painter.save()
    painter.setClipRect(frame.adjusted(-1, -5, 1, 5))
    left = max(chart.at(start - 0.5, 0).x(), frame.left())
    right = min(chart.at(start + size - 0.5, 0).x(), frame.right())
    _draw_limits(painter, chart, trend, left, right)
    if start:
        painter.setPen(QPen(theme.colour("copper"), 1.4))
        painter.drawLine(QPointF(left, frame.top()), QPointF(left, frame.bottom()))
    _draw_lots(painter, chart, start, trend)
    columns = max(int(frame.width()), 50)
    if high - low > MANY:
        part = slice(low // BLOCK, math.ceil(high / BLOCK))
        blocks = Blocks(series.blocks.least[part], series.blocks.greatest[part], series.blocks.missing[part])
        x, least, greatest = thinned(blocks.least, columns, blocks.greatest)
        at, every = start + part.start * BLOCK + (BLOCK - 1) / 2, BLOCK
    else:
        x, least, greatest = thinned(trend.values[low:high], columns)
        blocks = Blocks(trend.values[low:high], trend.values[low:high], np.isnan(trend.values[low:high]))
        at, every = float(start + low), 1
    _draw_line(painter, chart, at + every * x, least, greatest)
    _draw_outside(painter, chart, trend, blocks, (at, every))
    painter.restore()


def _draw_limits(painter: QPainter, chart: Chart, trend: Trend, left: float, right: float) -> None:
    frame = chart.frame
    top = frame.top() if trend.upper is None else chart.at(0, trend.upper).y()
    bottom = frame.bottom() if trend.lower is None else chart.at(0, trend.lower).y()
    painter.fillRect(QRectF(left, top, right - left, bottom - top), theme.colour("passed", 22))
    pen = QPen(theme.colour("passed"), 1.2)
    pen.setDashPattern([5, 3])
    painter.setPen(pen)
    expanded = USUAL_COVERAGE * (trend.u or 0.0)
    for limit in (trend.lower, trend.upper):
        if limit is not None:
            # values in it may lie on either side of the limit
            above, below = (chart.at(0, limit + side * expanded).y() for side in (1, -1))
            painter.fillRect(QRectF(left, above, right - left, below - above), theme.colour("muted", 45))
            y = chart.at(0, limit).y()
            painter.drawLine(QPointF(left, y), QPointF(right, y))


def _draw_lots(painter: QPainter, chart: Chart, start: int, trend: Trend) -> None:
    """A line where another lot begins, and its name where there is room."""
    frame = chart.frame
    painter.setFont(theme.font(11))
    ends = [at for at, _ in trend.starts[1:]] + [trend.values.size]
    for (at, name), end in zip(trend.starts, ends, strict=True):
        x, beyond = chart.at(start + at - 0.5, 0).x(), chart.at(start + end - 0.5, 0).x()
        if at:
            painter.setPen(QPen(theme.colour("line"), 1))
            painter.drawLine(QPointF(x, frame.top()), QPointF(x, frame.bottom()))
        room = min(beyond, frame.right()) - max(x, frame.left()) - 6
        if room > 12:
            painter.setPen(theme.colour("muted"))
            short = name if painter.fontMetrics().horizontalAdvance(name) < room else name.rpartition(" ")[2]
            if painter.fontMetrics().horizontalAdvance(short) < room:
                painter.drawText(QPointF(max(x, frame.left()) + 4, frame.top() + 11), short)


def _draw_line(painter: QPainter, chart: Chart, x: FloatArray, least: FloatArray, greatest: FloatArray) -> None:
    """The values joined where each has a column of its own, else from minimum to maximum per column."""
    painter.setPen(QPen(theme.colour("ink"), 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if least is not greatest:
        _draw_columns(painter, chart, x, least, greatest)
        return
    known = np.flatnonzero(~np.isnan(least))
    spots = [
        chart.at(place, value) for place, value in zip(x[known].tolist(), least[known].tolist(), strict=True)
    ]
    # what was not measured breaks the line
    for piece in np.split(np.arange(known.size), np.flatnonzero(np.diff(known) > 1) + 1):
        painter.drawPolyline(QPolygonF(spots[piece[0] : piece[-1] + 1] if piece.size else []))
    if chart.view[1] - chart.view[0] <= DOTS:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ink"))
        for spot in spots:
            painter.drawEllipse(spot, 2.0, 2.0)


def _draw_columns(
    painter: QPainter, chart: Chart, x: FloatArray, least: FloatArray, greatest: FloatArray
) -> None:
    """Paint one upright line per column, joined to the one before; a polyline would take a second to draw."""
    known = np.flatnonzero(~np.isnan(least))
    low, high = least[known], greatest[known]
    beside = np.diff(known) == 1
    low[1:] = np.where(beside, np.minimum(low[1:], greatest[known][:-1]), low[1:])
    high[1:] = np.where(beside, np.maximum(high[1:], least[known][:-1]), high[1:])
    lines = [
        QLineF(chart.at(place, a), chart.at(place, b) + QPointF(0.0, 1.0))
        for place, a, b in zip(x[known].tolist(), low.tolist(), high.tolist(), strict=True)
    ]
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(QPen(theme.colour("ink"), 1))
    painter.drawLines(lines)
    painter.restore()


def _draw_outside(
    painter: QPainter, chart: Chart, trend: Trend, blocks: Blocks, places: tuple[float, int]
) -> None:
    """Parts beyond the limits as diamonds, those not measured as ticks at the bottom; one a pixel.

    places: of the first block, counted over all series, and how far each lies behind the one before.
    """
    frame = chart.frame
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("failed"))
    for limit, values, side in ((trend.lower, blocks.least, -1), (trend.upper, blocks.greatest, 1)):
        if limit is None:
            continue
        for spot in _spots(chart, places, np.flatnonzero(side * values > side * limit), values):
            corners = ((0, -4.5), (4.5, 0), (0, 4.5), (-4.5, 0))
            painter.drawPolygon(QPolygonF([spot + QPointF(dx, dy) for dx, dy in corners]))
    painter.setBrush(theme.colour("unmeasured"))
    bottom = np.full(blocks.missing.size, chart.span[0])
    for spot in _spots(chart, places, np.flatnonzero(blocks.missing), bottom):
        painter.drawRect(QRectF(spot.x() - 1.2, frame.bottom() - 5, 2.4, 5))


def _spots(chart: Chart, places: tuple[float, int], chosen: IntArray, values: FloatArray) -> list[QPointF]:
    """The pixels of some of the values, each once, however many lie on it."""
    first, every = places
    origin, step = chart.at(first, chart.span[0]), chart.at(first + every, chart.span[1])
    x = origin.x() + (step.x() - origin.x()) * chosen
    share = (np.clip(values[chosen], *chart.span) - chart.span[0]) / (chart.span[1] - chart.span[0])
    y = origin.y() + (step.y() - origin.y()) * share
    pixels = (
        np.unique(np.round(np.column_stack([x, y])), axis=0) if chosen.size > DOTS else np.column_stack([x, y])
    )
    return [QPointF(a, b) for a, b in pixels.tolist()]


def draw_histogram(painter: QPainter, chart: Chart, series: TrendSeries, room: float) -> None:
    """Beside the chart on the same scale, with the normal distribution of the same mean and spread."""
    frame, trend, found, bins = chart.frame, series.trend, series.statistics, series.bins
    if not found.count:
        return
    left = frame.right() + 12
    step, peak = frame.height() / bins.size, max(int(bins.max()), 1)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("anchor", 150))
    for k, number in enumerate(bins.tolist()):
        if number:
            box = QRectF(left, frame.bottom() - (k + 1) * step, max(room * number / peak, 1.0), step - 0.6)
            painter.drawRect(box)
    pen = QPen(theme.colour("passed"), 1.2)
    pen.setDashPattern([5, 3])
    painter.setPen(pen)
    for limit in (trend.lower, trend.upper):
        if limit is not None:
            y = chart.at(0, limit).y()
            painter.drawLine(QPointF(left, y), QPointF(left + room, y))
    if found.mean is None or not found.deviation:
        return
    levels = np.linspace(*chart.span, 80)
    width = (chart.span[1] - chart.span[0]) / bins.size
    shape = np.exp(-(((levels - found.mean) / found.deviation) ** 2) / 2) / (
        found.deviation * math.sqrt(2 * math.pi)
    )
    across = np.minimum(shape * found.count * width / peak, 1.05) * room
    painter.setPen(QPen(theme.colour("copper"), 1.3))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    points = [
        QPointF(left + a, chart.at(0, v).y()) for a, v in zip(across.tolist(), levels.tolist(), strict=True)
    ]
    painter.drawPolyline(QPolygonF(points))


def ticks(low: float, high: float) -> list[float]:
    """Round numbers between, about five of them."""
    raw = (high - low) / 5
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(power * k for k in (1, 2, 5, 10) if power * k >= raw)
    first = math.ceil(low / step)
    return [k * step for k in range(first, math.floor(high / step) + 1)]
