"""The section below the stage: the cut along the section line with fit, used data and dimension drawn in it."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.elements import Plane, Point
from hemtra.core.maps.heightmap import Profile
from hemtra.core.marks import Dimension, Mark, Polyline
from hemtra.core.plan.limits import CharacteristicResult, format_value
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.plan.section.section_across import draw_across
from hemtra.desktop.plan.section.section_axes import (
    MARGIN_BOTTOM,
    MARGIN_LEFT,
    MARGIN_RIGHT,
    MARGIN_TOP,
    Axes,
    along,
    draw_axes,
    draw_profile,
    project,
)
from hemtra.desktop.plan.section.section_tools import SectionTools
from hemtra.desktop.plan.section.section_zone import SectionZone
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import draw_arrow, draw_balloon, draw_chip, draw_panel

CLOSER, CLOSEST = 1.25, 0.2
"""By how much a notch of the wheel comes closer, and the shortest stretch shown, in mm."""
VALUE_WIDTH = 130
LABEL_ROOM = 130
"""Pixels right of a dimension that its text needs."""


class SectionView(QWidget):
    """Paints the profile that the bench shows."""

    hovered = Signal(object)
    """The place on the part under the pointer, or None."""
    place_picked = Signal(float, float)
    """mm along the profile and height of a click that was asked for."""
    pick_left = Signal()
    step_clicked = Signal(str)
    zone_dragged = Signal(str, object)
    zone_dropped = Signal(str, object)

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setMouseTracking(True)
        self.setAccessibleName("Section")
        self.bench = bench
        self._cursor: float | None = None
        self._window: tuple[tuple[float, float], tuple[float, float]] | None = None
        """mm along the line and heights that are shown; None for all of it."""
        self._pulled: QPointF | None = None
        self.prompt = ""
        self.picked: list[tuple[float, float]] = []
        self.tools = SectionTools(bench, self)
        self.zone = SectionZone(bench)
        for changed in (bench.shown_changed, bench.selection_changed):
            changed.connect(self._place_tools)
        for changed in (bench.line_changed, bench.selection_changed):
            changed.connect(self._show_all)

    def pick(self, prompt: str) -> None:
        """Ask for a place on the profile: the next click answers, Escape leaves; '' asks no more."""
        self.prompt = prompt
        self.setCursor(Qt.CursorShape.CrossCursor if prompt else Qt.CursorShape.ArrowCursor)
        if prompt:
            self.setFocus()
        else:
            self.picked = []
        self.update()

    def _show_all(self) -> None:
        """Another line is another picture; the profiles of a run are looked at in the same window."""
        shown = self.bench.shown
        if shown is None or (shown.index < 0 and not shown.across_path):
            self._window = None

    def _place_tools(self) -> None:
        self.tools.move(self.width() - self.tools.width() - 10, 4)
        self.update()

    def _frame(self) -> QRectF:
        return QRectF(
            MARGIN_LEFT,
            MARGIN_TOP,
            max(10, self.width() - MARGIN_LEFT - MARGIN_RIGHT),
            max(10, self.height() - MARGIN_TOP - MARGIN_BOTTOM),
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        """Axes, profile, planes, used data and the dimension of the selected characteristic."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_panel(painter, self)
        shown = self.bench.shown
        profile = shown.profile if shown else None
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(12))
        if shown is None or profile is None or shown.line is None:
            text = "The section along the dashed line appears here once a characteristic is selected."
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text if self.bench.tray.current else "")
            painter.end()
            return
        title = painter.fontMetrics().elidedText(self._title(), Qt.TextElideMode.ElideRight, self.width() - 24)
        painter.drawText(14, 20, title)
        if not profile.valid.any():
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "There is no data along this line.")
            painter.end()
            return
        axes = self._axes()
        assert axes is not None
        draw_axes(painter, axes)
        painter.setClipRect(self._frame().adjusted(-2, -8, 2, 8))
        self._draw_planes(painter, axes, shown.line)
        draw_profile(painter, axes, profile.x, profile.z, QPen(theme.colour("ink"), 1.4))
        self._draw_used(painter, axes, profile, shown.line)
        self._draw_fits(painter, axes, shown.line)
        painter.setClipping(False)
        if self.bench.shown is not None and self.bench.shown.index >= 0:
            self.zone.draw_others(painter, axes.at)
        self.zone.draw(painter, axes.at)
        self._draw_dimension(painter, axes, shown.line)
        self._draw_cursor(painter, axes, profile)
        self._draw_prompt(painter, axes)
        painter.end()

    def _draw_prompt(self, painter: QPainter, axes: Axes) -> None:
        """What is to be clicked next, and what was."""
        if not self.prompt:
            return
        painter.setBrush(theme.colour("copper"))
        painter.setPen(QPen(theme.colour("paper"), 1.5))
        for x, z in self.picked:
            painter.drawEllipse(axes.at(x - axes.start, z), 5, 5)
        width = QFontMetrics(theme.font(13)).horizontalAdvance(self.prompt) + 40
        draw_chip(painter, QPointF((self.width() - width) / 2, 26), self.prompt)

    def _title(self) -> str:
        line = self.bench.shown.line if self.bench.shown else None
        row = self.bench.row
        where = "" if row is None else f" · {row.balloon} {row.name}"
        shown = self.bench.shown
        if shown is not None and shown.index >= 0 and line is not None:
            count = next((s.values.size for s in shown.result.series.values()), 0)
            of = f" of {count}" if count else ""
            return f"Profile {shown.index + 1}{of} at {line[0][1]:.2f} mm{where}"
        if shown is not None and shown.across_path:
            return f"Across the path at {shown.at:.1f} mm{where}"
        return f"Section{where}" if line is None else f"Section{where} · {math.dist(*line):.1f} mm long"

    def _judged(self) -> CharacteristicResult | None:
        shown = self.bench.shown
        result = None if shown is None else (shown.here or shown.result)
        found = result.characteristics if result is not None else ()
        return next((c for c in found if c.balloon == self.bench.balloon), None)

    def _marks(self) -> tuple[Mark, ...]:
        """The marks of the selected characteristic itself, or of the section across its path."""
        shown, row = self.bench.shown, self.bench.row
        if shown is not None and shown.across_path:
            return shown.across
        if shown is None or row is None or row.step is None or row.step not in shown.evidence:
            return ()
        return shown.evidence[row.step].marks

    def _dimensions(self) -> list[Dimension]:
        return [m for m in self._marks() if isinstance(m, Dimension)]

    def _shown_heights(self, profile: Profile) -> tuple[float, float]:
        """Heights the picture must reach: the profile without its extreme spikes, and the dimension."""
        low, high = (float(p) for p in np.nanpercentile(profile.z, [0.5, 99.5]))
        for dimension in self._dimensions():
            low, high = (
                min(low, dimension.start.z, dimension.end.z),
                max(high, dimension.start.z, dimension.end.z),
            )
        low, high = self.zone.spanned(low, high)
        room = max(0.12 * (high - low), 0.05)
        return low - room, high + room

    def _draw_planes(self, painter: QPainter, axes: Axes, line: tuple[Place, Place]) -> None:
        shown = self.bench.shown
        assert shown is not None
        steps = [s for column in self.bench.lineage() for s in column]
        ends = np.array([0.0, axes.length])
        xs, ys = along(line, ends, axes.length)
        places = along(line, np.linspace(0.0, axes.length, 200), axes.length)
        label_right = 4.0
        for step in steps:
            plane = shown.result.steps[step.id].value if step.id in shown.result.steps else None
            zone = self.bench.placed(step)
            if not isinstance(plane, Plane) or zone is None or not zone.contains(*places).any():
                continue
            z = plane.height_at(xs, ys)
            pen = QPen(theme.colour("anchor"), 1.2)
            pen.setDashPattern([6, 4])
            painter.setPen(pen)
            painter.drawLine(axes.at(0.0, float(z[0])), axes.at(axes.length, float(z[1])))
            painter.setFont(theme.font(11))
            at = axes.at(axes.length, float(z[1])) - QPointF(label_right, 0)
            painter.drawText(QRectF(at.x() - 300, at.y() + 2, 300, 16), Qt.AlignmentFlag.AlignRight, step.name)
            label_right += painter.fontMetrics().horizontalAdvance(step.name) + 14

    def _draw_used(self, painter: QPainter, axes: Axes, profile: Profile, line: tuple[Place, Place]) -> None:
        """The stretch of the profile inside each spot's zone and between the heights it used."""
        shown = self.bench.shown
        assert shown is not None
        x, y = along(line, profile.x, axes.length)
        for step in (s for column in self.bench.lineage() for s in column):
            found = shown.result.steps.get(step.id)
            zone = self.bench.placed(step)
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

    def _draw_fits(self, painter: QPainter, axes: Axes, line: tuple[Place, Place]) -> None:
        """What the steps of the lineage that look on the section have fitted to it."""
        shown = self.bench.shown
        if shown is None or self.bench.line is not None:
            return
        painter.setPen(QPen(theme.colour("copper"), 2.0))
        for step in (s for column in self.bench.lineage() for s in column):
            if kind_named(step.kind).section_input not in step.inputs or step.id not in shown.evidence:
                continue
            for mark in shown.evidence[step.id].marks:
                if isinstance(mark, Polyline) and _lies_on(line, mark.points, self.bench.section_width):
                    points = [Point(*map(float, p)) for p in mark.points]
                    ends = [axes.at(project(line, p, axes.length), p.z) for p in points]
                    painter.drawPolyline(QPolygonF(ends))

    def _draw_dimension(self, painter: QPainter, axes: Axes, line: tuple[Place, Place]) -> None:
        judged, shown = self._judged(), self.bench.shown
        if shown is not None and shown.across_path:
            draw_across(painter, axes, line, shown)
            return
        if judged is None:
            return
        verdict = theme.verdict_colour(judged.verdict)
        dimensions = self._dimensions()
        if not dimensions:
            self._draw_value(painter, judged, axes.frame.right() - VALUE_WIDTH, axes.frame.top() + 14)
            return
        painter.setPen(QPen(verdict, 1.0))
        for mark in self._marks():
            if isinstance(mark, Polyline) and mark.role == "dimension" and not mark.closed:
                ends = [Point(*map(float, p)) for p in mark.points]
                a, b = (axes.at(project(line, p, axes.length), p.z) for p in ends)
                painter.drawLine(a, b)
        for dimension in dimensions:
            s0, s1 = (project(line, point, axes.length) for point in (dimension.start, dimension.end))
            foot, head = axes.at(s0, dimension.start.z), axes.at(s1, dimension.end.z)
            if abs(s1 - s0) > abs(dimension.end.z - dimension.start.z):
                self._draw_lying(painter, axes, foot, head, judged)
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
            left = x + 14 if room else x - 10 - self._value_width(judged)
            middle = (foot.y() + head.y()) / 2
            top, bottom = axes.frame.top() + 4, axes.frame.bottom() - 22
            self._draw_value(painter, judged, left, min(max(middle, top), bottom))

    def _draw_lying(
        self, painter: QPainter, axes: Axes, start: QPointF, end: QPointF, judged: CharacteristicResult
    ) -> None:
        """A dimension along the section, above the curve, with its extension lines."""
        verdict = theme.verdict_colour(judged.verdict)
        y = axes.frame.top() + 10
        painter.setPen(QPen(verdict, 1.0))
        for point in (start, end):
            painter.drawLine(point, QPointF(point.x(), y - 5))
        a, b = QPointF(start.x(), y), QPointF(end.x(), y)
        painter.setPen(QPen(verdict, 1.5))
        painter.drawLine(a, b)
        draw_arrow(painter, b, a)
        draw_arrow(painter, a, b)
        self._draw_value(painter, judged, (a.x() + b.x() - self._value_width(judged)) / 2, y)

    def _value_width(self, judged: CharacteristicResult) -> float:
        """Pixels that balloon, value and tolerance take."""
        row = self.bench.row
        value = QFontMetrics(theme.font(15, bold=True)).horizontalAdvance(_told(judged))
        tolerance = QFontMetrics(theme.font(12)).horizontalAdvance(row.tolerance if row else "")
        return 32.0 + max(value, tolerance)

    def _draw_value(self, painter: QPainter, judged: CharacteristicResult, left: float, y: float) -> None:
        """Balloon, value and tolerance from `left` on, about y."""
        row = self.bench.row
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("paper", 235))
        painter.drawRoundedRect(QRectF(left, y - 16, self._value_width(judged) + 4, 38), 5, 5)
        draw_balloon(painter, QPointF(left + 14, y), str(judged.balloon), judged.verdict, radius=10)
        painter.setPen(theme.verdict_colour(judged.verdict))
        painter.setFont(theme.font(15, bold=True))
        painter.drawText(QPointF(left + 32, y + 2), _told(judged))
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(12))
        if row is not None:
            painter.drawText(QPointF(left + 32, y + 17), row.tolerance)

    def _draw_cursor(self, painter: QPainter, axes: Axes, profile: Profile) -> None:
        if self._cursor is None or not 0 <= self._cursor <= axes.length:
            return
        k = int(np.argmin(np.abs(profile.x - self._cursor)))
        x = axes.at(self._cursor, 0).x()
        painter.setPen(QPen(theme.colour("muted"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, axes.frame.top()), QPointF(x, axes.frame.bottom()))
        z = profile.z[k]
        text = f"{profile.x[k] + axes.start:.2f} mm   z {'no data' if np.isnan(z) else f'{z:.3f} mm'}"
        width = painter.fontMetrics().horizontalAdvance(text) + 30
        draw_chip(painter, QPointF(min(x + 6, self.width() - width), axes.frame.top() - 6), text)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The fields stand at the upper right."""
        self._place_tools()

    def _axes(self) -> Axes | None:
        profile = self.bench.shown.profile if self.bench.shown else None
        if profile is None or not profile.valid.any():
            return None
        shown = self.bench.shown
        stretch, heights = self._window or (None, self._shown_heights(profile))
        axes = Axes(self._frame(), profile, heights, stretch)
        if shown is not None and shown.index >= 0 and shown.line is not None:
            axes.start = shown.line[0][0]
        elif shown is not None and shown.across_path:
            # left and right of the path
            axes.start = -axes.length / 2
        return axes

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of the zone on the section."""
        axes = self._axes()
        if axes is None or event.button() != Qt.MouseButton.LeftButton:
            return
        s, z = axes.place(event.position())
        if self.prompt:
            self.place_picked.emit(s + axes.start, z)
            return
        if not self.zone.take(event.position(), axes.at, (s, z)):
            step_id = self.zone.under((s, z))
            if step_id is not None:
                self.step_clicked.emit(step_id)
            elif self._window is not None:
                self._pulled = event.position()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Show all of it again."""
        self._window = None
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Come nearer, or go farther away, about the pointer."""
        axes, turned = self._axes(), event.angleDelta().y()
        if axes is None or not turned:
            return
        factor = CLOSER ** (-turned / 120.0)
        s, z = axes.place(event.position())
        first, last = s + (axes.first - s) * factor, s + (axes.last - s) * factor
        low, high = z + (axes.low - z) * factor, z + (axes.high - z) * factor
        if last - first >= axes.length:
            self._window = None
        elif last - first > CLOSEST:
            self._window = (first, last), (low, high)
        self.update()

    def _pull(self, to: QPointF, axes: Axes) -> None:
        """Move what is shown with the pointer."""
        assert self._pulled is not None
        (s0, z0), (s1, z1) = axes.place(self._pulled), axes.place(to)
        self._pulled = to
        self._window = (axes.first - s1 + s0, axes.last - s1 + s0), (axes.low - z1 + z0, axes.high - z1 + z0)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves what was asked for."""
        if event.key() == Qt.Key.Key_Escape and self.prompt:
            self.pick_left.emit()
        else:
            super().keyPressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """A drag of the zone becomes an edit."""
        self._pulled = None
        axes, step = self._axes(), self.zone.step
        zone = None if axes is None else self.zone.moved(axes.place(event.position()))
        self.zone.let_go()
        if zone is not None and step is not None:
            self.zone_dropped.emit(step.id, zone)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Link the place under the pointer to the stage, or drag the zone."""
        shown = self.bench.shown
        if shown is None or shown.line is None:
            return
        axes, step = self._axes(), self.zone.step
        if axes is not None and self._pulled is not None:
            self._pull(event.position(), axes)
            return
        if axes is not None and step is not None and self.zone.held:
            zone = self.zone.moved(axes.place(event.position()))
            if zone is not None:
                self.zone_dragged.emit(step.id, zone)
        length = math.dist(*shown.line)
        self._cursor = 0.0 if axes is None else axes.place(event.position())[0]
        share = min(max(self._cursor / length, 0.0), 1.0)
        (ax, ay), (bx, by) = shown.line
        self.hovered.emit((ax + share * (bx - ax), ay + share * (by - ay)))
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        """Unlink."""
        self._cursor = None
        self.hovered.emit(None)
        self.update()


def _told(judged: CharacteristicResult) -> str:
    return "not measured" if judged.value is None else format_value(judged, judged.decimals)


def _lies_on(line: tuple[Place, Place], points: FloatArray, width: float) -> bool:
    """Whether a mark belongs to the section that is shown, and not to another one."""
    (ax, ay), (bx, by) = line
    length = math.dist(*line) or 1.0
    across = ((points[:, 0] - ax) * (by - ay) - (points[:, 1] - ay) * (bx - ax)) / length
    return bool(np.abs(across).max() <= width)
