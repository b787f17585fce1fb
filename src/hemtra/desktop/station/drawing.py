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
from hemtra.desktop import theme
from hemtra.desktop.model.station_bench import PART_LENGTH, PART_WIDTH, StationBench
from hemtra.desktop.plan.signs import draw_arrow
from hemtra.virtual.cover import BELT

GRAB = 9.0
HEAD = 34.0
"""Pixels above the drawing for the titles of its views."""
FLOOR = 30.0
"""mm drawn below the belt, for the encoder's wheel and the scan window."""
SENSOR_SIZE = (56.0, 30.0)
"""Pixels of a sensor's body."""
DOWNSTREAM, GAP, MARGIN = 62.0, 30.0, 10.0
"""mm drawn behind the laser, between the two views, and around."""
SILHOUETTE = ((-1, BELT), (-1, 0), (-0.72, 0), (-0.72, 4), (-0.42, 4), (-0.42, 8), (0.42, 8), (0.42, 4))
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
        self._place()

    # -- geometry ---------------------------------------------------------------------------------

    def _refresh(self) -> None:
        if self._held is None:  # while something is held the scale stays, or it would run away from the pointer
            self._place()
        self.update()

    def _place(self) -> None:
        """Scale and origins for both views together, so that a millimetre is the same everywhere."""
        station, model = self.bench.station, self.bench.model
        upstream = station.eye.distance + max(PART_LENGTH, station.travel.length - station.eye.lead)
        across = max(model.width_at(station.sensor.stand_off - BELT), PART_WIDTH)
        wide = upstream + DOWNSTREAM + GAP + across + 2 * MARGIN
        high = station.sensor.stand_off + FLOOR - BELT
        room = self.height() - HEAD - SENSOR_SIZE[1] - 24
        self._scale = max(0.05, min((self.width() - 20) / wide, room / high))
        spare = max(0.0, self.width() - wide * self._scale) / 3
        self._laser = spare + (upstream + MARGIN) * self._scale
        self._middle = self.width() - spare - (across / 2 + MARGIN) * self._scale
        self._ground = HEAD + SENSOR_SIZE[1] + 8 + station.sensor.stand_off * self._scale

    def side(self, u: float, z: float) -> QPointF:
        """Pixel of a place u mm downstream of the laser."""
        return QPointF(self._laser + u * self._scale, self._ground - z * self._scale)

    def cross(self, x: float, z: float) -> QPointF:
        """Pixel of a place x mm beside the laser's middle."""
        return QPointF(self._middle + x * self._scale, self._ground - z * self._scale)

    def handles(self) -> list[Handle]:
        """What can be dragged, as the station stands."""
        station = self.bench.station
        start, end = self._window(station)
        found = [
            Handle(
                "stand-off",
                self.side(0, station.sensor.stand_off) - QPointF(0, SENSOR_SIZE[1] / 2),
                self._set_stand_off,
                upright=True,
            ),
            Handle("eye", self.side(-station.eye.distance, 0), self._set_eye),
            Handle("scan length", self.side(end, BELT) + QPointF(0, 24), self._set_length),
            Handle("lead", self.side(start, BELT) + QPointF(0, 24), self._set_lead),
        ]
        low, high = self._band(station)
        half = self._half_view(low)
        found += [
            Handle("band from", self.cross(half * 0.8, low), self._set_low, cross=True, upright=True),
            Handle("band to", self.cross(half * 0.6, high), self._set_high, cross=True, upright=True),
        ]
        return found

    def _window(self, station: Station) -> tuple[float, float]:
        """Front and end of what will be scanned, when the part's front is at the eye."""
        front = -station.eye.distance + station.eye.lead
        return front, front - station.travel.length

    def _band(self, station: Station) -> tuple[float, float]:
        return self.bench.model.covered(station.sensor.stand_off, station.sensor.band)

    def _half_view(self, z: float) -> float:
        return self.bench.model.width_at(self.bench.station.sensor.stand_off - z) / 2

    def _set_stand_off(self, u: float, z: float) -> Station:
        lowered = z - SENSOR_SIZE[1] / 2 / self._scale
        return self.bench.document.value.with_part("sensor", stand_off=max(10.0, round(lowered)))

    def _set_eye(self, u: float, z: float) -> Station:
        station = self.bench.document.value
        return station.with_part("eye", distance=max(station.eye.lead, float(round(-u))))

    def _set_length(self, u: float, z: float) -> Station:
        station = self.bench.document.value
        front, _ = self._window(station)
        return station.with_part("travel", length=max(1.0, round(front - u)))

    def _set_lead(self, u: float, z: float) -> Station:
        station = self.bench.document.value
        lead = min(max(0.0, round(u + station.eye.distance)), station.eye.distance)
        length = max(1.0, station.travel.length + lead - station.eye.lead)
        return station.with_part("eye", lead=lead).with_part("travel", length=length)

    def _set_low(self, u: float, z: float) -> Station:
        return self._set_band(min(round(z, 1), self._band(self.bench.document.value)[1] - 0.5), None)

    def _set_high(self, u: float, z: float) -> Station:
        return self._set_band(None, max(round(z, 1), self._band(self.bench.document.value)[0] + 0.5))

    def _set_band(self, low: float | None, high: float | None) -> Station:
        station = self.bench.document.value
        now = self._band(station)
        known = station.sensor.band
        sides = {} if known is None else {"x_low": known.x_low, "x_high": known.x_high}
        band = {"z_low": now[0] if low is None else low, "z_high": now[1] if high is None else high, **sides}
        return station.with_part("sensor", band=band)

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
        station, model = self.bench.station, self.bench.model
        stand_off = station.sensor.stand_off
        belt = QRectF(14, self.side(0, BELT).y(), self._laser + DOWNSTREAM * self._scale - 14, 6)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("line"))
        painter.drawRect(belt)
        self._draw_part(painter, self.side(-station.eye.distance - PART_LENGTH / 2, 0), PART_LENGTH / 2)
        painter.setPen(QPen(theme.colour("copper"), 1.2))
        ahead = self.side(-station.eye.distance - PART_LENGTH / 2, 16)
        painter.drawLine(ahead - QPointF(30, 0), ahead + QPointF(30, 0))
        draw_arrow(painter, ahead, ahead + QPointF(30, 0))
        painter.drawText(ahead - QPointF(30, 7), f"{station.travel.speed:g} mm/s")
        # the laser, and the camera that looks at it from where the part comes
        laser, hit = self.side(0, stand_off), self.side(0, BELT)
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
            painter, self.side(24, 0), self.side(24, stand_off), f"{stand_off:g}", upright=True
        )
        # eye, its distance, and the window of the scan
        eye = self.side(-station.eye.distance, 0)
        pen = QPen(theme.colour("anchor"), 1.3)
        pen.setDashPattern([3, 3])
        painter.setPen(pen)
        painter.drawLine(eye - QPointF(0, 34), eye)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("anchor"))
        painter.drawEllipse(eye, 5, 5)
        painter.setPen(theme.colour("anchor"))
        painter.drawText(eye - QPointF(8, 38), "eye")
        low = self.side(0, BELT).y() + 46
        text = f"{station.eye.distance:g} to the laser"
        self._draw_dimension(painter, QPointF(eye.x(), low), QPointF(laser.x(), low), text)
        self._draw_window(painter)
        self._draw_wheel(painter)

    def _draw_window(self, painter: QPainter) -> None:
        station = self.bench.station
        start, end = self._window(station)
        right, left = self.side(start, BELT), self.side(end, BELT)
        box = QRectF(left.x(), left.y() + 16, right.x() - left.x(), 16)
        painter.setPen(QPen(theme.colour("anchor"), 1.2))
        painter.setBrush(theme.colour("anchor", 36))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(theme.colour("anchor"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, f"scan {station.travel.length:g} mm")
        painter.setBrush(theme.colour("paper"))
        for x in (box.left(), box.right()):
            painter.drawRect(QRectF(x - 3, box.top() + 2, 6, 12))

    def _draw_wheel(self, painter: QPainter) -> None:
        at = self.side(42, BELT) + QPointF(0, 22)
        painter.setPen(QPen(theme.colour("ink"), 1.4))
        painter.setBrush(theme.colour("paper"))
        painter.drawEllipse(at, 14, 14)
        for k in range(16):
            angle = math.radians(22.5 * k)
            tip = QPointF(math.cos(angle), math.sin(angle))
            painter.drawLine(at + tip * 10.5, at + tip * 14)
        painter.setPen(theme.colour("muted"))
        told = f"{self.bench.station.travel.encoder.counts_per_mm:.4g} counts/mm"
        painter.drawText(QRectF(at.x() - 60, at.y() + 14, 120, 16), Qt.AlignmentFlag.AlignCenter, told)

    def _draw_cross(self, painter: QPainter) -> None:
        station, model = self.bench.station, self.bench.model
        stand_off = station.sensor.stand_off
        apex = self.cross(0, stand_off)
        half = self._half_view(BELT)
        painter.setPen(QPen(theme.colour("failed"), 1.0))
        painter.setBrush(theme.colour("failed", 22))
        painter.drawPolygon(QPolygonF([apex, self.cross(half, BELT), self.cross(-half, BELT)]))
        low, high = self._band(station)
        pen = QPen(theme.colour("copper"), 1.3)
        pen.setDashPattern([5, 3])
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        corners = [(self._half_view(low), low), (self._half_view(high), high)]
        right = [self.cross(x, z) for x, z in corners]
        left = [self.cross(-x, z) for x, z in reversed(corners)]
        painter.setClipRect(QRectF(self._middle - 400, 0, 800, self.height() - 4))
        painter.drawPolygon(QPolygonF([*right, *left]))
        painter.setClipping(False)
        for handle in self.handles():
            if handle.cross:
                painter.setBrush(theme.colour("paper"))
                painter.setPen(QPen(theme.colour("copper"), 1.4))
                painter.drawRect(QRectF(handle.at.x() - 7, handle.at.y() - 3, 14, 6))
        painter.setPen(theme.colour("copper"))
        told = self.cross(0, high) - QPointF(70, 6)
        painter.drawText(told, f"delivered {low:.0f} … {high:.0f} mm")
        self._draw_part(painter, self.cross(0, 0), PART_WIDTH / 2)
        painter.setPen(QPen(theme.colour("line"), 3))
        painter.drawLine(self.cross(-half - 8, BELT), self.cross(half + 8, BELT))
        body = QRectF(apex.x() - SENSOR_SIZE[0], apex.y() - SENSOR_SIZE[1], 2 * SENSOR_SIZE[0], SENSOR_SIZE[1])
        _draw_body(painter, body, model.name)
        at = self.cross(0, BELT).y() + 20
        view = model.width_at(stand_off)
        ends = (QPointF(self.cross(-view / 2, 0).x(), at), QPointF(self.cross(view / 2, 0).x(), at))
        self._draw_dimension(painter, *ends, f"{view:.1f} view at the part's top, {PART_WIDTH:g} part")

    def _draw_part(self, painter: QPainter, at: QPointF, half: float) -> None:
        """The made-up cover from the side, its middle at a pixel that stands for z = 0."""
        outline = [*SILHOUETTE, *((-share, z) for share, z in reversed(SILHOUETTE[:4])), (1, 0), (1, BELT)]
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


def _draw_body(painter: QPainter, box: QRectF, name: str) -> None:
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.colour("spruce"))
    painter.drawRoundedRect(box, 4, 4)
    painter.setPen(theme.colour("on_spruce"))
    painter.setFont(theme.font(12, bold=True))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
    painter.setFont(theme.font(12))
