"""The legend of the height colours: a bar with the histogram of heights beside it and ends to drag."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QKeyEvent,
    QLinearGradient,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
)
from PySide6.QtWidgets import QWidget

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.rendering.palettes import height_palette
from hemtra.desktop.widgets import theme, units

BINS = 96
SAMPLED = 120_000
"""Largest number of heights in the histogram; more do not change its look."""
TAIL = 0.2
"""Share of the heights at either end outside the proposed scale, percent, so spikes do not stretch it."""
KEY_STEP = 0.02
"""Part of the whole range that an arrow key moves an end by."""
LEAST_RANGE = 0.002


class Legend(QWidget):
    """Shows and changes which heights the colours span."""

    range_changed = Signal(float, float)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setFixedSize(86, 216)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Colours; up and down move their upper end, with Shift their lower one")
        self.setMouseTracking(True)
        self._span = (0.0, 1.0)
        self._full = (0.0, 1.0)
        self.colours, self._unit = height_palette(), "mm"
        self._counts: FloatArray = np.zeros(BINS)
        self._drag: int | None = None
        self._chosen = False

    @property
    def span(self) -> tuple[float, float]:
        """The heights in mm at the ends of the colours."""
        return self._span

    def choose(self, heights: FloatArray) -> None:
        """Set the colour range to these heights (n,) without outliers; the same again fits the part."""
        if heights.size == 0:
            return
        low, high = (float(p) for p in np.percentile(heights, [TAIL, 100 - TAIL]))
        room = max(0.04 * (high - low), LEAST_RANGE)
        wanted = (low - room, high + room)
        again = self._chosen and np.allclose(wanted, self._span)
        self._chosen = not again
        self.set_span(*(self._full if again else wanted))

    def forget(self) -> None:
        """The scale the user has chosen was for something else."""
        self._chosen = False

    def set_data(
        self, data: HeightMap | None, palette: ByteArray, *, unit: str = "mm", even: bool = False
    ) -> None:
        """Take the histogram of another map and propose a scale for it, unless the user has chosen one.

        unit: of its values. even: as far below zero as above.
        """
        self.colours, self._unit = palette, unit
        what = "Slope in °" if unit == "°" else "Heights"
        self.setToolTip(f"{what}. Drag an end to stretch the colours; double-click to fit the part.")
        self._counts = np.zeros(BINS)
        if data is None:
            self._full = (0.0, 1.0)
        else:
            z = data.z.reshape(-1)
            z = z[:: max(1, z.size // SAMPLED)]
            z = z[~np.isnan(z)]
            if z.size:
                low, high = (float(p) for p in np.percentile(z, [TAIL, 100 - TAIL]))
                room = max(0.04 * (high - low), LEAST_RANGE)
                self._full = (low - room, high + room)
                if even:
                    reach = max(-low, high, LEAST_RANGE)
                    self._full = (-reach, reach)
                self._counts = np.sqrt(np.histogram(z, BINS, self._full)[0])
        if self._chosen and data is not None:
            self.update()
        else:
            self._chosen = False
            self.set_span(*self._full)

    def set_span(self, low: float, high: float) -> None:
        """Set the colour range to these heights in mm."""
        self._span = (low, max(high, low + LEAST_RANGE))
        self.update()
        self.range_changed.emit(*self._span)

    def _bar(self) -> QRectF:
        return QRectF(self.width() - 24, 20, 12, self.height() - 40)

    def _y(self, z: float) -> float:
        bar, (low, high) = self._bar(), self._full
        return bar.bottom() - (z - low) / (high - low) * bar.height()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Histogram to the left of the bar, ends as triangles with their heights."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        bar = self._bar()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(16, 22, 21, 150))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
        low, high = self._span
        gradient = QLinearGradient(0, self._y(low), 0, self._y(high))
        palette = self.colours
        for k in range(0, 256, 15):
            gradient.setColorAt(k / 255, QColor(*(int(c) for c in palette[k])))
        painter.setBrush(gradient)
        painter.drawRect(bar)
        peak = max(float(self._counts.max()), 1.0)
        step = bar.height() / BINS
        painter.setBrush(theme.colour("stage_ink", 130))
        for k, count in enumerate(self._counts):
            length = 44 * float(count) / peak
            painter.drawRect(QRectF(bar.left() - 3 - length, bar.bottom() - (k + 1) * step, length, step))
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("stage_ink"), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
        painter.setFont(theme.font(11))
        for z, above in ((low, False), (high, True)):
            y = min(max(self._y(z), bar.top()), bar.bottom())
            painter.setBrush(theme.colour("copper"))
            painter.setPen(QPen(theme.colour("stage_ink"), 0.8))
            tip = bar.right()
            painter.drawPolygon(QPolygonF([QPointF(tip, y), QPointF(tip + 9, y - 5), QPointF(tip + 9, y + 5)]))
            painter.setPen(theme.colour("stage_ink"))
            box = QRectF(4, y - (17 if above else -3), self.width() - 18, 14)
            painter.drawText(
                box,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                units.text(f"{z:.2f} {self._unit}"),
            )
        painter.end()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and down move an end, Home fits the part."""
        way = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Home:
            self._chosen = False
            self.set_span(*self._full)
        elif way is None:
            super().keyPressEvent(event)
        else:
            low, high = self._full
            lower = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            ends = [*self._span]
            ends[0 if lower else 1] += way * (high - low) * KEY_STEP
            if ends[1] - ends[0] >= LEAST_RANGE:
                self._chosen = True
                self.set_span(*ends)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take the nearer end."""
        y = event.position().y()
        distances = [abs(y - self._y(z)) for z in self._span]
        self._drag = int(np.argmin(distances))
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it along."""
        self.setCursor(Qt.CursorShape.SizeVerCursor)
        if self._drag is None:
            return
        bar, (low, high) = self._bar(), self._full
        share = min(max((bar.bottom() - event.position().y()) / bar.height(), 0.0), 1.0)
        ends = list(self._span)
        ends[self._drag] = low + share * (high - low)
        if ends[1] - ends[0] >= LEAST_RANGE:
            self._chosen = True
            self.set_span(*ends)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Release."""
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Fit the part."""
        self._chosen = False
        self.set_span(*self._full)
