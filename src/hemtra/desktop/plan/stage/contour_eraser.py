"""Rubbing out on the stage: the places the pointer went over while it was held down."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter

from hemtra.desktop.models.bench import Place
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.widgets import theme

PIXELS = 9.0
"""Radius of the eraser, pixels."""


class ContourEraser:
    """Gathers places; `active` while the pointer rubs instead of picking."""

    def __init__(self) -> None:
        self.active = False
        self.places: list[Place] = []

    def reach(self, viewport: Viewport) -> float:
        """Erased radius around each place, mm."""
        return PIXELS * viewport.scale

    def on(self, place: Place, viewport: Viewport) -> None:
        """Rub from the last place to this one, with no gap however fast the pointer went."""
        if not self.places:
            return
        (ax, ay), (bx, by) = self.places[-1], place
        steps = int(math.dist((ax, ay), place) / (self.reach(viewport) / 2))
        self.places += [(ax + (bx - ax) * k / steps, ay + (by - ay) * k / steps) for k in range(1, steps + 1)]

    def draw(self, painter: QPainter, viewport: Viewport) -> None:
        """Pieces being erased."""
        painter.setBrush(theme.colour("failed", 120))
        painter.setPen(Qt.PenStyle.NoPen)
        for place in self.places:
            painter.drawEllipse(QPointF(*viewport.to_screen(*place)), PIXELS, PIXELS)
