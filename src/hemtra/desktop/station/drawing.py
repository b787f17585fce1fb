"""The drawing of the station, to scale and alive: what is dragged in it is the station."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QWidget

from hemtra.core.errors import HemtraError
from hemtra.core.station.station import Station
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import draw_arrow

GRAB = 9.0
HEAD = 34.0
"""Pixels above the drawing for the titles of its views."""
FLOOR = 30.0
"""mm drawn below the belt, for the encoder's wheel and the scan window."""
SENSOR_SIZE = (56.0, 30.0)
"""Pixels of a sensor's body."""
DOWNSTREAM, GAP, MARGIN = 62.0, 30.0, 10.0
"""mm drawn behind the laser, between the two views, and around."""
SILHOUETTE = ((-1, 0), (-0.72, 0), (-0.72, 4), (-0.42, 4), (-0.42, 8), (0.42, 8), (0.42, 4))
"""Half of the part's outline from the side: share of its half length, and z in mm."""


@dataclass(frozen=True)
class Handle:
    """Something to drag: where it stands, how it moves the station, and what that is called."""

    label: str
    at: QPointF
    move: Callable[[float, float], Station]
    """The station when it stands at u (along the belt or across) and z, in mm."""
    cross: bool = False
    upright: bool = False
    """Whether it moves up and down, not sideways."""


