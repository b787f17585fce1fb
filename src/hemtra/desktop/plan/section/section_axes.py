"""The axes of a section: from millimetres to pixels, and what is drawn along them."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.elements import Point
from hemtra.core.maps.heightmap import Profile
from hemtra.desktop.models.bench import Place
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.curves import draw_curve

MARGIN_LEFT, MARGIN_RIGHT, MARGIN_TOP, MARGIN_BOTTOM = 44, 20, 34, 26
TICKS = 5
APART = 60.0
"""Approximate distance of numbers along the section, pixels."""


class Axes:
    """From distance along the line and height to pixels.

    start: what the scale begins with in mm: 0, or the x of a profile's first point. shown: mm along the line
    from and to.
    """

    def __init__(
        self, frame: QRectF, profile: Profile, heights: tuple[float, float], shown: tuple[float, float] | None
    ) -> None:
        self.frame, self.length = frame, float(profile.x[-1]) or 1.0
        self.low, self.high = heights
        self.first, self.last = shown or (0.0, self.length)
        self.start = 0.0

    @property
    def span(self) -> float:
        """Height, mm."""
        return self.high - self.low

    @property
    def reach(self) -> float:
        """Position along the line, mm."""
        return self.last - self.first

    def at(self, s: float, z: float) -> QPointF:
        """The pixel of a place."""
        return QPointF(
            self.frame.left() + (s - self.first) / self.reach * self.frame.width(),
            self.frame.bottom() - (z - self.low) / self.span * self.frame.height(),
        )

    def place(self, pixel: QPointF) -> Place:
        """Position along the section and height of a pixel, mm."""
        s = self.first + (pixel.x() - self.frame.left()) / self.frame.width() * self.reach
        return s, self.low + (self.frame.bottom() - pixel.y()) / self.frame.height() * self.span


def draw_axes(painter: QPainter, axes: Axes) -> None:
    """Lines of equal height, and both scales, in the unit that lengths are shown in."""
    painter.setFont(theme.font(11))
    mm = units.current().mm
    step = nice(axes.span / TICKS / mm)
    for k in range(math.ceil(axes.low / mm / step), math.floor(axes.high / mm / step) + 1):
        y = axes.at(0, k * step * mm).y()
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(QPointF(axes.frame.left(), y), QPointF(axes.frame.right(), y))
        painter.setPen(theme.colour("muted"))
        box = QRectF(0, y - 8, MARGIN_LEFT - 6, 16)
        painter.drawText(
            box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, units.field(k * step)
        )
    step = nice(axes.reach / mm / max(axes.frame.width() / APART, 1.0))
    first, last = (axes.start + axes.first) / mm, (axes.start + axes.last) / mm
    for k in range(math.ceil(first / step), math.floor(last / step) + 1):
        at = axes.at(k * step * mm - axes.start, axes.low)
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(at, at + QPointF(0, 4))
        painter.setPen(theme.colour("muted"))
        painter.drawText(
            QRectF(at.x() - 40, at.y() + 4, 80, 16), Qt.AlignmentFlag.AlignCenter, units.field(k * step)
        )


def draw_profile(painter: QPainter, axes: Axes, x: FloatArray, z: FloatArray, pen: QPen) -> None:
    """The curve, broken where there is no data."""
    frame = axes.frame
    px = frame.left() + (x - axes.first) / axes.reach * frame.width()
    py = frame.bottom() - (z - axes.low) / axes.span * frame.height()
    painter.setBrush(Qt.BrushStyle.NoBrush)
    draw_curve(painter, px, py, pen)


def along(line: tuple[Place, Place], s: FloatArray, length: float) -> tuple[FloatArray, FloatArray]:
    """x, y of places at distances along a line."""
    (ax, ay), (bx, by) = line
    return ax + (bx - ax) * s / length, ay + (by - ay) * s / length


def project(line: tuple[Place, Place], point: Point, length: float) -> float:
    """Distance along a line of the place on it nearest to a point."""
    (ax, ay), (bx, by) = line
    along = ((point.x - ax) * (bx - ax) + (point.y - ay) * (by - ay)) / length
    return min(max(along, 0.0), length)


def nice(step: float) -> float:
    """1, 2 or 5 times a power of ten, not below the step."""
    power = 10.0 ** math.floor(math.log10(max(step, 1e-9)))
    return next(power * k for k in (1, 2, 5, 10) if power * k >= step * 0.999)
