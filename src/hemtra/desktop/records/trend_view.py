"""A characteristic over many parts: its values in order, their histogram, and its statistics."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QFontMetricsF,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from hemtra.desktop.models.records_bench import CharacteristicTrend, RecordsBench, TrendSeries
from hemtra.desktop.records.trend_chart import Chart, draw_histogram, draw_scale, draw_series
from hemtra.desktop.records.trend_statistics import draw_statistics, draw_texts
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_balloon, draw_chip, draw_panel
from hemtra.storage.records.trends import Trend

HEAD, FOOT, LEFT, BESIDE = 34.0, 62.0, 58.0, 128.0
"""Margins above and below the chart, for its scale at the left, and its histogram at the right, pixels."""
NEAR = 9.0
CLOSEST = 5
"""Minimum number of parts in view."""

WORDINGS = 4
"""Number of wordings for a series, from the longest on."""


class LotTrendView(QWidget):
    """The wheel looks closer, dragging goes along, a double click shows all; a click on a part opens it.

    A characteristic that was renamed or whose limits changed is drawn as a series of its own beside the first;
    a click on its name chooses whose statistics are shown.
    """

    part_wanted = Signal(int)
    """Key of a part."""

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self.setMinimumHeight(220)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trend of the characteristic; left and right move along, plus and minus zoom")
        self._bench = bench
        self.chosen = 0
        """Series whose statistics are shown."""
        self.view = (0.0, 1.0)
        """From which to which part, counted over all series, the chart shows."""
        self.shown: CharacteristicTrend | None = None
        """Values in the unit shown."""
        self._span = (0.0, 1.0)
        self._pulled: tuple[float, tuple[float, float]] | None = None
        self._moved = self._brushes = False
        self._words: list[str] = []
        """Texts on the chips of the series."""
        self._cursor: QPointF | None = None
        bench.trend_changed.connect(self.refresh)

    def sizeHint(self) -> QSize:
        """Wide and not high."""
        return QSize(600, 280)

    def refresh(self) -> None:
        """Show another trend whole, its newest series chosen."""
        trend = self._bench.trend
        same = trend is not None and self.shown is not None and trend.balloon == self.shown.balloon
        trend = self.shown = None if trend is None else trend.in_unit(units.current())
        if trend is not None and trend.series:
            self.chosen = len(trend.series) - 1 if not same else min(self.chosen, len(trend.series) - 1)
            self._span = trend.span
        self._show_all()

    # -- where things lie -------------------------------------------------------------------------

    @property
    def frame(self) -> QRectF:
        """Frame of the values."""
        wide = max(self.width() - LEFT - BESIDE - 12.0, 40.0)
        return QRectF(LEFT, HEAD, wide, max(self.height() - HEAD - FOOT, 40.0))

    @property
    def chart(self) -> Chart:
        """Current layout."""
        return Chart(self.frame, self.view, self._span)

    @property
    def _count(self) -> int:
        return sum(series.trend.values.size for series in self._series)

    @property
    def _series(self) -> tuple[TrendSeries, ...]:
        return self.shown.series if self.shown is not None else ()

    def _starts(self) -> list[int]:
        """Index of the first part of each series."""
        sizes = [series.trend.values.size for series in self._series]
        return np.cumsum([0, *sizes[:-1]]).tolist() if sizes else []

    def _show_all(self) -> None:
        self.view = (-0.5, max(self._count - 0.5, 0.5))
        self.update()

    def part_near(self, place: QPointF) -> tuple[Trend, int] | None:
        """The series and index of the part whose value lies at a pixel."""
        frame, (first, last), chart = self.frame, self.view, self.chart
        if not frame.adjusted(-4, -4, 4, 4).contains(place):
            return None
        wanted = first + (place.x() - frame.left()) / frame.width() * (last - first)
        reach = NEAR / frame.width() * (last - first)
        best: tuple[float, Trend, int] | None = None
        for start, series in zip(self._starts(), self._series, strict=True):
            values = series.trend.values
            low = max(math.ceil(wanted - reach) - start, 0)
            high = min(math.floor(wanted + reach) - start + 1, values.size)
            for k in range(low, min(high, low + 2000)):
                if values[k] == values[k]:
                    spot = chart.shown(start + k, float(values[k]))
                    far = math.hypot(spot.x() - place.x(), spot.y() - place.y())
                    if far <= NEAR and (best is None or far < best[0]):
                        best = far, series.trend, k
        return None if best is None else (best[1], best[2])

    # -- painting ---------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Head, chart, histogram, statistics."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_panel(painter, self)
        trend = self.shown
        if trend is None:
            self._say(painter, "Choose lots on the left: each characteristic is drawn here over their parts.")
        else:
            self._draw_head(painter, trend)
            if trend.texts is not None:
                draw_texts(painter, QRectF(self.rect()).adjusted(0, HEAD, 0, 0), trend)
            elif not trend.series:
                self._say(painter, "No part of these lots has a value of it.")
            else:
                chart, chosen = self.chart, trend.series[self.chosen]
                draw_scale(painter, chart)
                for start, series in zip(self._starts(), trend.series, strict=True):
                    draw_series(painter, chart, start, series)
                draw_histogram(painter, chart, chosen, BESIDE - 8)
                at = QPointF(16, self.height() - FOOT + 18)
                draw_statistics(painter, at, self.width() - 32.0, chosen)
                self._draw_pointed(painter)
                if self._brushed is not None:
                    left, right = self._brushed
                    area = QRectF(left, self.frame.top(), right - left, self.frame.height())
                    painter.fillRect(area, theme.colour("copper", 40))
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("copper"), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)
        painter.end()

    def _say(self, painter: QPainter, words: str) -> None:
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(13))
        painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, words)

    def _draw_head(self, painter: QPainter, trend: CharacteristicTrend) -> None:
        names = {row.balloon: row.name for row in self._bench.overview.failures}
        draw_balloon(painter, QPointF(22, 18), str(trend.balloon), trend.verdict, radius=10)
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(14, bold=True))
        name = names.get(trend.balloon, "")
        painter.drawText(QPointF(40, 23), name)
        left = 52 + painter.fontMetrics().horizontalAdvance(name)
        for k, box in enumerate(self.chips(left)):
            chosen = k == self.chosen
            back = theme.colour("copper_wash" if chosen else "field")
            words = self._words[k]
            draw_chip(
                painter, box.topLeft(), words, back=back, ink=theme.colour("copper" if chosen else "muted")
            )

    def chips(self, left: float | None = None) -> list[QRectF]:
        """Positions of the series' names."""
        trend = self.shown
        if trend is None or trend.texts is not None:
            return []
        if left is None:
            names = {row.balloon: row.name for row in self._bench.overview.failures}
            bold = _metrics(14, bold=True)
            left = 52 + bold.horizontalAdvance(names.get(trend.balloon, ""))
        boxes, metrics = [], _metrics(12)
        for wording in range(WORDINGS):
            self._words = [_stood(series.trend, len(trend.series) > 1, wording) for series in trend.series]
            widths = [metrics.horizontalAdvance(words) + 16 for words in self._words]
            if left + sum(widths) + 6 * len(widths) <= self.width():
                break
        for wide in widths:
            boxes.append(QRectF(left, 6, wide, metrics.height() + 8))
            left += wide + 6
        return boxes

    def _draw_pointed(self, painter: QPainter) -> None:
        """Describe the item under the pointer."""
        found = None if self._cursor is None else self.part_near(self._cursor)
        if found is None or self._cursor is None:
            return
        trend, k = found
        name = [lot for at, lot in trend.starts if at <= k][-1]
        unit = "" if trend.unit == "°" else " "
        value = units.signed(f"{trend.values[k]:.{trend.decimals + 1}f}{unit}{trend.unit}")
        words = f"{name}: {value} · click opens the part"
        wide = _metrics(12).horizontalAdvance(words) + 16
        left = min(self._cursor.x() + 10, self.frame.right() - wide)
        draw_chip(painter, QPointF(left, max(self._cursor.y() - 34, HEAD)), words)

    # -- pointer and keys -------------------------------------------------------------------------

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Look closer about the pointer, or less close."""
        frame = self.frame
        share = min(max((event.position().x() - frame.left()) / frame.width(), 0.0), 1.0)
        self.zoom(1.0015 ** event.angleDelta().y(), share)

    def zoom(self, factor: float, share: float = 0.5) -> None:
        """Look closer by a factor about a share of the chart's width."""
        first, last = self.view
        wide = min(max((last - first) / factor, CLOSEST), max(self._count, 1))
        self._look(first + share * (last - first - wide), wide)

    def _look(self, first: float, wide: float) -> None:
        first = min(max(first, -0.5), max(self._count - 0.5 - wide, -0.5))
        self.view = first, first + wide
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose a series by its name, or take hold of the chart."""
        for k, box in enumerate(self.chips()):
            if box.contains(event.position()):
                self.chosen = k
                self.update()
                return
        self._pulled, self._moved = (event.position().x(), self.view), False
        # where all is shown there is nowhere to go along to
        shows_all = self.view[1] - self.view[0] >= self._count
        self._brushes = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier) or shows_all

    @property
    def _brushed(self) -> tuple[float, float] | None:
        """Pixels from and to of the stretch marked for zooming."""
        if self._pulled is None or not self._moved or not self._brushes or self._cursor is None:
            return None
        frame = self.frame
        ends = sorted(min(max(x, frame.left()), frame.right()) for x in (self._pulled[0], self._cursor.x()))
        return ends[0], ends[1]

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Go along, mark a stretch, or say what lies under the pointer."""
        self._cursor = event.position()
        if self._pulled is not None and abs(event.position().x() - self._pulled[0]) > 3:
            self._moved = True
        if self._pulled is not None and self._moved and not self._brushes:
            first, last = self._pulled[1]
            by = (event.position().x() - self._pulled[0]) / self.frame.width() * (last - first)
            self._look(first - by, last - first)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """A click on a part opens it; a marked stretch is zoomed in."""
        brushed, (first, last), frame = self._brushed, self.view, self.frame
        pulled, self._pulled = self._pulled, None
        if brushed is not None and brushed[1] - brushed[0] > NEAR:
            at = [first + (x - frame.left()) / frame.width() * (last - first) for x in brushed]
            self._look(at[0], max(at[1] - at[0], CLOSEST))
        found = self.part_near(event.position())
        if pulled is not None and not self._moved and found is not None:
            trend, k = found
            self.part_wanted.emit(int(trend.parts[k]))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Show all parts again."""
        self._show_all()

    def leaveEvent(self, event: QEvent) -> None:
        """Nothing is pointed at any more."""
        self._cursor = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go along, look closer, show all."""
        first, last = self.view
        wide = last - first
        match event.key():
            case Qt.Key.Key_Left:
                self._look(first - wide / 4, wide)
            case Qt.Key.Key_Right:
                self._look(first + wide / 4, wide)
            case Qt.Key.Key_Plus:
                self.zoom(1.5)
            case Qt.Key.Key_Minus:
                self.zoom(1 / 1.5)
            case Qt.Key.Key_Home:
                self._show_all()
            case _:
                super().keyPressEvent(event)


def _metrics(pixels: int, *, bold: bool = False) -> QFontMetricsF:
    """Widths of text where nothing is being painted."""
    return QFontMetricsF(theme.font(pixels, bold=bold))


def _stood(trend: Trend, named: bool, wording: int) -> str:
    """Describe a series: its limits, and where there are several its name, method and parts.

    wording: 0 for all of it, the last of `WORDINGS` for the least.
    """
    limits = f"{units.limits(trend.lower, trend.upper, trend.decimals)} {trend.unit}".strip()
    if not named:
        return limits
    method = f"method {trend.method}" if trend.method else ""
    parts = f"{trend.values.size} parts"
    ways = ((trend.name, limits, method, parts), (limits, method, parts), (limits, parts), (limits,))
    return "  ".join(words for words in ways[wording] if words)
