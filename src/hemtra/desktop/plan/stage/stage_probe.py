"""The pinned probe: how far the pointer is from a place on the part."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from hemtra.core.maps.heightmap import HeightMap
from hemtra.desktop.models.bench import Place
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.widgets import theme

NEAR_PIXELS = 5.0
"""Pixels around the pin within which pinning again takes it off."""


class Probe:
    """A pin on the part, or none."""

    def __init__(self) -> None:
        self.pinned: Place | None = None

    def pin(self, at: Place | None, viewport: Viewport) -> None:
        """Pin a place; on the pin itself, or without a place, take it off."""
        near = at and self.pinned and math.dist(at, self.pinned) < NEAR_PIXELS * viewport.scale
        self.pinned = None if near else at

    def distance_text(self, place: Place, data: HeightMap) -> str:
        """How far a place lies from the pin; '' without one."""
        if self.pinned is None:
            return ""
        dx, dy = place[0] - self.pinned[0], place[1] - self.pinned[1]
        angle = math.degrees(math.atan2(dy, dx))
        z, below = data.height_at(*place), data.height_at(*self.pinned)
        if z is None or below is None:
            return f"from pin  dx {dx:.2f}   dy {dy:.2f}   flat {math.hypot(dx, dy):.2f} mm   {angle:.1f}°"
        far = math.hypot(dx, dy, z - below)
        return f"from pin  dx {dx:.2f}   dy {dy:.2f}   dz {z - below:.3f}   {far:.2f} mm   {angle:.1f}°"

    def read_out(self, place: Place, data: HeightMap, more: str) -> str:
        """What the map holds at a place, and how far it is from the pin; more: what else there is to say."""
        z, grey = data.height_at(*place), data.intensity_at(*place)
        words = f"x {place[0]:.2f}   y {place[1]:.2f}   z {'no data' if z is None else f'{z:.3f}'} mm"
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
