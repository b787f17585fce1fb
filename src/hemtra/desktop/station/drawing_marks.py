"""Elements of both drawings of the station: the part, dimensions, a sensor's body."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from hemtra.desktop.station.drawing_scale import DrawingScale
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_arrow

SILHOUETTE = ((-1, 0), (-0.72, 0), (-0.72, 4), (-0.42, 4), (-0.42, 8), (0.42, 8), (0.42, 4))
"""Half of the part's outline from the side: share of its half length, and z in mm."""


def draw_part(painter: QPainter, scale: DrawingScale, at: QPointF, half: float) -> None:
    """The simulated cover from the side, its middle at a pixel that stands for z = 0."""
    belt = scale.belt
    mirrored = [(-share, z) for share, z in reversed(SILHOUETTE[:3])]
    outline = [(-1, belt), *SILHOUETTE, *mirrored, (1, 0), (1, belt)]
    seen: list[QPointF] = []
    for share, z in outline:
        pixel = at + QPointF(share * half * scale.pixels, -z * scale.pixels)
        if not seen or pixel != seen[-1]:
            seen.append(pixel)
    painter.setPen(QPen(theme.colour("muted"), 1))
    painter.setBrush(theme.colour("passed_wash"))
    painter.drawPolygon(QPolygonF(seen))


def draw_dimension(painter: QPainter, a: QPointF, b: QPointF, text: str, *, upright: bool = False) -> None:
    """A length between two pixels, with its text."""
    painter.setPen(QPen(theme.colour("ink"), 1.0))
    painter.drawLine(a, b)
    draw_arrow(painter, a, b)
    draw_arrow(painter, b, a)
    middle = (a + b) / 2
    width = painter.fontMetrics().horizontalAdvance(text) + 10
    box = QRectF(middle.x() - width / 2, middle.y() - 9, width, 18)
    if upright:
        box.moveLeft(middle.x() - 16)
    elif width > abs(b.x() - a.x()) - 12:  # no room between the arrows
        box.moveRight(min(a.x(), b.x()) - 2)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("paper"))
    painter.drawRect(box)
    painter.setPen(theme.colour("ink"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, units.signed(text))


def draw_words(painter: QPainter, at: QPointF, words: str) -> None:
    """Words from a pixel on, on the baseline, moved where they would leave the picture."""
    words = units.signed(words)
    wide, room = painter.fontMetrics().horizontalAdvance(words), painter.window()
    x, y = min(at.x(), room.width() - wide - 4.0), min(at.y(), room.height() - 6.0)
    painter.drawText(QPointF(max(x, 4.0), y), words)


def draw_body(painter: QPainter, box: QRectF, name: str, *, chosen: bool = False) -> None:
    """A sensor."""
    painter.setPen(QPen(theme.colour("copper"), 2) if chosen else Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("spruce"))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(theme.colour("on_spruce"))
    painter.setFont(theme.font(12, bold=True))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
    painter.setFont(theme.font(12))
