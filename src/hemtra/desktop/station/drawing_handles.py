"""Handles in the drawing of the station, and the station after a drag."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF

from hemtra.core.errors import HemtraError
from hemtra.core.station.station import Station
from hemtra.desktop.station.drawing_scale import SENSOR_SIZE, DrawingScale

GRAB = 9.0
"""Pixels around a handle that take it; a sensor's body is larger."""
BODY = 8.0


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


class StationHandles:
    """The handles of the station as it stands."""

    def __init__(self, scale: DrawingScale) -> None:
        self._scale = scale

    def all(self) -> list[Handle]:
        """Handles of a station."""
        station, mount = self._scale.bench.station, self._scale.bench.mount
        found = [
            Handle(
                "stand-off",
                self._scale.side(0, mount.stand_off) - QPointF(0, SENSOR_SIZE[1] / 2),
                self._set_stand_off,
                upright=True,
            )
        ]
        start, end = self._scale.window(station)
        if station.trigger.by == "eye":
            found.append(Handle("eye", self._scale.side(-self._scale.eye, 0), self._set_eye))
        if station.trigger.length_in != "trigger":
            found.append(
                Handle(
                    "scan length",
                    self._scale.side(end, self._scale.belt) + QPointF(0, 24),
                    self._set_length,
                )
            )
        if station.trigger.by in ("eye", "height", "manual"):
            found.append(
                Handle("delay", self._scale.side(start, self._scale.belt) + QPointF(0, 24), self._set_start)
            )
        low, high = self._scale.band()
        half, x = self._scale.half_view(low), mount.x
        body = self._scale.cross(x, mount.stand_off) - QPointF(0, SENSOR_SIZE[1] / 2)
        found += [
            Handle(
                "band from",
                self._scale.cross(x + half * 0.8, low),
                self._set_low,
                cross=True,
                upright=True,
            ),
            Handle(
                "band to",
                self._scale.cross(x + half * 0.6, high),
                self._set_high,
                cross=True,
                upright=True,
            ),
            Handle("lateral offset", body, self._set_beside, cross=True),
        ]
        return found

    def under(self, pixel: QPointF) -> Handle | None:
        """The handle at a pixel."""
        found = self.all()
        distance, k = min(
            (math.hypot(h.at.x() - pixel.x(), h.at.y() - pixel.y()), k) for k, h in enumerate(found)
        )
        return found[k] if distance <= GRAB + (BODY if k == 0 else 0) else None

    def moved(self, handle: Handle, pixel: QPointF) -> Station | None:
        """The station with a handle at a pixel, None where the station cannot follow."""
        try:
            return handle.move(*self._scale.at(pixel, cross=handle.cross))
        except HemtraError:
            return None

    def _set_stand_off(self, u: float, z: float) -> Station:
        lowered = z - SENSOR_SIZE[1] / 2 / self._scale.pixels
        return self._with_sensor(stand_off=max(10.0, float(round(lowered))))

    def _set_beside(self, u: float, z: float) -> Station:
        return self._with_sensor(x=float(round(u)))

    def _with_sensor(self, **changes: float) -> Station:
        return self._scale.bench.document.value.with_part(self._scale.bench.path, **changes)

    def _set_eye(self, u: float, z: float) -> Station:
        """The scan keeps its place on the part."""
        station = self._scale.bench.document.value
        distance = max(0.0, float(round(-u)))
        delay = station.trigger.delay_mm(station.travel) + distance - station.trigger.distance
        return station.with_part("trigger", distance=distance, delay=delay, delay_in="mm")

    def _set_length(self, u: float, z: float) -> Station:
        station = self._scale.bench.document.value
        front, _ = self._scale.window(station)
        return station.with_part("trigger", length=max(1.0, float(round(front - u))), length_in="mm")

    def _set_start(self, u: float, z: float) -> Station:
        """The scan begins elsewhere and ends where it did."""
        station = self._scale.bench.document.value
        lead = float(round(u + self._scale.eye))
        length = max(1.0, station.length + lead - station.lead)
        delay = self._scale.eye - lead
        if station.trigger.length_in != "trigger":
            station = station.with_part("trigger", length=length, length_in="mm")
        return station.with_part("trigger", delay=delay, delay_in="mm")

    def _set_low(self, u: float, z: float) -> Station:
        return self._set_band(z_low=min(round(z, 1), self._scale.band()[1] - 0.5))

    def _set_high(self, u: float, z: float) -> Station:
        return self._set_band(z_high=max(round(z, 1), self._scale.band()[0] + 0.5))

    def _set_band(self, **limits: float) -> Station:
        return self._scale.bench.document.value.with_part(f"{self._scale.bench.path}.band", **limits)
