"""Signs that mean the same everywhere: balloons, limit bars, chips."""

from __future__ import annotations

import math
from functools import lru_cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPaintEngine, QPainter, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QWidget

from hemtra.core.plan.budget import USUAL_COVERAGE
from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.desktop.widgets import theme

SMALLER, SMALL_LINE = (12, 11, 10), 12.0
"""Sizes of a name that is long, the last for two lines, and how far these are apart."""
RADIUS = 11.0
ARROW = 7.0


def draw_balloon(
    painter: QPainter,
    centre: QPointF,
    text: str,
    verdict: Verdict,
    *,
    radius: float = RADIUS,
    selected: bool = False,
    faint: bool = False,
) -> None:
    """The numbered mark of a characteristic: circle = pass, diamond = fail, dashed circle = not measured."""
    painter.save()
    if faint:
        painter.setOpacity(0.55)
    if draws_pixels(painter):
        density = painter.device().devicePixelRatio()
        picture = _balloon(text, verdict, radius, selected, theme.current(), density)
        half = picture.width() / density / 2
        painter.drawPixmap(centre - QPointF(half, half), picture)
    else:
        _draw_balloon(painter, centre, text, verdict, radius, selected)
    painter.restore()


def draws_pixels(painter: QPainter) -> bool:
    """Whether pictures may stand for what is drawn; drawings as SVG and PDF keep their lines and words."""
    return painter.paintEngine().type() is QPaintEngine.Type.Raster


@lru_cache(512)
def _balloon(
    text: str, verdict: Verdict, radius: float, selected: bool, look: theme.Theme, density: float
) -> QPixmap:
    """A balloon in the middle of a picture; in a drag two dozen are painted again and again."""
    room = round(radius * 1.28 + 6)
    picture = QPixmap(round(2 * room * density), round(2 * room * density))
    picture.setDevicePixelRatio(density)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    _draw_balloon(painter, QPointF(room, room), text, verdict, radius, selected)
    painter.end()
    return picture


def _draw_balloon(
    painter: QPainter, centre: QPointF, text: str, verdict: Verdict, radius: float, selected: bool
) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ink = theme.verdict_colour(verdict)
    if selected:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("copper"))
        painter.drawEllipse(centre, radius + 5, radius + 5)
    paper = theme.colour("paper")
    if verdict is Verdict.FAIL:
        reach = radius * 1.28
        corners = ((0, -reach), (reach, 0), (0, reach), (-reach, 0))
        painter.setPen(QPen(paper, 1.0))
        painter.setBrush(ink)
        painter.drawPolygon(QPolygonF([centre + QPointF(x, y) for x, y in corners]))
        ink = paper
    else:
        pen = QPen(ink, 1.8)
        if verdict in (Verdict.NOT_MEASURED, Verdict.NOT_PROVEN):
            pen.setDashPattern([2.0, 1.6] if verdict is Verdict.NOT_MEASURED else [5.0, 1.2])
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(paper)
        painter.drawEllipse(centre, radius + 0.5, radius + 0.5)
        painter.setPen(pen)
        painter.drawEllipse(centre, radius - 0.5, radius - 0.5)
    painter.setPen(ink)
    painter.setFont(theme.font(round(radius * (1.0 if len(text) < 3 else 0.8)), bold=True))
    box = QRectF(centre.x() - radius * 1.5, centre.y() - radius, radius * 3, radius * 2)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def draw_limit_bar(
    painter: QPainter, box: QRectF, evaluated: CharacteristicResult, scale: tuple[float, float] | None = None
) -> None:
    """The limits as a band with two ends, and the value as a tick; a one-sided limit leaves its bar open.

    scale: what the ends of the bar stand for; without it what suits the limits.
    """
    lower, upper, value = evaluated.lower, evaluated.upper, evaluated.value
    middle = box.center().y()
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("line"))
    painter.drawRoundedRect(QRectF(box.left(), middle - 2, box.width(), 4), 2, 2)
    low, high = bar_scale(lower, upper, evaluated.nominal) if scale is None else scale

    def at(quantity: float) -> float:
        return box.left() + box.width() * min(max((quantity - low) / (high - low), 0.0), 1.0)

    left = box.left() if lower is None else at(lower)
    right = box.right() if upper is None else at(upper)
    painter.setBrush(theme.colour("passed_wash"))
    painter.drawRect(QRectF(left, middle - 2, right - left, 4))
    painter.setPen(QPen(theme.colour("muted"), 1.0))
    for limit in (lower, upper):
        if limit is not None:
            x = round(at(limit)) + 0.5
            painter.drawLine(QPointF(x, middle - 6), QPointF(x, middle + 6))
    if value is not None and evaluated.u:
        # where the value may lie
        ends = at(value - USUAL_COVERAGE * evaluated.u), at(value + USUAL_COVERAGE * evaluated.u)
        painter.fillRect(QRectF(ends[0], middle - 4, ends[1] - ends[0], 8), theme.colour("muted", 110))
    if value is not None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("failed" if evaluated.verdict is Verdict.FAIL else "ink"))
        # a value far off stays at the end of the bar, as an arrow that points on
        x = at(value)
        if low <= value <= high:
            painter.drawRect(QRectF(x - 1.5, middle - 6, 3, 12))
        else:
            tip, back = (x, x - 8) if value > high else (x, x + 8)
            painter.drawPolygon(
                QPolygonF([QPointF(tip, middle), QPointF(back, middle - 6), QPointF(back, middle + 6)])
            )
    painter.restore()


