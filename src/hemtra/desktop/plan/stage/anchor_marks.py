"""Anchors on the stage: the axes each gives, and the zones that move with it."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from hemtra.core.edits.anchors import followers
from hemtra.core.plan.document import Step
from hemtra.core.plan.follow import AXES, pose_of
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.labels import Labels, around
from hemtra.desktop.widgets.symbols import draw_arrow

SPREAD = 16.0
"""Length of the stroke that shows the rotation of a tray part, pixels."""
ARM = 34.0
"""Length of an axis, pixels."""


def draw_anchors(
    painter: QPainter, viewport: Viewport, bench: WorkspaceModel, steps: list[Step], labels: Labels
) -> None:
    """The anchors among the steps of a lineage, and a tether to each zone that follows the selected one."""
    shown = bench.shown
    if shown is None:
        return
    shown_ids = {step.id for step in steps}
    for step in steps:
        moving = followers(shown.plan, step.id)
        found = shown.result.steps.get(step.id)
        if not moving or found is None or found.outcome is None:
            continue
        pose = pose_of(found.value)
        at = QPointF(*viewport.to_screen(pose.x, pose.y))
        for follower in moving:
            zone = bench.placed(follower)
            if zone is None or (follower.id not in shown_ids and step.id != bench.selected_step):
                continue
            pen = QPen(theme.colour("anchor").lighter(150), 1.0)
            pen.setDashPattern([1.5, 3.5])
            painter.setPen(pen)
            painter.drawLine(at, QPointF(*viewport.to_screen(zone.x, zone.y)))
        axes = {axis for f in moving for axis in AXES if getattr(f.follow, axis) == step.id}
        _draw_axes(painter, at, pose.rotation if axes & {"x", "y", "rotation"} else 0.0, axes, labels)


def draw_spread(painter: QPainter, viewport: Viewport, bench: WorkspaceModel) -> None:
    """Poses of the selected anchor on each part of the tray: a dot with its direction."""
    shown, step_id = bench.shown, bench.selected_step
    if shown is None or step_id is None or not followers(shown.plan, step_id):
        return
    for part in bench.tray.parts:
        found = part.result.steps.get(step_id) if part.result is not None else None
        if found is None or found.outcome is None:
            continue
        pose = pose_of(found.value)
        at = QPointF(*viewport.to_screen(pose.x, pose.y))
        turn = math.radians(pose.rotation)
        stale = 90 if part.stale else 190
        painter.setPen(QPen(theme.colour("stage_ink", stale), 1.2))
        painter.drawLine(at, at + QPointF(SPREAD * math.cos(turn), -SPREAD * math.sin(turn)))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("copper" if part is bench.tray.current else "stage_ink", stale))
        painter.drawEllipse(at, 2.6, 2.6)


def _draw_axes(painter: QPainter, at: QPointF, rotation: float, axes: set[str], labels: Labels) -> None:
    """A tripod: an arrow for x and for y, an arc for rotation, a ring for height and tilt."""
    tint = theme.colour("anchor").lighter(165)
    turn = math.radians(rotation)
    for axis, angle in (("x", turn), ("y", turn + math.pi / 2)):
        if axis not in axes:
            continue
        end = at + QPointF(ARM * math.cos(angle), -ARM * math.sin(angle))
        for pen in (QPen(QColor(0, 0, 0, 130), 4.0), QPen(tint, 1.8)):
            painter.setPen(pen)
            painter.drawLine(at, end)
        draw_arrow(painter, at, end)
        label = at + QPointF((ARM + 11) * math.cos(angle), -(ARM + 11) * math.sin(angle))
        labels.draw(painter, axis, (label,), ink=tint)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(tint, 1.6))
    if "rotation" in axes:
        radius = ARM * 0.55
        start = round((rotation + 12) * 16)
        painter.drawArc(
            round(at.x() - radius), round(at.y() - radius), round(2 * radius), round(2 * radius), start, 66 * 16
        )
    if axes & {"z", "tilt"}:
        painter.drawEllipse(at, 9.0, 9.0)
        words = " ".join(sign for sign in ("z", "tilt") if sign in axes)
        labels.draw(painter, words, around(at, 26, 18), ink=tint)
        painter.setPen(QPen(tint, 1.6))
    painter.setBrush(tint)
    painter.drawEllipse(at, 3.2, 3.2)
