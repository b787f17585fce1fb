"""The view of the station along travel: all sensors over the belt, and what is delivered."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, QSizeF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from hemtra.desktop.station.drawing_handles import Handle
from hemtra.desktop.station.drawing_marks import draw_body, draw_dimension, draw_part, draw_words
from hemtra.desktop.station.drawing_scale import DOWNSTREAM, SENSOR_SIZE, DrawingScale
from hemtra.desktop.widgets import theme


def draw_cross(painter: QPainter, scale: DrawingScale, bounds: QSizeF, handles: Sequence[Handle]) -> None:
    """bounds: pixels of the whole drawing; handles: what can be dragged in it."""
    station, bench, unit = scale.bench.station, scale.bench, scale.bench.unit
    left, right = scale.across()
    painter.setPen(QPen(theme.colour("line"), 3))
    painter.drawLine(scale.cross(left - 8, scale.belt), scale.cross(right + 8, scale.belt))
    for k, (sensor, model) in enumerate(zip(station.sensors, bench.models, strict=True)):
        half = model.width_at(sensor.stand_off - scale.belt) / 2
        apex = scale.cross(sensor.x, sensor.stand_off)
        painter.setPen(QPen(theme.colour("failed"), 1.4 if k == bench.sensor else 0.8))
        painter.setBrush(theme.colour("failed", 22))
        fan = [
            apex,
            scale.cross(sensor.x + half, scale.belt),
            scale.cross(sensor.x - half, scale.belt),
        ]
        painter.drawPolygon(QPolygonF(fan))
    _draw_band(painter, scale, bounds, handles)
    draw_part(painter, scale, scale.cross(0, 0), bench.on_belt.width / 2)
    for k, (sensor, model) in enumerate(zip(station.sensors, bench.models, strict=True)):
        apex = scale.cross(sensor.x, sensor.stand_off)
        wide = min(SENSOR_SIZE[0], 40.0 * scale.pixels) if len(station.sensors) > 1 else SENSOR_SIZE[0]
        body = QRectF(apex.x() - wide, apex.y() - SENSOR_SIZE[1], 2 * wide, SENSOR_SIZE[1])
        name = model.name if len(station.sensors) == 1 else f"{k + 1}"
        draw_body(painter, body, name, chosen=len(station.sensors) > 1 and k == bench.sensor)
    at = scale.cross(0, scale.belt).y() + 20
    painter.setFont(theme.font(11))
    views = [
        (s.x - m.width_at(s.stand_off) / 2, s.x + m.width_at(s.stand_off) / 2)
        for s, m in zip(station.sensors, bench.models, strict=True)
    ]
    first, last = min(v[0] for v in views), max(v[1] for v in views)
    ends = (QPointF(scale.cross(first, 0).x(), at), QPointF(scale.cross(last, 0).x(), at))
    message = f"view {unit.text(last - first, 1)}, part {unit.short(bench.on_belt.width)} {unit.name}"
    draw_dimension(painter, *ends, message)


def _draw_band(painter: QPainter, scale: DrawingScale, bounds: QSizeF, handles: Sequence[Handle]) -> None:
    """Capture band of the chosen sensor, with its handles."""
    unit, x = scale.bench.unit, scale.bench.mount.x
    low, high = scale.band()
    pen = QPen(theme.colour("copper"), 1.3)
    pen.setDashPattern([5, 3])
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    from_x, to_x = scale.bench.mount.band.across
    corners = []
    for z, side in ((low, 1), (high, 1), (high, -1), (low, -1)):
        half = scale.half_view(z)
        corners.append(scale.cross(min(max(x + side * half, from_x), to_x), z))
    painter.setClipRect(QRectF(scale.laser + DOWNSTREAM * scale.pixels, 0, bounds.width(), bounds.height() - 4))
    painter.drawPolygon(QPolygonF(corners))
    painter.setClipping(False)
    for handle in handles:
        if handle.cross and handle.upright:
            painter.setBrush(theme.colour("paper"))
            painter.setPen(QPen(theme.colour("copper"), 1.4))
            painter.drawRect(QRectF(handle.at.x() - 7, handle.at.y() - 3, 14, 6))
    painter.setPen(theme.colour("copper"))
    label_at = scale.cross(x, high) - QPointF(70, 6)
    draw_words(painter, label_at, f"measured {unit.text(low, 0)} … {unit.text(high, 0)} {unit.name}")
