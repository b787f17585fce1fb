"""Section across a path: the base, the result on it, and its sizes."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPen, QPolygonF

from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Dimension, Polyline
from hemtra.desktop.models.bench import Place, Shown
from hemtra.desktop.plan.section.section_axes import Axes, project
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_arrow

BESIDE = 34.0
"""Distance of a vertical dimension from its object, pixels."""
ROW = 20.0
"""Distance between dimensions above each other, pixels."""


def draw_across(painter: QPainter, axes: Axes, line: tuple[Place, Place], shown: Shown) -> None:
    """Base lines, and each size with extension lines and arrows, none over another."""
    pen = QPen(theme.colour("anchor"), 1.3)
    pen.setDashPattern([6, 4])
    painter.setPen(pen)
    for mark in shown.across:
        if isinstance(mark, Polyline):
            points = [Point(*map(float, p)) for p in mark.points]
            painter.drawPolyline(QPolygonF([_at(axes, line, p) for p in points]))
    lying = 0
    for mark in shown.across:
        if isinstance(mark, Dimension):
            start, end = _at(axes, line, mark.start), _at(axes, line, mark.end)
            if abs(end.x() - start.x()) > abs(end.y() - start.y()):
                _draw_lying(painter, axes, start, end, units.text(mark.text), lying)
                lying += 1
            else:
                _draw_upright(painter, axes, start, end, units.text(mark.text))
    _draw_reason(painter, axes, shown)


def _at(axes: Axes, line: tuple[Place, Place], point: Point) -> QPointF:
    return axes.at(project(line, point, axes.length), point.z)


def _draw_lying(painter: QPainter, axes: Axes, start: QPointF, end: QPointF, text: str, number: int) -> None:
    y = axes.frame.top() + 8 + ROW * number
    painter.setPen(QPen(theme.colour("muted"), 1.0))
    for point in (start, end):
        painter.drawLine(point, QPointF(point.x(), y - 4))
    a, b = QPointF(start.x(), y), QPointF(end.x(), y)
    painter.setPen(QPen(theme.colour("copper"), 1.4))
    painter.drawLine(a, b)
    draw_arrow(painter, b, a)
    draw_arrow(painter, a, b)
    _draw_text(painter, (a + b) / 2, text)


def _draw_upright(painter: QPainter, axes: Axes, foot: QPointF, head: QPointF, text: str) -> None:
    width = QFontMetrics(theme.font(12)).horizontalAdvance(text) + 10
    # right of everything that the section is about, where there is room
    x = min(axes.frame.right() - width / 2 - 4, axes.frame.right() - BESIDE)
    painter.setPen(QPen(theme.colour("muted"), 1.0))
    for point in (foot, head):
        painter.drawLine(point, QPointF(x + 4, point.y()))
    a, b = QPointF(x, foot.y()), QPointF(x, head.y())
    painter.setPen(QPen(theme.colour("copper"), 1.4))
    painter.drawLine(a, b)
    draw_arrow(painter, b, a)
    draw_arrow(painter, a, b)
    _draw_text(painter, (a + b) / 2, text)


def _draw_text(painter: QPainter, middle: QPointF, text: str) -> None:
    painter.setFont(theme.font(12))
    width = painter.fontMetrics().horizontalAdvance(text) + 8
    box = QRectF(middle.x() - width / 2, middle.y() - 9, width, 18)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("paper", 235))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(theme.colour("ink"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def _draw_reason(painter: QPainter, axes: Axes, shown: Shown) -> None:
    """Reason why this section shows nothing."""
    along, at = shown.along, shown.at
    if along is None or at is None:
        return
    state = int(along.state[along.nearest(at)])
    if state:
        painter.setFont(theme.font(12, bold=True))
        painter.setPen(theme.colour("failed" if state == 1 else "unmeasured"))
        reason = along.reasons.get(state, "it could not be measured")
        painter.drawText(axes.frame.adjusted(0, 4, 0, 0), Qt.AlignmentFlag.AlignHCenter, reason)
