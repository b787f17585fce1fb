"""Scale of the station's drawing, shared by the side view and the view along travel."""

from __future__ import annotations

from PySide6.QtCore import QPointF

from hemtra.core.station.station import Station
from hemtra.desktop.models.station_bench import StationBench

HEAD = 34.0
"""Pixels above the drawing for the titles of its views."""
FLOOR = 66.0
"""Pixels below the belt, for the encoder's wheel, the scan window and the distance of the eye."""
SENSOR_SIZE = (56.0, 30.0)
"""Pixels of a sensor's body."""
DOWNSTREAM, GAP, MARGIN = 62.0, 30.0, 10.0
"""mm drawn behind the laser, between the two views, and around."""


class DrawingScale:
    """Pixels of places in mm. side: u downstream of the laser; cross: x beside the laser's middle."""

    def __init__(self, bench: StationBench) -> None:
        self.bench = bench
        self.pixels, self.laser, self.middle, self.ground = 1.0, 0.0, 0.0, 0.0
        """Pixels per millimetre, and the pixels of the laser, of the middle across, and of z = 0."""

    def place(self, width: float, height: float) -> None:
        """Scale and origins for both views together, so that a millimetre is the same everywhere."""
        station, bench = self.bench.station, self.bench
        upstream = self.eye + max(bench.on_belt.length, station.length - station.lead)
        left, right = self.across()
        across = right - left
        wide = upstream + DOWNSTREAM + GAP + across + 2 * MARGIN
        highest = max(sensor.stand_off for sensor in station.sensors)
        high = highest - self.belt
        room = height - HEAD - SENSOR_SIZE[1] - 8 - FLOOR
        self.pixels = max(0.05, min((width - 20) / wide, room / high))
        spare = max(0.0, width - wide * self.pixels) / 3
        self.laser = spare + (upstream + MARGIN) * self.pixels
        self.middle = width - spare - (right + MARGIN) * self.pixels
        self.ground = HEAD + SENSOR_SIZE[1] + 8 + highest * self.pixels

    def across(self) -> tuple[float, float]:
        """x from and to in mm of all views and the part."""
        half = self.bench.on_belt.width / 2
        views = [
            (sensor.x, model.width_at(sensor.stand_off - self.belt) / 2)
            for sensor, model in zip(self.bench.station.sensors, self.bench.models, strict=True)
        ]
        return min(-half, *(x - w for x, w in views)), max(half, *(x + w for x, w in views))

    @property
    def belt(self) -> float:
        """z of the belt in mm."""
        return self.bench.station.belt

    @property
    def eye(self) -> float:
        """Distance from the laser of a waiting part: at the photo-eye, or right before the laser, mm."""
        trigger = self.bench.station.trigger
        return trigger.distance if trigger.by == "eye" else 0.0

    def side(self, u: float, z: float) -> QPointF:
        """Pixel of a place u mm downstream of the laser."""
        return QPointF(self.laser + u * self.pixels, self.ground - z * self.pixels)

    def cross(self, x: float, z: float) -> QPointF:
        """Pixel of a place x mm beside the laser's middle."""
        return QPointF(self.middle + x * self.pixels, self.ground - z * self.pixels)

    def window(self, station: Station) -> tuple[float, float]:
        """Front and end of what will be scanned, when the part's front is where it is drawn."""
        front = -self.eye + station.lead
        return front, front - station.length

    def band(self) -> tuple[float, float]:
        """Lowest and highest z that the chosen sensor delivers."""
        return self.bench.mount.covered(self.bench.model)

    def half_view(self, z: float) -> float:
        """Half the chosen sensor's view at a height, mm."""
        return self.bench.model.width_at(self.bench.mount.stand_off - z) / 2

    def at(self, pixel: QPointF, *, cross: bool) -> tuple[float, float]:
        """u along the belt, or x across it, and z of a pixel."""
        origin = self.middle if cross else self.laser
        return (pixel.x() - origin) / self.pixels, (self.ground - pixel.y()) / self.pixels
