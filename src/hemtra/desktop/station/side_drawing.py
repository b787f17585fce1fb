"""The side view of the station: along the belt, as the eye sees a part."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from hemtra.desktop.station.drawing_marks import draw_body, draw_dimension, draw_part, draw_words
from hemtra.desktop.station.drawing_scale import DOWNSTREAM, SENSOR_SIZE, DrawingScale
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_arrow


def draw_side(painter: QPainter, scale: DrawingScale) -> None:
    """Belt, part, laser and camera, what starts a scan, its window, and the encoder."""
    station, bench, unit = scale.bench.station, scale.bench, scale.bench.unit
    model, stand_off, length = bench.model, bench.mount.stand_off, bench.on_belt.length
    belt = QRectF(14, scale.side(0, scale.belt).y(), scale.laser + DOWNSTREAM * scale.pixels - 14, 6)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("line"))
    painter.drawRect(belt)
    draw_part(painter, scale, scale.side(-scale.eye - length / 2, 0), length / 2)
    painter.setPen(QPen(theme.colour("copper"), 1.2))
    ahead = scale.side(-scale.eye - length / 2, 16)
    painter.drawLine(ahead - QPointF(30, 0), ahead + QPointF(30, 0))
    draw_arrow(painter, ahead, ahead + QPointF(30, 0))
    draw_words(painter, ahead - QPointF(30, 7), f"{unit.short(station.travel.speed)} {unit.name}/s")
    # the laser, and the camera upstream of it
    laser, hit = scale.side(0, stand_off), scale.side(0, scale.belt)
    painter.setPen(QPen(theme.colour("failed"), 1.8))
    painter.drawLine(laser, hit)
    pen = QPen(theme.colour("muted"), 1.1)
    pen.setDashPattern([5, 4])
    painter.setPen(pen)
    camera = scale.side(-model.baseline, stand_off)
    painter.drawLine(camera, hit)
    painter.drawLine(camera, scale.side(0, 8))
    body = QRectF(camera.x() - 14, laser.y() - SENSOR_SIZE[1], laser.x() - camera.x() + 28, SENSOR_SIZE[1])
    draw_body(painter, body, model.name)
    draw_dimension(painter, scale.side(24, 0), scale.side(24, stand_off), unit.short(stand_off), upright=True)
    _draw_trigger(painter, scale)
    _draw_window(painter, scale)
    _draw_wheel(painter, scale)


def _draw_trigger(painter: QPainter, scale: DrawingScale) -> None:
    """The eye with its distance, or in words what else starts a scan."""
    trigger, unit = scale.bench.station.trigger, scale.bench.unit
    low = scale.side(0, scale.belt).y() + 46
    painter.setPen(theme.colour("anchor"))
    message = {
        "free": "scans follow each other",
        "distance": f"a scan every {unit.short(trigger.every)} {unit.name}",
        "height": f"starts above {unit.short(trigger.over)} {unit.name}",
        "reversal": "a scan each way",
        "manual": "starts by hand",
    }.get(trigger.by)
    if trigger.by == "height":
        over = scale.side(0, trigger.over)
        pen = QPen(theme.colour("anchor"), 1.2)
        pen.setDashPattern([3, 3])
        painter.setPen(pen)
        painter.drawLine(over - QPointF(46, 0), over + QPointF(14, 0))
    if message is not None:
        width = painter.fontMetrics().horizontalAdvance(message)
        draw_words(painter, QPointF(scale.laser - width - 8, low + 4), message)
        return
    eye = scale.side(-trigger.distance, 0)
    pen = QPen(theme.colour("anchor"), 1.3)
    pen.setDashPattern([3, 3])
    painter.setPen(pen)
    painter.drawLine(eye - QPointF(0, 34), eye)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("anchor"))
    painter.drawEllipse(eye, 5, 5)
    painter.setPen(theme.colour("anchor"))
    painter.drawText(eye - QPointF(14, 38), "photo-eye")
    text = f"{unit.short(trigger.distance)} to the laser"
    draw_dimension(painter, QPointF(eye.x(), low), QPointF(scale.laser, low), text)


def _draw_window(painter: QPainter, scale: DrawingScale) -> None:
    station, unit = scale.bench.station, scale.bench.unit
    start, end = scale.window(station)
    right, left = scale.side(start, scale.belt), scale.side(end, scale.belt)
    box = QRectF(left.x(), left.y() + 16, right.x() - left.x(), 16)
    painter.setPen(QPen(theme.colour("anchor"), 1.2))
    painter.setBrush(theme.colour("anchor", 36))
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(theme.colour("anchor"))
    lasting = station.trigger.length_in == "trigger"
    message = "scan while trigger is on" if lasting else f"scan {unit.short(station.length)} {unit.name}"
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, units.signed(message))
    painter.setBrush(theme.colour("paper"))
    for x in (box.left(), box.right()):
        painter.drawRect(QRectF(x - 3, box.top() + 2, 6, 12))


def _draw_wheel(painter: QPainter, scale: DrawingScale) -> None:
    travel, unit = scale.bench.station.travel, scale.bench.unit
    at = scale.side(42, scale.belt) + QPointF(0, 22)
    painter.setPen(QPen(theme.colour("ink"), 1.4))
    painter.setBrush(theme.colour("paper"))
    painter.drawEllipse(at, 14, 14)
    if travel.clock == "internal":
        message = f"every {travel.period:g} ms"
        painter.drawLine(at, at - QPointF(0, 9))
        painter.drawLine(at, at + QPointF(6, 3))
    else:
        message = f"{travel.encoder.counts_per_mm * unit.mm:.4g} counts/{unit.name}"
        for k in range(16):
            angle = math.radians(22.5 * k)
            tip = QPointF(math.cos(angle), math.sin(angle))
            painter.drawLine(at + tip * 10.5, at + tip * 14)
    painter.setPen(theme.colour("muted"))
    wide = painter.fontMetrics().horizontalAdvance(message)
    draw_words(painter, QPointF(at.x() - wide / 2, at.y() + 27), message)
