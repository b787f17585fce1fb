"""Overlay of the map: evidence, zones, balloons, and clicked places."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPixmap, QPolygonF

from hemtra.core.plan.document import Step
from hemtra.core.plan.limits import Verdict
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.models.stage_balloons import StageBalloon, stage_balloons
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.models.zone_drag import Handle, grabbed
from hemtra.desktop.plan.stage.anchor_marks import draw_anchors, draw_spread
from hemtra.desktop.plan.stage.path_marks import draw_paths
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.labels import Labels
from hemtra.desktop.widgets.layers import (
    RegionImages,
    draw_handles,
    draw_labels,
    draw_polylines,
    draw_regions,
    draw_strokes,
    draw_zone,
)
from hemtra.desktop.widgets.symbols import draw_balloon, draws_pixels

LEADERS = ((80, 1.0), (220, 1.2), (255, 1.6))
"""Opacity of 255 and width of leaders in pixels, by their weight."""


class OtherZones:
    """Zones that are not selected, as a picture: in a drag they stay as they are."""

    def __init__(self) -> None:
        self._of: tuple[Any, ...] = ()
        self._picture = QPixmap()

    def draw(self, painter: QPainter, viewport: Viewport, zones: tuple[AnyZone, ...]) -> None:
        """Draw them, dashed."""
        if not draws_pixels(painter):
            _draw_dashed(painter, viewport, zones)
        elif zones:
            density = painter.device().devicePixelRatio()
            wanted = viewport, zones, theme.current(), density
            if wanted != self._of:
                self._of = wanted
                self._picture = QPixmap(round(viewport.width * density), round(viewport.height * density))
                self._picture.setDevicePixelRatio(density)
                self._picture.fill(Qt.GlobalColor.transparent)
                mine = QPainter(self._picture)
                mine.setRenderHint(QPainter.RenderHint.Antialiasing)
                _draw_dashed(mine, viewport, zones)
                mine.end()
            painter.drawPixmap(0, 0, self._picture)


def _draw_dashed(painter: QPainter, viewport: Viewport, zones: tuple[AnyZone, ...]) -> None:
    pen = QPen(theme.colour("stage_ink", 190), 1.2)
    pen.setDashPattern([4, 3])
    for zone in zones:
        draw_zone(painter, viewport, zone, pen)


class StageMarks:
    """Paints the bench's view, and finds the balloon at a place."""

    def __init__(self, bench: WorkspaceModel) -> None:
        self._bench, self._regions, self._others = bench, RegionImages(), OtherZones()
        self.balloons: list[StageBalloon] = []

    def forget(self) -> None:
        """Update to a changed view."""
        self._regions.forget()

    def steps(self) -> list[Step]:
        """Marks of the lineage shown."""
        return [step for column in self._bench.lineage() for step in column]

    def selected_zone(self) -> AnyZone | None:
        """The zone that has handles, where it lies on this scan."""
        step = next((s for s in self.steps() if s.id == self._bench.selected_step), None)
        return None if step is None else self._bench.placed(step)

    def draw_evidence(self, painter: QPainter, viewport: Viewport) -> None:
        """Used points, zones, paths, anchors, and the handles of the selected zone."""
        bench = self._bench
        shown, selected, steps = bench.shown, bench.selected_step, self.steps()
        evidence = shown.evidence if shown else {}
        if selected in evidence:
            marks = evidence[selected].marks
            draw_regions(painter, viewport, marks, self._regions)
            draw_strokes(painter, viewport, marks)
            draw_labels(painter, viewport, marks)
        placed = (bench.placed(step) for step in steps if step.id != selected)
        self._others.draw(painter, viewport, tuple(zone for zone in placed if zone is not None))
        own = bench.subject
        if own in evidence:
            draw_polylines(painter, viewport, evidence[own].marks)
        # words keep off the balloons, which are painted last
        stage = QRectF(4, 4, viewport.width - 8, viewport.height - 8)
        labels = Labels(stage, map(_box, self.balloons))
        draw_paths(painter, viewport, bench, labels)
        draw_spread(painter, viewport, bench)
        draw_anchors(painter, viewport, bench, steps, labels)
        zone = self.selected_zone()
        if zone is not None:
            draw_zone(painter, viewport, zone, QPen(theme.colour("copper").lighter(130), 1.8))
            if not bench.read_only:
                draw_handles(painter, viewport, zone)

    def place_balloons(self, viewport: Viewport, part: TrayPart | None, taken: float) -> None:
        """Find out where they stand; taken: pixels at the right where they must not."""
        shown, plan, self.balloons = self._bench.shown, self._bench.document.shown, []
        if shown is not None and part is not None and not shown.early:
            self.balloons = stage_balloons(plan, shown, viewport, part.extent, taken)

    def draw_balloons(self, painter: QPainter) -> None:
        """Balloons with their leaders; only what fails and what is selected has a strong one."""
        chosen = self._bench.balloon
        for balloon in sorted(self.balloons, key=lambda b: _weight(b, chosen)):
            alpha, width = LEADERS[_weight(balloon, chosen)]
            painter.setPen(QPen(theme.colour("stage_ink", alpha), width))
            painter.drawLine(QPointF(*balloon.anchor), QPointF(*balloon.place))
            painter.setBrush(theme.colour("stage_ink"))
            painter.drawEllipse(QPointF(*balloon.anchor), 2.2, 2.2)
        for balloon in self.balloons:
            evaluated, at = balloon.evaluated, QPointF(*balloon.place)
            strong = evaluated.balloon == chosen
            number, radius = str(evaluated.balloon), balloon.radius
            draw_balloon(painter, at, number, evaluated.verdict, radius=radius, selected=strong)

    def grabbed(self, viewport: Viewport, pixel: Pixel) -> Handle | None:
        """Handle of the selected zone at a pixel."""
        zone = self.selected_zone()
        return None if zone is None or self._bench.read_only else grabbed(zone, viewport, pixel)

    def step_under(self, place: Place) -> str | None:
        """The smallest zone of the lineage under a place."""
        x, y = np.array(place[0]), np.array(place[1])
        placed = [(self._bench.placed(step), step.id) for step in self.steps()]
        zones = [(zone.area, step_id) for zone, step_id in placed if zone and zone.contains(x, y)]
        return min(zones)[1] if zones else None

    def balloon_under(self, pixel: Pixel) -> int | None:
        """The balloon at a pixel."""
        near = (b for b in self.balloons if math.dist(b.place, pixel) <= b.radius + 2)
        return next((b.evaluated.balloon for b in near), None)


def _box(balloon: StageBalloon) -> QRectF:
    x, y, reach = *balloon.place, balloon.radius * 1.3
    return QRectF(x - reach, y - reach, 2 * reach, 2 * reach)


def _weight(balloon: StageBalloon, chosen: int | None) -> int:
    """Strength of a leader: 0 for PASS, 1 for others, 2 for the selection."""
    if balloon.evaluated.balloon == chosen:
        return 2
    return int(balloon.evaluated.verdict is not Verdict.PASS)


def draw_picked(
    painter: QPainter, viewport: Viewport, picked: Sequence[Place], cursor: Pixel | None, *, joined: bool
) -> None:
    """The places that were clicked; joined: by a line that continues to the pointer."""
    painter.setPen(QPen(theme.colour("copper").lighter(140), 2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    clicked = [QPointF(*viewport.to_screen(*place)) for place in picked]
    if joined and clicked:
        painter.drawPolyline(QPolygonF([*clicked, *([] if cursor is None else [QPointF(*cursor)])]))
    for at in clicked:
        painter.drawLine(at - QPointF(7, 0), at + QPointF(7, 0))
        painter.drawLine(at - QPointF(0, 7), at + QPointF(0, 7))
