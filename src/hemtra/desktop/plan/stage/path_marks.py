"""Paths on the stage: sections by their state, the start, distances along it, and the section shown."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QLineF, QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.evaluation.results import Result
from hemtra.core.features.along_path import Along
from hemtra.core.features.path import Path
from hemtra.core.paths.curve import PathCurve
from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.series import beyond
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.curves import polygon
from hemtra.desktop.widgets.labels import Labels, around

TICKS = (0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500)
"""Lengths between distances that are written, in the unit that is shown."""
APART = 64.0
"""Minimum distance between them, pixels."""
SIGN = 3.2
"""Half size of the signs on sections that are out of limits, missing or not measured, pixels."""
SIGNS_APART = 13.0


def draw_paths(painter: QPainter, viewport: Viewport, bench: WorkspaceModel, labels: Labels) -> None:
    """Path of the selected characteristic."""
    shown, row = bench.shown, bench.row
    if shown is None:
        return
    curves: list[PathCurve] = []
    for step in (s for column in bench.lineage() for s in column):
        value = shown.result.steps[step.id].value if step.id in shown.result.steps else None
        if isinstance(value, Along):
            _draw_sections(painter, viewport, value, _outside(value, shown.result, row))
        elif isinstance(value, Path):
            curves.append(value.curve)
    for curve in curves:
        _draw_curve(painter, viewport, curve)
    if shown.along is not None and shown.at is not None:
        x, y = shown.along.path.curve.at(np.array([shown.at]))[0]
        at = QPointF(*viewport.to_screen(float(x), float(y)))
        painter.setPen(QPen(theme.colour("copper").lighter(140), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 7, 7)
        labels.draw(painter, units.text(f"{shown.at:.1f} mm"), around(at, 44, 16), pixels=12, always=True)
    for curve in curves:
        _draw_distances(painter, viewport, curve, labels)


def _outside(along: Along, result: Result, row: Characteristic | None) -> BoolArray:
    """(n,) the sections that are out of the row's limits."""
    out = np.zeros(along.at.size, np.bool_)
    series = None if row is None else result.series.get(row.balloon)
    if row is not None and series is not None and series.by == "section":
        far = beyond(np.nan_to_num(series.values), row.lower, row.upper) > 0.0
        out[np.searchsorted(along.at, series.at[far & series.measured] - 1e-6)] = True
    return out


def _draw_sections(painter: QPainter, viewport: Viewport, along: Along, out: BoolArray) -> None:
    """Thin on PASS, thick with a cross on FAIL, dashed where nothing is there, dotted without data."""
    curve, half = along.path.curve, along.path.across / 2
    places, ways = curve.at(along.at), curve.directions(along.at)
    right = np.column_stack([ways[:, 1], -ways[:, 0]])
    unseen = ~along.present & ~along.absent
    unseen |= along.present & (along.state != 0)
    fine = ~(out | along.absent | unseen)
    looks = (
        (fine, "passed", 1.0, Qt.PenStyle.SolidLine, 0.45),
        (unseen, "unmeasured", 1.6, Qt.PenStyle.DotLine, 1.0),
        (along.absent, "failed", 1.6, Qt.PenStyle.DashLine, 1.0),
        (out, "failed", 2.0, Qt.PenStyle.SolidLine, 1.0),
    )
    for which, colour, width, style, share in looks:
        lines = _strokes(viewport, places[which], right[which] * half * share)
        if style is Qt.PenStyle.SolidLine:
            painter.setPen(QPen(QColor(0, 0, 0, 90), width + 1.6))
            painter.drawLines(lines)
        painter.setPen(QPen(theme.colour(colour).lighter(150), width, style))
        painter.drawLines(lines)
    _draw_signs(painter, viewport, places, (out, along.absent, unseen))


def _draw_signs(
    painter: QPainter, viewport: Viewport, places: FloatArray, which: tuple[BoolArray, BoolArray, BoolArray]
) -> None:
    """A cross, an empty ring, or a short bar on sections that are not well, so that colour is not all."""
    out, absent, unseen = which
    last = QPointF(-1e9, -1e9)
    for k in np.flatnonzero(out | absent | unseen):
        at = QPointF(*viewport.to_screen(float(places[k, 0]), float(places[k, 1])))
        if math.hypot(at.x() - last.x(), at.y() - last.y()) < SIGNS_APART:
            continue
        last = at
        painter.setPen(QPen(theme.colour("paper"), 1.8))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if out[k]:
            painter.drawLine(at + QPointF(-SIGN, -SIGN), at + QPointF(SIGN, SIGN))
            painter.drawLine(at + QPointF(-SIGN, SIGN), at + QPointF(SIGN, -SIGN))
        elif absent[k]:
            painter.drawEllipse(at, SIGN + 1, SIGN + 1)
        else:
            painter.drawLine(at - QPointF(SIGN, 0), at + QPointF(SIGN, 0))


def _strokes(viewport: Viewport, places: FloatArray, reach: FloatArray) -> list[QLineF]:
    ends = np.stack([places - reach, places + reach], axis=1)
    return [QLineF(*viewport.to_screen(*a), *viewport.to_screen(*b)) for a, b in ends.tolist()]


def _draw_curve(painter: QPainter, viewport: Viewport, curve: PathCurve) -> None:
    """Its line, and an arrow at its start."""
    s = np.linspace(0.0, curve.length, int(np.clip(curve.length / viewport.scale / 6.0, 20, 800)))
    points = polygon(*viewport.to_screen(*curve.at(s).T))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for colour, width in ((QColor(0, 0, 0, 110), 3.0), (theme.colour("copper").lighter(140), 1.3)):
        painter.setPen(QPen(colour, width))
        painter.drawPolyline(points)
    (x, y), (tx, ty) = curve.at(np.zeros(1))[0].tolist(), curve.directions(np.zeros(1))[0].tolist()
    at, ahead, side = QPointF(*viewport.to_screen(x, y)), QPointF(tx, -ty), QPointF(ty, tx)
    painter.setPen(QPen(theme.colour("stage"), 1))
    painter.setBrush(theme.colour("copper").lighter(140))
    painter.drawPolygon(QPolygonF([at + ahead * 15, at - ahead * 3 + side * 6.5, at - ahead * 3 - side * 6.5]))


def _draw_distances(painter: QPainter, viewport: Viewport, curve: PathCurve, labels: Labels) -> None:
    """Ticks along it, and how far it is to them."""
    mm = units.current().mm
    step = next((t for t in TICKS if t * mm / viewport.scale >= APART), TICKS[-1])
    marks = step * np.arange(1, math.ceil(curve.length / mm / step - 1 / 3))
    places, ways = curve.at(marks * mm), curve.directions(marks * mm)
    for mark, (x, y), (tx, ty) in zip(marks, places.tolist(), ways.tolist(), strict=True):
        at = QPointF(*viewport.to_screen(x, y))
        across = QPointF(ty, tx) * 6.0
        painter.setPen(QPen(theme.colour("copper").lighter(140), 1.6))
        painter.drawLine(at - across, at + across)
        labels.draw(painter, units.field(mark), (at + across * 2.8, at - across * 2.8))