class StationDrawing(QFrame):
    """A side view along the belt and a view along travel."""

    dragged = Signal(object)
    dropped = Signal(str, object)

    def __init__(self, bench: StationBench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Drawing of the station")
        self.setMouseTracking(True)
        self.bench = bench
        self._held: Handle | None = None
        self._scale, self._laser, self._middle, self._ground = 1.0, 0.0, 0.0, 0.0
        bench.document.changed.connect(self._refresh)
        bench.unit_changed.connect(self.update)
        self._place()

    # -- geometry ---------------------------------------------------------------------------------

    def _refresh(self) -> None:
        if self._held is None:  # while something is held the scale stays, or it would run away from the pointer
            self._place()
        self.update()

    def _place(self) -> None:
        """Scale and origins for both views together, so that a millimetre is the same everywhere."""
        station, bench = self.bench.station, self.bench
        upstream = self._eye + max(bench.on_belt.length, station.length - station.lead)
        left, right = self._across()
        across = right - left
        wide = upstream + DOWNSTREAM + GAP + across + 2 * MARGIN
        highest = max(sensor.stand_off for sensor in station.sensors)
        high = highest + FLOOR - self._belt
        room = self.height() - HEAD - SENSOR_SIZE[1] - 24
        self._scale = max(0.05, min((self.width() - 20) / wide, room / high))
        spare = max(0.0, self.width() - wide * self._scale) / 3
        self._laser = spare + (upstream + MARGIN) * self._scale
        self._middle = self.width() - spare - (right + MARGIN) * self._scale
        self._ground = HEAD + SENSOR_SIZE[1] + 8 + highest * self._scale

    def _across(self) -> tuple[float, float]:
        """x from and to in mm of all views and the part."""
        half = self.bench.on_belt.width / 2
        views = [
            (sensor.x, model.width_at(sensor.stand_off - self._belt) / 2)
            for sensor, model in zip(self.bench.station.sensors, self.bench.models, strict=True)
        ]
        return min(-half, *(x - w for x, w in views)), max(half, *(x + w for x, w in views))

    @property
    def _belt(self) -> float:
        """z of the belt in mm."""
        return self.bench.station.belt

    @property
    def _eye(self) -> float:
        """mm from the laser to where a part is drawn waiting: at the eye, or right before the laser."""
        trigger = self.bench.station.trigger
        return trigger.distance if trigger.by == "eye" else 0.0

    def side(self, u: float, z: float) -> QPointF:
        """Pixel of a place u mm downstream of the laser."""
        return QPointF(self._laser + u * self._scale, self._ground - z * self._scale)

    def cross(self, x: float, z: float) -> QPointF:
        """Pixel of a place x mm beside the laser's middle."""
        return QPointF(self._middle + x * self._scale, self._ground - z * self._scale)

    def handles(self) -> list[Handle]:
        """What can be dragged, as the station stands."""
        station, mount = self.bench.station, self.bench.mount
        found = [
            Handle(
                "stand-off",
                self.side(0, mount.stand_off) - QPointF(0, SENSOR_SIZE[1] / 2),
                self._set_stand_off,
                upright=True,
            )
        ]
        start, end = self._window(station)
        if station.trigger.by == "eye":
            found.append(Handle("eye", self.side(-self._eye, 0), self._set_eye))
        if station.trigger.length_in != "trigger":
            found.append(Handle("scan length", self.side(end, self._belt) + QPointF(0, 24), self._set_length))
        if station.trigger.by in ("eye", "height", "manual"):
            found.append(Handle("delay", self.side(start, self._belt) + QPointF(0, 24), self._set_start))
        low, high = self._band()
        half, x = self._half_view(low), mount.x
        body = self.cross(x, mount.stand_off) - QPointF(0, SENSOR_SIZE[1] / 2)
        found += [
            Handle("band from", self.cross(x + half * 0.8, low), self._set_low, cross=True, upright=True),
            Handle("band to", self.cross(x + half * 0.6, high), self._set_high, cross=True, upright=True),
            Handle("lateral offset", body, self._set_beside, cross=True),
        ]
        return found

    def _window(self, station: Station) -> tuple[float, float]:
        """Front and end of what will be scanned, when the part's front is where it is drawn."""
        front = -self._eye + station.lead
        return front, front - station.length

    def _band(self) -> tuple[float, float]:
        return self.bench.mount.covered(self.bench.model)

    def _half_view(self, z: float) -> float:
        return self.bench.model.width_at(self.bench.mount.stand_off - z) / 2

    def _set_stand_off(self, u: float, z: float) -> Station:
        lowered = z - SENSOR_SIZE[1] / 2 / self._scale
        return self._with_sensor(stand_off=max(10.0, float(round(lowered))))

    def _set_beside(self, u: float, z: float) -> Station:
        return self._with_sensor(x=float(round(u)))

    def _with_sensor(self, **changes: float) -> Station:
        return self.bench.document.value.with_part(self.bench.path, **changes)

    def _set_eye(self, u: float, z: float) -> Station:
        """The scan keeps its place on the part."""
        station = self.bench.document.value
        distance = max(0.0, float(round(-u)))
        delay = station.trigger.delay_mm(station.travel) + distance - station.trigger.distance
        return station.with_part("trigger", distance=distance, delay=delay, delay_in="mm")

    def _set_length(self, u: float, z: float) -> Station:
        station = self.bench.document.value
        front, _ = self._window(station)
        return station.with_part("trigger", length=max(1.0, float(round(front - u))), length_in="mm")

    def _set_start(self, u: float, z: float) -> Station:
        """The scan begins elsewhere and ends where it did."""
        station = self.bench.document.value
        lead = float(round(u + self._eye))
        length = max(1.0, station.length + lead - station.lead)
        delay = self._eye - lead
        if station.trigger.length_in != "trigger":
            station = station.with_part("trigger", length=length, length_in="mm")
        return station.with_part("trigger", delay=delay, delay_in="mm")

    def _set_low(self, u: float, z: float) -> Station:
        return self._set_band(z_low=min(round(z, 1), self._band()[1] - 0.5))

    def _set_high(self, u: float, z: float) -> Station:
        return self._set_band(z_high=max(round(z, 1), self._band()[0] + 0.5))

    def _set_band(self, **limits: float) -> Station:
        return self.bench.document.value.with_part(f"{self.bench.path}.band", **limits)

    # -- painting ---------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Both views with their dimensions."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("muted"))
        painter.drawText(14, 22, "Side view along the belt, as the eye sees a part")
        painter.drawText(int(self._middle - 60), 22, "View along travel")
        self._draw_side(painter)
        self._draw_cross(painter)
        painter.end()

    def _draw_side(self, painter: QPainter) -> None:
        station, bench, unit = self.bench.station, self.bench, self.bench.unit
        model, stand_off, length = bench.model, bench.mount.stand_off, bench.on_belt.length
        belt = QRectF(14, self.side(0, self._belt).y(), self._laser + DOWNSTREAM * self._scale - 14, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("line"))
        painter.drawRect(belt)
        self._draw_part(painter, self.side(-self._eye - length / 2, 0), length / 2)
        painter.setPen(QPen(theme.colour("copper"), 1.2))
        ahead = self.side(-self._eye - length / 2, 16)
        painter.drawLine(ahead - QPointF(30, 0), ahead + QPointF(30, 0))
        draw_arrow(painter, ahead, ahead + QPointF(30, 0))
        painter.drawText(ahead - QPointF(30, 7), f"{unit.short(station.travel.speed)} {unit.name}/s")
        # the laser, and the camera that looks at it from where the part comes
        laser, hit = self.side(0, stand_off), self.side(0, self._belt)
        painter.setPen(QPen(theme.colour("failed"), 1.8))
        painter.drawLine(laser, hit)
        pen = QPen(theme.colour("muted"), 1.1)
        pen.setDashPattern([5, 4])
        painter.setPen(pen)
        camera = self.side(-model.baseline, stand_off)
        painter.drawLine(camera, hit)
        painter.drawLine(camera, self.side(0, 8))
        body = QRectF(camera.x() - 14, laser.y() - SENSOR_SIZE[1], laser.x() - camera.x() + 28, SENSOR_SIZE[1])
        _draw_body(painter, body, model.name)
        self._draw_dimension(
            painter, self.side(24, 0), self.side(24, stand_off), unit.short(stand_off), upright=True
        )
        self._draw_trigger(painter)
        self._draw_window(painter)
        self._draw_wheel(painter)

    def _draw_trigger(self, painter: QPainter) -> None:
        """The eye with its distance, or in words what else starts a scan."""
        trigger, unit = self.bench.station.trigger, self.bench.unit
        low = self.side(0, self._belt).y() + 46
        painter.setPen(theme.colour("anchor"))
        told = {
            "free": "scans follow each other",
            "distance": f"a scan every {unit.short(trigger.every)} {unit.name}",
            "height": f"starts above {unit.short(trigger.over)} {unit.name}",
            "reversal": "a scan each way",
            "manual": "starts by hand",
        }.get(trigger.by)
        if trigger.by == "height":
            over = self.side(0, trigger.over)
            pen = QPen(theme.colour("anchor"), 1.2)
            pen.setDashPattern([3, 3])
            painter.setPen(pen)
            painter.drawLine(over - QPointF(46, 0), over + QPointF(14, 0))
        if told is not None:
            width = painter.fontMetrics().horizontalAdvance(told)
            painter.drawText(QPointF(self._laser - width - 8, low + 4), told)
            return
        eye = self.side(-trigger.distance, 0)
        pen = QPen(theme.colour("anchor"), 1.3)
        pen.setDashPattern([3, 3])
        painter.setPen(pen)
        painter.drawLine(eye - QPointF(0, 34), eye)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("anchor"))
        painter.drawEllipse(eye, 5, 5)
        painter.setPen(theme.colour("anchor"))
        painter.drawText(eye - QPointF(8, 38), "eye")
        text = f"{unit.short(trigger.distance)} to the laser"
        self._draw_dimension(painter, QPointF(eye.x(), low), QPointF(self._laser, low), text)

    def _draw_window(self, painter: QPainter) -> None:
        station, unit = self.bench.station, self.bench.unit
        start, end = self._window(station)
        right, left = self.side(start, self._belt), self.side(end, self._belt)
        box = QRectF(left.x(), left.y() + 16, right.x() - left.x(), 16)
        painter.setPen(QPen(theme.colour("anchor"), 1.2))
        painter.setBrush(theme.colour("anchor", 36))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(theme.colour("anchor"))
        lasting = station.trigger.length_in == "trigger"
        told = "scan while trigger is on" if lasting else f"scan {unit.short(station.length)} {unit.name}"
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, told)
        painter.setBrush(theme.colour("paper"))
        for x in (box.left(), box.right()):
            painter.drawRect(QRectF(x - 3, box.top() + 2, 6, 12))

    def _draw_wheel(self, painter: QPainter) -> None:
        travel, unit = self.bench.station.travel, self.bench.unit
        at = self.side(42, self._belt) + QPointF(0, 22)
        painter.setPen(QPen(theme.colour("ink"), 1.4))
        painter.setBrush(theme.colour("paper"))
        painter.drawEllipse(at, 14, 14)
        if travel.clock == "internal":
            told = f"every {travel.period:g} ms"
            painter.drawLine(at, at - QPointF(0, 9))
            painter.drawLine(at, at + QPointF(6, 3))
        else:
            told = f"{travel.encoder.counts_per_mm * unit.mm:.4g} counts/{unit.name}"
            for k in range(16):
                angle = math.radians(22.5 * k)
                tip = QPointF(math.cos(angle), math.sin(angle))
                painter.drawLine(at + tip * 10.5, at + tip * 14)
        painter.setPen(theme.colour("muted"))
        painter.drawText(QRectF(at.x() - 60, at.y() + 14, 120, 16), Qt.AlignmentFlag.AlignCenter, told)

    def _draw_cross(self, painter: QPainter) -> None:
        station, bench, unit = self.bench.station, self.bench, self.bench.unit
        left, right = self._across()
        painter.setPen(QPen(theme.colour("line"), 3))
        painter.drawLine(self.cross(left - 8, self._belt), self.cross(right + 8, self._belt))
        for k, (sensor, model) in enumerate(zip(station.sensors, bench.models, strict=True)):
            half = model.width_at(sensor.stand_off - self._belt) / 2
            apex = self.cross(sensor.x, sensor.stand_off)
            painter.setPen(QPen(theme.colour("failed"), 1.4 if k == bench.sensor else 0.8))
            painter.setBrush(theme.colour("failed", 22))
            fan = [
                apex,
                self.cross(sensor.x + half, self._belt),
                self.cross(sensor.x - half, self._belt),
            ]
            painter.drawPolygon(QPolygonF(fan))
        self._draw_band(painter)
        self._draw_part(painter, self.cross(0, 0), bench.on_belt.width / 2)
        for k, (sensor, model) in enumerate(zip(station.sensors, bench.models, strict=True)):
            apex = self.cross(sensor.x, sensor.stand_off)
            wide = min(SENSOR_SIZE[0], 40.0 * self._scale) if len(station.sensors) > 1 else SENSOR_SIZE[0]
            body = QRectF(apex.x() - wide, apex.y() - SENSOR_SIZE[1], 2 * wide, SENSOR_SIZE[1])
            name = model.name if len(station.sensors) == 1 else f"{k + 1}"
            _draw_body(painter, body, name, chosen=len(station.sensors) > 1 and k == bench.sensor)
        at = self.cross(0, self._belt).y() + 20
        painter.setFont(theme.font(11))
        views = [
            (s.x - m.width_at(s.stand_off) / 2, s.x + m.width_at(s.stand_off) / 2)
            for s, m in zip(station.sensors, bench.models, strict=True)
        ]
        first, last = min(v[0] for v in views), max(v[1] for v in views)
        ends = (QPointF(self.cross(first, 0).x(), at), QPointF(self.cross(last, 0).x(), at))
        told = f"view {unit.text(last - first, 1)}, part {unit.short(bench.on_belt.width)} {unit.name}"
        self._draw_dimension(painter, *ends, told)

    def _draw_band(self, painter: QPainter) -> None:
        """What of the chosen sensor's view is delivered, with its handles."""
        unit, x = self.bench.unit, self.bench.mount.x
        low, high = self._band()
        pen = QPen(theme.colour("copper"), 1.3)
        pen.setDashPattern([5, 3])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        from_x, to_x = self.bench.mount.band.across
        corners = []
        for z, side in ((low, 1), (high, 1), (high, -1), (low, -1)):
            half = self._half_view(z)
            corners.append(self.cross(min(max(x + side * half, from_x), to_x), z))
        painter.setClipRect(QRectF(self._laser + DOWNSTREAM * self._scale, 0, self.width(), self.height() - 4))
        painter.drawPolygon(QPolygonF(corners))
        painter.setClipping(False)
        for handle in self.handles():
            if handle.cross and handle.upright:
                painter.setBrush(theme.colour("paper"))
                painter.setPen(QPen(theme.colour("copper"), 1.4))
                painter.drawRect(QRectF(handle.at.x() - 7, handle.at.y() - 3, 14, 6))
        painter.setPen(theme.colour("copper"))
        told = self.cross(x, high) - QPointF(70, 6)
        painter.drawText(told, f"delivered {unit.text(low, 0)} … {unit.text(high, 0)} {unit.name}")

    def _draw_part(self, painter: QPainter, at: QPointF, half: float) -> None:
        """The made-up cover from the side, its middle at a pixel that stands for z = 0."""
        belt = self._belt
        mirrored = [(-share, z) for share, z in reversed(SILHOUETTE[:3])]
        outline = [(-1, belt), *SILHOUETTE, *mirrored, (1, 0), (1, belt)]
        seen: list[QPointF] = []
        for share, z in outline:
            pixel = at + QPointF(share * half * self._scale, -z * self._scale)
            if not seen or pixel != seen[-1]:
                seen.append(pixel)
        painter.setPen(QPen(theme.colour("muted"), 1))
        painter.setBrush(theme.colour("passed_wash"))
        painter.drawPolygon(QPolygonF(seen))

    def _draw_dimension(
        self, painter: QPainter, a: QPointF, b: QPointF, text: str, *, upright: bool = False
    ) -> None:
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
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    # -- pointer ----------------------------------------------------------------------------------

    def _under(self, pixel: QPointF) -> Handle | None:
        near = (
            (math.hypot(h.at.x() - pixel.x(), h.at.y() - pixel.y()), k) for k, h in enumerate(self.handles())
        )
        distance, k = min(near)
        return self.handles()[k] if distance <= GRAB + (8 if k == 0 else 0) else None

    def _moved(self, handle: Handle, pixel: QPointF) -> Station | None:
        u = (pixel.x() - (self._middle if handle.cross else self._laser)) / self._scale
        z = (self._ground - pixel.y()) / self._scale
        try:
            return handle.move(u, z)
        except HemtraError:
            return None  # the pointer went where the station cannot follow; it stays where it was

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take what lies under the pointer."""
        self._held = self._under(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it along."""
        if self._held is None:
            under = self._under(event.position())
            upright = Qt.CursorShape.SizeVerCursor
            shape = Qt.CursorShape.ArrowCursor
            if under is not None:
                shape = upright if under.upright else Qt.CursorShape.SizeHorCursor
            self.setCursor(shape)
            self.setToolTip(f"Drag: {under.label}" if under else "")
            return
        station = self._moved(self._held, event.position())
        if station is not None:
            self.dragged.emit(station)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go: the drag becomes one change."""
        handle, self._held = self._held, None
        if handle is not None:
            station = self._moved(handle, event.position()) or self.bench.document.value
            self.dropped.emit(handle.label, station)

    def resizeEvent(self, event: object) -> None:
        """Fit the new size."""
        self._place()


def _draw_body(painter: QPainter, box: QRectF, name: str, *, chosen: bool = False) -> None:
    painter.setPen(QPen(theme.colour("copper"), 2) if chosen else Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("spruce"))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(theme.colour("on_spruce"))
    painter.setFont(theme.font(12, bold=True))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
    painter.setFont(theme.font(12))
