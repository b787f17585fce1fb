"""Painting of maps and marks in part coordinates."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.marks import Label, Mark, Polyline, Region, Strokes
from hemtra.core.zones.zone import AnyZone, PathZone
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.models.zone_drag import handle_pixels, pieces_of
from hemtra.desktop.widgets import theme

FEW_CORNERS = 8
"""Corners up to which an outline is drawn side by side: Qt does so ten times as fast as with a polygon."""
NEAR = 2.5
"""Distance in pixels below which two points of an outline look like one."""
REGION_ALPHA = {"used-data": 110, "left-out": 120}


def image(pixels: ByteArray) -> QImage:
    """A QImage of its own from (h, w, 4) uint8 RGBA."""
    h, w = pixels.shape[:2]
    return QImage(np.ascontiguousarray(pixels).data, w, h, 4 * w, QImage.Format.Format_RGBA8888).copy()


def mark_colour(role: str) -> QColor:
    """The colour of a mark's role."""
    names = {"used-data": "copper", "left-out": "unmeasured", "fit": "stage_ink", "anchor": "anchor"}
    return theme.colour(names.get(role, "stage_ink"))


class RegionImages:
    """Masks as images, made once for as long as the marks live."""

    def __init__(self) -> None:
        self._images: dict[int, tuple[Region, QImage]] = {}

    def forget(self) -> None:
        """Drop all images."""
        self._images.clear()

    def of(self, region: Region) -> QImage:
        """The image of a mask, row 0 at the bottom."""
        known = self._images.get(id(region))
        if known is None:
            tint = mark_colour(region.role)
            pixels = np.zeros((*region.mask.shape, 4), np.uint8)
            pixels[region.mask] = (tint.red(), tint.green(), tint.blue(), REGION_ALPHA.get(region.role, 100))
            known = self._images[id(region)] = (region, image(pixels[::-1]))
        return known[1]


def draw_regions(painter: QPainter, viewport: Viewport, marks: Iterable[Mark], images: RegionImages) -> None:
    """Masks over the map, each point as large as it is on the part."""
    for mark in marks:
        if not isinstance(mark, Region) or not mark.mask.any():
            continue
        grid, (rows, cols) = mark.grid, mark.mask.shape
        left, top = viewport.to_screen(grid.x0 - grid.dx / 2, grid.y0 + (rows - 0.5) * grid.dy)
        right, bottom = viewport.to_screen(grid.x0 + (cols - 0.5) * grid.dx, grid.y0 - grid.dy / 2)
        painter.drawImage(QRectF(left, top, right - left, bottom - top), images.of(mark))


def draw_polylines(painter: QPainter, viewport: Viewport, marks: Iterable[Mark]) -> None:
    """Fitted lines and outlines in the top view."""
    for mark in marks:
        if isinstance(mark, Polyline):
            points = QPolygonF([QPointF(*viewport.to_screen(x, y)) for x, y, _ in mark.points])
            painter.setPen(QPen(mark_colour(mark.role), 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolygon(points) if mark.closed else painter.drawPolyline(points)


def draw_strokes(painter: QPainter, viewport: Viewport, marks: Iterable[Mark]) -> None:
    """Many short strokes in the top view."""
    for mark in marks:
        if isinstance(mark, Strokes) and len(mark.ends):
            lines = [
                QLineF(*viewport.to_screen(a[0], a[1]), *viewport.to_screen(b[0], b[1]))
                for a, b in mark.ends.tolist()
            ]
            painter.setPen(QPen(QColor(0, 0, 0, 120), 3.6))
            painter.drawLines(lines)
            painter.setPen(QPen(mark_colour(mark.role).lighter(135), 1.8))
            painter.drawLines(lines)


def draw_labels(painter: QPainter, viewport: Viewport, marks: Iterable[Mark]) -> None:
    """Words at places, on a patch of paper so that they can be read on any colour."""
    painter.setFont(theme.font(12, bold=True))
    for mark in marks:
        if isinstance(mark, Label):
            x, y = viewport.to_screen(mark.at.x, mark.at.y)
            box = QRectF(x - 9, y - 9, 18, 18)
            painter.setPen(QPen(mark_colour(mark.role), 1.2))
            painter.setBrush(theme.colour("paper", 225))
            painter.drawEllipse(box)
            painter.setPen(theme.colour("ink"))
            painter.drawText(box.adjusted(-10, 0, 10, 0), Qt.AlignmentFlag.AlignCenter, mark.text)


def draw_zone(painter: QPainter, viewport: Viewport, zone: AnyZone, pen: QPen) -> None:
    """The outline of a zone, dark beneath so that it shows on any colour."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    is_open = isinstance(zone, PathZone) and not zone.closed
    beneath = QPen(QColor(0, 0, 0, 120), pen.widthF() + 2)
    beneath.setCapStyle(Qt.PenCapStyle.FlatCap)
    for outline in (zone.outline(), *zone.inner_outlines()):
        points = _on_screen(viewport, outline, thin=not is_open)
        ends = points[1:] if is_open else (*points[1:], points[0])
        sides = [QLineF(a, b) for a, b in zip(points, ends, strict=False)]
        for each in (beneath, pen):
            painter.setPen(each)
            if len(points) <= FEW_CORNERS:
                painter.drawLines(sides)
            elif is_open:
                painter.drawPolyline(points)
            else:
                painter.drawPolygon(points)


def _on_screen(viewport: Viewport, outline: FloatArray, *, thin: bool) -> list[QPointF]:
    """An outline in pixels; where it is thinned, a small round one has as many points as show."""
    x, y = viewport.to_screen(outline[:, 0], outline[:, 1])
    length = float(np.hypot(np.diff(x), np.diff(y)).sum())
    many = thin and len(x) > FEW_CORNERS and length > 0.0
    every = max(1, int(len(x) * NEAR / length)) if many else 1
    return [QPointF(*place) for place in zip(x[::every].tolist(), y[::every].tolist(), strict=True)]


def draw_handles(painter: QPainter, viewport: Viewport, zone: AnyZone) -> None:
    """Handles of a zone, and smaller ones of its pieces."""
    for piece in pieces_of(zone).values():
        pen = QPen(theme.colour("copper").lighter(130), 1.2)
        pen.setDashPattern([3, 2])
        draw_zone(painter, viewport, piece, pen)
        _draw_grips(painter, viewport, piece, 2.6)
    _draw_grips(painter, viewport, zone, 3.5)


def _draw_grips(painter: QPainter, viewport: Viewport, zone: AnyZone, size: float) -> None:
    places = handle_pixels(zone, viewport)
    if "rotate" in places:
        corners = [viewport.to_screen(*corner) for corner in zone.corners()]
        middle = QPointF((corners[2][0] + corners[3][0]) / 2, (corners[2][1] + corners[3][1]) / 2)
        painter.setPen(QPen(theme.colour("copper").lighter(130), 1.2))
        painter.drawLine(middle, QPointF(*places["rotate"]))
    painter.setBrush(theme.colour("paper"))
    painter.setPen(QPen(theme.colour("copper"), 1.6))
    for name, (x, y) in places.items():
        if name in ("rotate", "inner"):
            painter.drawEllipse(QPointF(x, y), size + 1, size + 1)
        else:
            painter.drawRect(QRectF(x - size, y - size, 2 * size, 2 * size))
