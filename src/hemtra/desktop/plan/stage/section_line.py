"""The line of the section on the stage: where it is, how it is drawn, and what of it a pixel takes hold of."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.widgets import theme

GRAB = 7.0
"""Catch distance of the line, pixels."""
Line = tuple[Place, Place]
MOVES = {"line-0": (1, 0), "line-1": (0, 1), "line": (1, 1)}
"""Whether the line's ends move along, by what is held of it."""


class SectionLine:
    """The line as drawn by hand, or as proposed for the evidence shown."""

    def __init__(self, bench: WorkspaceModel) -> None:
        self._bench = bench
        self.linked: Place | None = None
        """The place on it that another view points at."""

    @property
    def ends(self) -> Line | None:
        """Ends in mm of the scan."""
        shown = self._bench.shown
        return self._bench.line or (shown.line if shown else None)

    def draw(self, painter: QPainter, viewport: Viewport) -> None:
        """Paint it, and what is pointed at on it."""
        if self.ends is None:
            return
        a, b = (QPointF(*viewport.to_screen(*end)) for end in self.ends)
        painter.setPen(QPen(QColor(0, 0, 0, 110), 3))
        painter.drawLine(a, b)
        pen = QPen(theme.colour("anchor").lighter(165), 1.3)
        pen.setDashPattern([9, 3, 2, 3])
        painter.setPen(pen)
        painter.drawLine(a, b)
        painter.setBrush(theme.colour("anchor").lighter(165))
        painter.setPen(QPen(theme.colour("stage"), 1))
        for end in (a, b):
            painter.drawEllipse(end, 4, 4)
        if self.linked is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.colour("paper"), 1.6))
            painter.drawEllipse(QPointF(*viewport.to_screen(*self.linked)), 6, 6)

    def under(self, viewport: Viewport, pixel: Pixel) -> str | None:
        """One of `MOVES`, or None away from the line."""
        if self.ends is None:
            return None
        ends = [viewport.to_screen(*end) for end in self.ends]
        for k, end in enumerate(ends):
            if math.dist(end, pixel) <= GRAB + 2:
                return f"line-{k}"
        (ax, ay), (bx, by) = ends
        length = math.dist(*ends) or 1.0
        along = ((pixel[0] - ax) * (bx - ax) + (pixel[1] - ay) * (by - ay)) / length
        off = abs((pixel[0] - ax) * (by - ay) - (pixel[1] - ay) * (bx - ax)) / length
        return "line" if off <= GRAB and 0 <= along <= length else None


def moved(line: Line, held: str, dx: float, dy: float) -> Line:
    """A line of which one of `MOVES` was dragged by so many mm."""
    (ax, ay), (bx, by), (a, b) = *line, MOVES[held]
    return (ax + a * dx, ay + a * dy), (bx + b * dx, by + b * dy)
