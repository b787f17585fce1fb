"""The picture of a studied row: its readings, the mean or known size, and limits."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from hemtra.core.gauge.chart import GaugeChart
from hemtra.desktop.widgets import theme, units

LEFT, FOOT, HEAD, RIGHT = 66.0, 22.0, 24.0, 10.0
SHADES = ("spruce", "copper", "anchor", "muted")
"""Colours of operators; each also has a place of its own beside the others."""


class GaugeChartView(QWidget):
    """Draws a chart; says what to do where there is none."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(150)
        self.setAccessibleName("Readings of the selected characteristic")
        self.chart: GaugeChart | None = None

    def sizeHint(self) -> QSize:
        """Wide and not high."""
        return QSize(600, 180)

    def show_chart(self, chart: GaugeChart | None) -> None:
        """Take what is drawn from now on."""
        self.chart = chart
        lines = () if chart is None else chart.lines
        levels = ", ".join(f"{one.name} {units.signed(f'{one.value:.4f}')}" for one in lines)
        self.setAccessibleDescription("" if chart is None else f"{chart.title}; {levels}")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Scale, levels, readings, names of parts and operators."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(11))
        chart = self.chart
        if chart is None:
            painter.setPen(theme.colour("muted"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Select a row to see its readings.")
        else:
            self._draw(painter, chart)
        painter.end()

    def _draw(self, painter: QPainter, chart: GaugeChart) -> None:
        low, high = chart.span
        frame = QRectF(LEFT, HEAD, self.width() - LEFT - RIGHT, self.height() - HEAD - FOOT)
        count = len(chart.groups) or max((one.values.size for one in chart.series), default=1)

        def level(value: float) -> float:
            return frame.bottom() - frame.height() * (value - low) / (high - low)

        painter.setPen(theme.colour("muted"))
        painter.drawText(QPointF(4, 14), chart.title)
        align = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for line in chart.lines:
            y = level(line.value)
            style = Qt.PenStyle.SolidLine if line.kind == "centre" else Qt.PenStyle.DashLine
            painter.setPen(QPen(theme.colour("muted"), 1.0, style))
            painter.drawLine(QPointF(frame.left(), y), QPointF(frame.right(), y))
            painter.drawText(QRectF(0, y - 8, LEFT - 6, 16), align, units.signed(f"{line.value:.4f}"))
        for k, one in enumerate(chart.series):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour(SHADES[k % len(SHADES)]))
            for at, value in zip(one.at.tolist(), one.values.tolist(), strict=True):
                x = frame.left() + frame.width() * (at + 0.5) / count
                painter.drawEllipse(QPointF(x, level(value)), 2.4, 2.4)
        painter.setPen(theme.colour("ink"))
        wide = frame.width() / count
        for k, name in enumerate(chart.groups):
            box = QRectF(frame.left() + k * wide, frame.bottom() + 3, wide, FOOT - 4)
            shown = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, int(wide) - 4)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, shown)
        right = frame.right()
        for k, one in reversed(list(enumerate(chart.series))):
            used = painter.fontMetrics().horizontalAdvance(one.name)
            painter.setPen(theme.colour(SHADES[k % len(SHADES)]))
            painter.drawText(QPointF(right - used, 14), one.name)
            right -= used + 12
