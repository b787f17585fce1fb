"""The zones of two plans over each other, on the scan they are drawn on."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QWidget

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Plan
from hemtra.core.plan.registry import kind_named
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.layers import draw_zone, image

EDGE = 12.0
TAIL = 0.5
"""Share of the heights at either end outside the colour range, percent."""


class ZonesOverlay(QWidget):
    """Zones that differ: as they were dashed and light, as they are in copper; all others faint."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(240, 180)
        self.setAccessibleName(
            "Zones of both plans over each other: as they were dashed, as they are in copper"
        )
        self._data: HeightMap | None = None
        self._before, self._after = Plan(), Plan()
        self._chosen = ""
        self._image: QImage | None = None
        self._viewport = Viewport()

    def show_plans(self, data: HeightMap | None, before: Plan, after: Plan) -> None:
        """Compare two plans on a map."""
        if data is not self._data:
            self._data, self._image = data, None
        self._before, self._after, self._chosen = before, after, ""
        self.update()

    def choose(self, step_id: str) -> None:
        """Mark the zones of a step; '' for none."""
        self._chosen = step_id
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Painted anew in another size."""
        self._image = None

    def zones(self) -> tuple[dict[str, AnyZone], dict[str, AnyZone]]:
        """Zones of either plan on the part, by step."""
        return _zones(self._before), _zones(self._after)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Map, what stays, what was, what is, and what either looks like."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("stage"))
        if self._data is None:
            painter.setPen(theme.colour("stage_ink"))
            words = "The plan has no reference scan to draw zones on."
            box = self.rect().adjusted(12, 0, -12, 0)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)
            painter.end()
            return
        self._draw_map(painter, self._data)
        before, after = self.zones()
        same = {i for i in before if before[i] == after.get(i)}
        for step_id in sorted(same, key=lambda i: i == self._chosen):
            strong = step_id == self._chosen
            pen = QPen(theme.colour("stage_ink", 255 if strong else 90), 1.6 if strong else 1.0)
            draw_zone(painter, self._viewport, before[step_id], pen)
        was = QPen(theme.colour("stage_ink"), 1.6)
        was.setDashPattern([4, 3])
        now = QPen(theme.colour("copper").lighter(130), 2.0)
        for zones, pen in ((before, was), (after, now)):
            for step_id, zone in zones.items():
                if step_id not in same:
                    wide = QPen(pen)
                    wide.setWidthF(pen.widthF() + (1.6 if step_id == self._chosen else 0.0))
                    draw_zone(painter, self._viewport, zone, wide)
        self._draw_key(painter, was, now)
        painter.end()

    def _draw_map(self, painter: QPainter, data: HeightMap) -> None:
        if self._image is None:
            fitted = Viewport().resized(self.width(), self.height()).fitted(data.extent, (EDGE,) * 4)
            self._viewport = fitted
            left, top = fitted.to_part(0, 0)
            known = data.z[~np.isnan(data.z)]
            low, high = np.percentile(known, [TAIL, 100 - TAIL]) if known.size else (0.0, 1.0)
            view = View(left, top, fitted.scale, self.width(), self.height())
            self._image = image(picture(data, view, height_palette(), float(low), float(high) + 1e-3))
        painter.drawImage(0, 0, self._image)

    def _draw_key(self, painter: QPainter, was: QPen, now: QPen) -> None:
        painter.setFont(theme.font(12))
        box = QRectF(8, self.height() - 30, 170, 22)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("stage", 220))
        painter.drawRoundedRect(box, 4, 4)
        x = box.left() + 8
        for pen, word in ((was, "before"), (now, "after")):
            painter.setPen(pen)
            painter.drawLine(QPointF(x, box.center().y()), QPointF(x + 22, box.center().y()))
            painter.setPen(theme.colour("stage_ink"))
            painter.drawText(QPointF(x + 28, box.center().y() + 4), word)
            x += 84


def _zones(plan: Plan) -> dict[str, AnyZone]:
    """Zones on the part, not on a section, by step."""
    return {
        step.id: step.zone
        for step in plan.steps
        if step.zone is not None and not kind_named(step.kind).section_input
    }
