"""The x/z zone of a step on a section: drawn, and dragged by its handles."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from hemtra.core.features.section import Cut
from hemtra.core.plan.document import Step
from hemtra.core.plan.registry import kind_named
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.zone_drag import GRAB, Handle, dragged
from hemtra.desktop.widgets import theme

ToPixel = Callable[[float, float], QPointF]
"""From mm along the section and height to a pixel."""


class SectionZone:
    """The zone of the selected step, if that looks on the section which is shown."""

    def __init__(self, bench: WorkspaceModel) -> None:
        self._bench = bench
        self._held: tuple[Handle, tuple[float, float], AnyZone] | None = None

    @property
    def step(self) -> Step | None:
        """The selected step, where it has a zone on the section."""
        step_id = self._bench.selected_step
        step = None if step_id is None else self._bench.document.shown.step(step_id)
        if step is None or step.zone is None or not kind_named(step.kind).section_input:
            return None
        placed = self._bench.on_section(step) if self._cut(step) is not None else None
        return None if placed is None else step.model_copy(update={"zone": placed})

    def others(self) -> list[Step]:
        """The other steps that look on the section which is shown, their zones as they lie there."""
        chosen = self._bench.selected_step
        found = []
        for step in self._bench.document.shown.steps:
            if step.id == chosen or step.zone is None or not kind_named(step.kind).section_input:
                continue
            placed = self._bench.on_section(step) if self._cut(step) is not None else None
            if placed is not None:
                found.append(step.model_copy(update={"zone": placed}))
        return found

    def under(self, place: tuple[float, float]) -> str | None:
        """The step with the smallest zone at (mm along the section, height)."""
        hit = []
        for step in self.others():
            cut = self._cut(step)
            if cut is not None and step.zone is not None:
                x, z = self._inward(cut, place)
                if step.zone.contains(np.array(x), np.array(z)):
                    hit.append((step.zone.area, step.id))
        return min(hit)[1] if hit else None

    def _cut(self, step: Step) -> Cut | None:
        shown = self._bench.shown
        if shown is None or self._bench.line is not None:
            return None
        for source in step.inputs.get(kind_named(step.kind).section_input, ()):
            found = shown.result.steps.get(source)
            if found is not None and isinstance(found.value, Cut):
                return found.value
        return None

    def _pixel(self, cut: Cut, x: float, z: float, at: ToPixel) -> QPointF:
        along, height = cut.seen_at(x, z)
        return at(along - _begins(cut), height)

    def spanned(self, low: float, high: float) -> tuple[float, float]:
        """Heights that a picture from low to high must show so that the zone is on it."""
        step = self.step
        cut = None if step is None else self._cut(step)
        if step is None or cut is None or step.zone is None:
            return low, high
        heights = [cut.place(float(x), float(z)).z for x, z in step.zone.corners()]
        return min(low, *heights), max(high, *heights)

    def draw_others(self, painter: QPainter, at: ToPixel) -> None:
        """The rectangles of the other steps, thin."""
        painter.setBrush(Qt.BrushStyle.NoBrush)
        pen = QPen(theme.colour("muted", 130), 1.0)
        pen.setDashPattern([3, 3])
        painter.setPen(pen)
        for step in self.others():
            cut = self._cut(step)
            if cut is not None and step.zone is not None:
                corners = [self._pixel(cut, float(x), float(z), at) for x, z in step.zone.corners()]
                painter.drawPolygon(QPolygonF(corners))

    def draw(self, painter: QPainter, at: ToPixel) -> None:
        """The rectangle and its handles."""
        step = self.step
        cut = None if step is None else self._cut(step)
        if step is None or cut is None or step.zone is None:
            return
        corners = [self._pixel(cut, float(x), float(z), at) for x, z in step.zone.corners()]
        painter.setBrush(theme.colour("copper", 24))
        painter.setPen(QPen(theme.colour("copper"), 1.6))
        painter.drawPolygon(QPolygonF(corners))
        if self._bench.read_only:
            return
        painter.setBrush(theme.colour("paper"))
        for corner in corners:
            painter.drawRect(QRectF(corner.x() - 3.5, corner.y() - 3.5, 7, 7))

    def take(self, pixel: QPointF, at: ToPixel, place: tuple[float, float]) -> bool:
        """Take hold of the zone at a pixel, which lies at (mm along the section, height)."""
        step = self.step
        cut = None if step is None else self._cut(step)
        if step is None or cut is None or step.zone is None or self._bench.read_only:
            return False
        start = self._inward(cut, place)
        handle: Handle | None = "body" if step.zone.contains(*(np.array(v) for v in start)) else None
        for k, (x, z) in enumerate(step.zone.corners()):
            corner = self._pixel(cut, float(x), float(z), at)
            if math.hypot(corner.x() - pixel.x(), corner.y() - pixel.y()) <= GRAB:
                handle = f"corner-{k}"
        self._held = None if handle is None else (handle, start, step.zone)
        return handle is not None

    @property
    def held(self) -> bool:
        """Whether it is being dragged."""
        return self._held is not None

    def moved(self, place: tuple[float, float]) -> AnyZone | None:
        """The zone with what is held of it at (mm along the section, height)."""
        step = self.step
        cut = None if step is None else self._cut(step)
        if self._held is None or cut is None:
            return None
        handle, start, zone = self._held
        return dragged(zone, handle, start, self._inward(cut, place))

    def let_go(self) -> None:
        """It is not dragged any more."""
        self._held = None

    @staticmethod
    def _inward(cut: Cut, place: tuple[float, float]) -> tuple[float, float]:
        return cut.lies_at(place[0] + _begins(cut), place[1])


def _begins(cut: Cut) -> float:
    """Where a section begins as it is shown, seen from above: mm from its middle."""
    return float(cut.seen_at(float(cut.x[0]), 0.0)[0])


def usual_zone(cut: Cut) -> dict[str, float | str]:
    """A rectangle about the middle half of a section."""
    low, high = float(np.nanmin(cut.z)), float(np.nanmax(cut.z))
    width = float(cut.x[-1] - cut.x[0]) / 2
    height = max(1.2 * (high - low), 0.5)
    middle = float(cut.x[0] + cut.x[-1]) / 2
    return {
        "shape": "rectangle",
        "x": round(middle, 3),
        "y": round((low + high) / 2, 3),
        "width": round(max(width, 0.05), 3),
        "height": round(height, 3),
    }
