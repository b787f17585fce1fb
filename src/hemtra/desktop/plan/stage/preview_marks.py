"""Preview of a click's result."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from hemtra.core.marks import Dimension, Mark, Polyline
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.layers import draw_zone
from hemtra.desktop.widgets.symbols import draw_chip

LEGEND = 100
"""Width of the legend at the right, pixels."""


@dataclass(frozen=True)
class Ahead:
    """The marks of what a click would make, the zones it would look in, and its value or what is wrong in
    words."""

    marks: tuple[Mark, ...]
    zones: tuple[AnyZone, ...]
    text: str


def draw_ahead(painter: QPainter, viewport: Viewport, ahead: Ahead, cursor: Pixel | None) -> None:
    """Dotted, with the words beside the pointer."""
    pen = QPen(theme.colour("copper").lighter(150), 1.6, Qt.PenStyle.DotLine)
    for zone in ahead.zones:
        draw_zone(painter, viewport, zone, pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.colour("copper").lighter(150), 2.2))
    for mark in ahead.marks:
        if isinstance(mark, Polyline):
            points = QPolygonF([QPointF(*viewport.to_screen(x, y)) for x, y, _ in mark.points])
            painter.drawPolygon(points) if mark.closed else painter.drawPolyline(points)
        elif isinstance(mark, Dimension):
            ends = [QPointF(*viewport.to_screen(p.x, p.y)) for p in (mark.start, mark.end)]
            painter.drawLine(*ends)
    if cursor is None or not ahead.text:
        return
    words = units.text(ahead.text)
    width = painter.fontMetrics().horizontalAdvance(words) + 40
    left = min(cursor[0] + 14, viewport.width - width - LEGEND)
    draw_chip(painter, QPointF(max(left, 4.0), max(cursor[1] - 34, 4.0)), words)
