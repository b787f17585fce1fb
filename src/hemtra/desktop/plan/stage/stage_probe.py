"""The pinned probe: how far the pointer is from a place on the part."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from hemtra.core.maps.heightmap import HeightMap
from hemtra.desktop.models.bench import Place
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.widgets import theme, units

NEAR_PIXELS = 5.0
"""Radius around the pin within which pinning again removes it, pixels."""


class Probe:
    """A pin on the part, or none."""

    def __init__(self) -> None:
        self.pinned: Place | None = None

    def pin(self, at: Place | None, viewport: Viewport) -> None:
        """Pin a place; on the pin itself, or without a place, take it off."""
        near = at and self.pinned and math.dist(at, self.pinned) < NEAR_PIXELS * viewport.scale
        self.pinned = None if near else at

    def distance_text(self, place: Place, data: HeightMap) -> str:
        """Distance of a place from the pin; '' without a pin."""
        if self.pinned is None:
            return ""
        dx, dy = place[0] - self.pinned[0], place[1] - self.pinned[1]
        angle = units.signed(f"{math.degrees(math.atan2(dy, dx)):.1f}")
        z, below = data.height_at(*place), data.height_at(*self.pinned)
        if z is None or below is None:
            flat = f"flat {units.number(math.hypot(dx, dy), 2)} {units.current().name}"
            return f"from pin  dx {units.number(dx, 2)}   dy {units.number(dy, 2)}   {flat}   {angle}°"
        far = f"{units.number(math.hypot(dx, dy, z - below), 2)} {units.current().name}"
        parts = f"dx {units.number(dx, 2)}   dy {units.number(dy, 2)}   dz {units.number(z - below, 3)}"
        return f"from pin  {parts}   {far}   {angle}°"

    def read_out(self, place: Place, data: HeightMap, more: str) -> str:
        """Reading of the map at a place, and its distance from the pin; more: further text."""
        z, grey = data.height_at(*place), data.intensity_at(*place)
        height = "no data" if z is None else units.number(z, 3)
        across, along = (units.number(c, 2) for c in place)
        words = f"x {across}   y {along}   z {height} {units.current().name}"
        parts = [words, more, "" if grey is None else f"intensity {grey}", self.distance_text(place, data)]
        return "   ".join(part for part in parts if part)

    def draw(self, painter: QPainter, viewport: Viewport, cursor: Pixel | None) -> None:
        """The pin, and a line from it to the pointer."""
        if self.pinned is None:
            return
        at = QPointF(*viewport.to_screen(*self.pinned))
        if cursor is not None:
            painter.setPen(QPen(theme.colour("stage_ink", 170), 1.0, Qt.PenStyle.DotLine))
            painter.drawLine(at, QPointF(*cursor))
        painter.setBrush(theme.colour("copper"))
        painter.setPen(QPen(theme.colour("paper"), 1.4))
        painter.drawEllipse(at, 4.5, 4.5)