MARK = 3.2
"""Radius of a gauge's mark, pixels."""


def draw_gauge_mark(painter: QPainter, at: QPointF, grade: str) -> None:
    """Gauge capability: a ring if good, half filled if usable, a square if not capable, else a dash."""
    box = QRectF(at.x() - MARK, at.y() - MARK, 2 * MARK, 2 * MARK)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(theme.colour("muted"), 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if grade == "not capable":
        painter.fillRect(box, theme.colour("failed"))
    elif grade in ("good", "usable"):
        painter.drawEllipse(box)
        if grade == "usable":
            painter.setBrush(theme.colour("muted"))
            painter.drawPie(box, 90 * 16, 180 * 16)
    else:
        painter.drawLine(QPointF(box.left(), at.y()), QPointF(box.right(), at.y()))
    painter.restore()


def bar_scale(lower: float | None, upper: float | None, nominal: float | None) -> tuple[float, float]:
    """Range of the bar: the limits with a third of their distance on either side."""
    if lower is not None and upper is not None:
        room = max((upper - lower) / 3, 1e-9)
        return lower - room, upper + room
    limit = upper if upper is not None else lower
    assert limit is not None  # a characteristic has at least one limit
    start = nominal if nominal is not None and nominal != limit else 0.0
    reach = abs(limit - start) or 1.0
    return (limit - reach, limit + reach / 3) if upper is not None else (limit - reach / 3, limit + reach)


def draw_chip(
    painter: QPainter, at: QPointF, text: str, *, back: QColor | None = None, ink: QColor | None = None
) -> QRectF:
    """A short text on a rounded background, its upper left corner at `at`; returns its box."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setFont(theme.font(12))
    metrics = painter.fontMetrics()
    box = QRectF(at.x(), at.y(), metrics.horizontalAdvance(text) + 16, metrics.height() + 8)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(back or QColor(16, 22, 21, 215))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(ink or theme.colour("stage_ink"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    painter.restore()
    return box


def shortened(text: str, pixels: int = 190) -> str:
    """A text of a small button, cut with dots beyond so many pixels."""
    metrics = QFontMetrics(theme.font(12, bold=True))
    return metrics.elidedText(text, Qt.TextElideMode.ElideRight, pixels)


def draw_name(painter: QPainter, box: QRectF, name: str) -> None:
    """A name in one line; a long one smaller in two, and cut with dots only where that is not enough."""
    for pixels in (painter.font().pixelSize(), *SMALLER):
        painter.setFont(theme.font(pixels, bold=painter.font().bold()))
        metrics = painter.fontMetrics()
        if metrics.horizontalAdvance(name) <= box.width():
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, name)
            return
    words, first = name.split(), ""
    while words and metrics.horizontalAdvance(f"{first} {words[0]}".strip()) <= box.width():
        first = f"{first} {words.pop(0)}".strip()
    rest = metrics.elidedText(" ".join(words), Qt.TextElideMode.ElideRight, int(box.width()))
    lines = [line for line in (first, rest) if line]
    for k, line in enumerate(lines):
        top = box.center().y() + SMALL_LINE * (k - len(lines) / 2)
        painter.drawText(QRectF(box.left(), top, box.width(), SMALL_LINE), Qt.AlignmentFlag.AlignVCenter, line)


def draw_panel(painter: QPainter, widget: QWidget) -> None:
    """The background of a panel that paints itself."""
    painter.setPen(QPen(theme.colour("copper" if widget.hasFocus() else "line"), 1))
    painter.setBrush(theme.colour("paper"))
    painter.drawRoundedRect(QRectF(widget.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)


def draw_arrow(painter: QPainter, start: QPointF, tip: QPointF) -> None:
    """The head of a dimension's arrow, filled with the colour of the pen."""
    length = math.hypot(tip.x() - start.x(), tip.y() - start.y())
    if length < 1.0:
        return
    ux, uy = (tip.x() - start.x()) / length, (tip.y() - start.y()) / length
    back = QPointF(tip.x() - ARROW * ux, tip.y() - ARROW * uy)
    side = QPointF(-uy * ARROW / 3, ux * ARROW / 3)
    painter.setBrush(painter.pen().color())
    painter.drawPolygon(QPolygonF([tip, back + side, back - side]))
