"""Marks in the section: planes, the data used, fits, and the dimension with its value."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPen, QPolygonF

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.elements import Plane, Point
from hemtra.core.maps.heightmap import Profile
from hemtra.core.marks import Dimension, Mark, Polyline
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.plan.section.section_across import draw_across
from hemtra.desktop.plan.section.section_axes import Axes, along, draw_profile, project
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_arrow, draw_balloon, shortened

LABEL_ROOM = 130
"""Width of a dimension's text at its right, pixels."""


class SectionMarks:
    """Marks of the bench's view."""

    def __init__(self, bench: WorkspaceModel) -> None:
        self._bench = bench
        self.planes: list[tuple[str, QPointF, QPointF]] = []
        """Name and ends of the planes that are drawn."""
        self._value_box: QRectF | None = None
        """Position of the value's text."""

    def evaluated(self) -> CharacteristicResult | None:
        """The selected characteristic, on the profile shown."""
        shown = self._bench.shown
        result = None if shown is None else (shown.here or shown.result)
        found = result.characteristics if result is not None else ()
        return next((units.result(c) for c in found if c.balloon == self._bench.balloon), None)

    def marks(self) -> tuple[Mark, ...]:
        """The marks of the selected characteristic itself, or of the section across its path."""
        shown, subject = self._bench.shown, self._bench.subject
        if shown is not None and shown.across_path:
            return shown.across
        if shown is None or subject is None or subject not in shown.evidence:
            return ()
        return shown.evidence[subject].marks

    def dimensions(self) -> list[Dimension]:
        """Dimensions among the marks."""
        return [m for m in self.marks() if isinstance(m, Dimension)]

    def draw_planes(self, painter: QPainter, axes: Axes, line: tuple[Place, Place]) -> None:
        """The planes of the lineage that the line crosses, with their names."""
        shown = self._bench.shown
        assert shown is not None
        steps = [s for column in self._bench.lineage() for s in column]
        ends = np.array([0.0, axes.length])
        xs, ys = along(line, ends, axes.length)
        places = along(line, np.linspace(0.0, axes.length, 200), axes.length)
        self.planes = []
        for step in steps:
            plane = shown.result.steps[step.id].value if step.id in shown.result.steps else None
            zone = self._bench.placed(step)
            if not isinstance(plane, Plane) or zone is None or not zone.contains(*places).any():
                continue
            z = plane.height_at(xs, ys)
            pen = QPen(theme.colour("anchor"), 1.2)
            pen.setDashPattern([6, 4])
            painter.setPen(pen)
            painter.drawLine(axes.at(0.0, float(z[0])), axes.at(axes.length, float(z[1])))
            self.planes.append((step.name, axes.at(0.0, float(z[0])), axes.at(axes.length, float(z[1]))))

    def draw_names(self, painter: QPainter, axes: Axes) -> None:
        """The names of the planes, at either end of their lines, where nothing else is written."""
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("anchor"))
        metrics = painter.fontMetrics()
        taken = [] if self._value_box is None else [self._value_box]
        for name, start, end in self.planes:
            name = shortened(name, int(0.6 * axes.frame.width()))
            wide = metrics.horizontalAdvance(name) + 2.0
            ways = [
                QRectF(x, min(max(at.y() + down, axes.frame.top()), axes.frame.bottom() - 16), wide, 16)
                for down in (2.0, -18.0)
                for x, at in ((axes.frame.right() - 4 - wide, end), (axes.frame.left() + 4, start))
            ]
            ways += [way.translated(-wide - 12, 0) for way in ways[::2]]
            box = next((way for way in ways if not any(way.intersects(other) for other in taken)), None)
            if box is not None:
                taken.append(box)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)

    def draw_used(self, painter: QPainter, axes: Axes, profile: Profile, line: tuple[Place, Place]) -> None:
        """The stretch of the profile inside each spot's zone and between the heights it used."""
        shown = self._bench.shown
        assert shown is not None
        x, y = along(line, profile.x, axes.length)
        for step in (s for column in self._bench.lineage() for s in column):
            found = shown.result.steps.get(step.id)
            zone = self._bench.placed(step)
            if zone is None or found is None:
                continue
            if isinstance(found.value, Point):
                inside = zone.contains(x, y)
                low, high = (
                    getattr(found.value, "low", found.value.z),
                    getattr(found.value, "high", found.value.z),
                )
                near = inside & (profile.z >= low) & (profile.z <= high)
                pen = QPen(theme.colour("copper"), 3.2)
                pen.setCapStyle(Qt.PenCapStyle.RoundCap)
                draw_profile(painter, axes, profile.x, np.where(near, profile.z, np.nan), pen)

    def draw_fits(self, painter: QPainter, axes: Axes, line: tuple[Place, Place]) -> None:
        """Fits on the section by the steps of the lineage that work on it."""
        shown = self._bench.shown
        if shown is None or self._bench.line is not None:
            return
        painter.setPen(QPen(theme.colour("copper"), 2.0))
        for step in (s for column in self._bench.lineage() for s in column):
            if kind_named(step.kind).section_input not in step.inputs or step.id not in shown.evidence:
                continue
            for mark in shown.evidence[step.id].marks:
                if isinstance(mark, Polyline) and _lies_on(line, mark.points, self._bench.section_width):
                    points = [Point(*map(float, p)) for p in mark.points]
                    ends = [axes.at(project(line, p, axes.length), p.z) for p in points]
                    painter.drawPolyline(QPolygonF(ends))

    def draw_dimension(self, painter: QPainter, axes: Axes, line: tuple[Place, Place]) -> None:
        """The dimension of the selected characteristic, or its value alone."""
        self._value_box = None
        evaluated, shown = self.evaluated(), self._bench.shown
        if shown is not None and shown.across_path:
            draw_across(painter, axes, line, shown)
            return
        if evaluated is None:
            return
        verdict = theme.verdict_colour(evaluated.verdict)
        dimensions = self.dimensions()
        if not dimensions:
            self._draw_value(painter, axes, evaluated, axes.frame.right(), axes.frame.top() + 14)
            return
        painter.setPen(QPen(verdict, 1.0))
        for mark in self.marks():
            if isinstance(mark, Polyline) and mark.role == "dimension" and not mark.closed:
                ends = [Point(*map(float, p)) for p in mark.points]
                a, b = (axes.at(project(line, p, axes.length), p.z) for p in ends)
                painter.drawLine(a, b)
        for number, dimension in enumerate(dimensions):
            s0, s1 = (project(line, point, axes.length) for point in (dimension.start, dimension.end))
            foot, head = axes.at(s0, dimension.start.z), axes.at(s1, dimension.end.z)
            if abs(s1 - s0) > abs(dimension.end.z - dimension.start.z):
                left, middle = self._draw_lying(painter, axes, foot, head, evaluated)
                if number == 0:
                    self._draw_value(painter, axes, evaluated, left, middle)
                continue
            # beside the feature, where the line does not cross the curve; on the side that has room
            room = axes.frame.right() - head.x() > LABEL_ROOM + 60
            x = head.x() + (44 if room else -44)
            painter.setPen(QPen(verdict, 1.0))
            for end in (foot, head):
                painter.drawLine(QPointF(end.x(), end.y()), QPointF(x + (5 if room else -5), end.y()))
            painter.setPen(QPen(verdict, 1.5))
            a, b = QPointF(x, foot.y()), QPointF(x, head.y())
            painter.drawLine(a, b)
            draw_arrow(painter, b, a)
            draw_arrow(painter, a, b)
            left = x + 14 if room else x - 10 - self._value_width(evaluated)
            middle = (foot.y() + head.y()) / 2
            top, bottom = axes.frame.top() + 4, axes.frame.bottom() - 22
            if number == 0:
                # said once: of several dimensions it is the value of all of them together
                self._draw_value(painter, axes, evaluated, left, min(max(middle, top), bottom))

    def _draw_lying(
        self, painter: QPainter, axes: Axes, start: QPointF, end: QPointF, evaluated: CharacteristicResult
    ) -> tuple[float, float]:
        """A dimension along the section, above the curve, with its extension lines; where its value belongs."""
        verdict = theme.verdict_colour(evaluated.verdict)
        y = axes.frame.top() + 10
        painter.setPen(QPen(verdict, 1.0))
        for point in (start, end):
            painter.drawLine(point, QPointF(point.x(), y - 5))
        a, b = QPointF(start.x(), y), QPointF(end.x(), y)
        painter.setPen(QPen(verdict, 1.5))
        painter.drawLine(a, b)
        draw_arrow(painter, b, a)
        draw_arrow(painter, a, b)
        return (a.x() + b.x() - self._value_width(evaluated)) / 2, y

    def _tolerance(self) -> str:
        """Value of the selected characteristic, in the unit shown."""
        row, shown = self._bench.row, self._bench.shown
        if row is None:
            return ""
        of = (c.unit for c in shown.result.characteristics if c.balloon == row.balloon) if shown else iter(())
        return units.tolerance(row, next(of, "mm"))

    def _value_width(self, evaluated: CharacteristicResult) -> float:
        """Width of balloon, value and tolerance, pixels."""
        value = QFontMetrics(theme.font(15, bold=True)).horizontalAdvance(_value_text(evaluated))
        tolerance = QFontMetrics(theme.font(12)).horizontalAdvance(self._tolerance())
        return 32.0 + max(value, tolerance)

    def _draw_value(
        self, painter: QPainter, axes: Axes, evaluated: CharacteristicResult, left: float, y: float
    ) -> None:
        """Balloon, value and tolerance from `left` on, about y, but within the frame."""
        left = max(min(left, axes.frame.right() - self._value_width(evaluated) - 4), axes.frame.left())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("paper", 235))
        self._value_box = QRectF(left, y - 16, self._value_width(evaluated) + 4, 38)
        painter.drawRoundedRect(self._value_box, 5, 5)
        draw_balloon(painter, QPointF(left + 14, y), str(evaluated.balloon), evaluated.verdict, radius=10)
        painter.setPen(theme.verdict_colour(evaluated.verdict))
        painter.setFont(theme.font(15, bold=True))
        painter.drawText(QPointF(left + 32, y + 2), _value_text(evaluated))
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(12))
        painter.drawText(QPointF(left + 32, y + 17), self._tolerance())


def _value_text(evaluated: CharacteristicResult) -> str:
    return "not measured" if evaluated.value is None else units.value(evaluated, evaluated.decimals)


def _lies_on(line: tuple[Place, Place], points: FloatArray, width: float) -> bool:
    """Whether a mark belongs to the section that is shown, and not to another one."""
    (ax, ay), (bx, by) = line
    length = math.dist(*line) or 1.0
    across = ((points[:, 0] - ax) * (by - ay) - (points[:, 1] - ay) * (bx - ax)) / length
    return bool(np.abs(across).max() <= width)
