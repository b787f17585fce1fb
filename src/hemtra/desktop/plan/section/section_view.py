"""The section below the stage: the cut along the section line with fit, used data and dimension drawn in it."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from hemtra.core.maps.heightmap import Profile
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.section.section_axes import (
    MARGIN_BOTTOM,
    MARGIN_LEFT,
    MARGIN_RIGHT,
    MARGIN_TOP,
    Axes,
    draw_axes,
    draw_profile,
)
from hemtra.desktop.plan.section.section_marks import SectionMarks
from hemtra.desktop.plan.section.section_tools import SectionTools
from hemtra.desktop.plan.section.section_zone import SectionZone
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_chip, draw_panel

CLOSER, CLOSEST = 1.25, 0.2
"""Zoom factor per notch of the wheel, and the shortest stretch shown, mm."""
KEY_PULL = 40.0
"""Step of an arrow key, pixels."""


class SectionView(QWidget):
    """Paints the profile that the bench shows."""

    hovered = Signal(object)
    """The place on the part under the pointer, or None."""
    place_picked = Signal(float, float)
    """Position along the profile and height of a requested click, mm."""
    pick_left = Signal()
    step_clicked = Signal(str)
    zone_dragged = Signal(str, object)
    zone_dropped = Signal(str, object)

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Section; plus and minus zoom, arrows go along")
        self.bench = bench
        self._cursor: float | None = None
        self._window: tuple[tuple[float, float], tuple[float, float]] | None = None
        """Visible range along the line and of heights, mm; None for all of it."""
        self._pulled: QPointF | None = None
        self.prompt = ""
        self.picked: list[tuple[float, float]] = []
        self.pointed: list[tuple[float, float]] = []
        """Places that were clicked, and such that somebody is shown."""
        self.tools = SectionTools(bench, self)
        self.zone, self.marks = SectionZone(bench), SectionMarks(bench)
        for changed in (bench.shown_changed, bench.selection_changed):
            changed.connect(self._place_tools)
        for changed in (bench.line_changed, bench.selection_changed):
            changed.connect(self._show_all)

    def pick(self, prompt: str) -> None:
        """Prompt for a place on the profile: the next click answers, Escape leaves; '' asks no more."""
        self.prompt = prompt
        self.setCursor(Qt.CursorShape.CrossCursor if prompt else Qt.CursorShape.ArrowCursor)
        if prompt:
            self.setFocus()
        else:
            self.picked = []
        self.update()

    def point_at(self, places: Sequence[tuple[float, float]]) -> None:
        """Mark places on the profile, x and z in mm, as if they had been clicked; none marks nothing."""
        self.pointed = list(places)
        self.update()

    def _show_all(self) -> None:
        """Another line is another picture; the profiles of a sequence share one window."""
        shown = self.bench.shown
        if shown is None or (shown.index < 0 and not shown.across_path):
            self._window = None

    def _place_tools(self) -> None:
        self.tools.fit(self.width() - 20)
        self.tools.move(self.width() - self.tools.width() - 10, 4)
        self.update()

    def frame(self) -> QRectF:
        """Rectangle of the profile, pixels."""
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
            box, wrapped = self.rect().adjusted(14, 0, -14, 0), Qt.TextFlag.TextWordWrap
            flags = Qt.AlignmentFlag.AlignCenter | wrapped
            painter.drawText(box, flags, text if self.bench.tray.current else "")
            painter.end()
            return
        room = (self.tools.x() if self.tools.isVisible() else self.width()) - 28
        metrics = painter.fontMetrics()
        painter.drawText(14, 20, next((t for t in self.titles() if metrics.horizontalAdvance(t) <= room), ""))
        if not profile.valid.any():
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "There is no data along this line.")
            painter.end()
            return
        axes = self.axes()
        assert axes is not None
        draw_axes(painter, axes)
        painter.setClipRect(self.frame().adjusted(-2, -8, 2, 8))
        self.marks.draw_planes(painter, axes, shown.line)
        if shown.reference is not None:
            dim = QPen(theme.colour("edge"), 1.2)
            draw_profile(painter, axes, shown.reference.x, shown.reference.z, dim)
        draw_profile(painter, axes, profile.x, profile.z, QPen(theme.colour("ink"), 1.4))
        self.marks.draw_used(painter, axes, profile, shown.line)
        self.marks.draw_fits(painter, axes, shown.line)
        painter.setClipping(False)
        if self.bench.shown is not None and self.bench.shown.index >= 0:
            self.zone.draw_others(painter, axes.at)
        self.zone.draw(painter, axes.at)
        self.marks.draw_dimension(painter, axes, shown.line)
        self.marks.draw_names(painter, axes)
        self._draw_cursor(painter, axes, profile)
        self._draw_prompt(painter, axes)
        painter.end()

    def _draw_prompt(self, painter: QPainter, axes: Axes) -> None:
        """Prompt for the next click, and the clicks made."""
        painter.setBrush(theme.colour("copper"))
        painter.setPen(QPen(theme.colour("paper"), 1.5))
        for x, z in (*self.picked, *self.pointed):
            painter.drawEllipse(axes.at(x - axes.start, z), 5, 5)
        if not self.prompt:
            return
        width = QFontMetrics(theme.font(13)).horizontalAdvance(self.prompt) + 40
        draw_chip(painter, QPointF((self.width() - width) / 2, 26), self.prompt)

    def titles(self) -> tuple[str, ...]:
        """Title of the section and its row, from the longest wording to the shortest."""
        shown, row = self.bench.shown, self.bench.row
        line = shown.line if shown else None
        which = "" if row is None else f"{row.balloon} {row.name}"
        if shown is not None and shown.index >= 0 and line is not None:
            count = next((s.values.size for s in shown.result.series.values()), 0)
            of = f" of {count}" if count else ""
            what, where = f"Profile {shown.index + 1}{of}", f"at {line[0][1]:.2f} mm"
        elif shown is not None and shown.across_path:
            what, where = "Across the path", f"at {shown.at:.1f} mm"
        else:
            what, where = "Section", "" if line is None else f"{math.dist(*line):.1f} mm long"
        where = units.text(where)
        ways = ((what, which, where), (what, where), (where,), (what,))
        return tuple(" · ".join(part for part in way if part) for way in ways)

    def _shown_heights(self, profile: Profile) -> tuple[float, float]:
        """Heights the picture must reach: the profile without its extreme spikes, and the dimension."""
        low, high = (float(p) for p in np.nanpercentile(profile.z, [0.5, 99.5]))
        for dimension in self.marks.dimensions():
            low, high = (
                min(low, dimension.start.z, dimension.end.z),
                max(high, dimension.start.z, dimension.end.z),
            )
        low, high = self.zone.spanned(low, high)
        room = max(0.12 * (high - low), 0.05)
        return low - room, high + room

    def _draw_cursor(self, painter: QPainter, axes: Axes, profile: Profile) -> None:
        if self._cursor is None or not 0 <= self._cursor <= axes.length:
            return
        k = int(np.argmin(np.abs(profile.x - self._cursor)))
        x = axes.at(self._cursor, 0).x()
        painter.setPen(QPen(theme.colour("muted"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, axes.frame.top()), QPointF(x, axes.frame.bottom()))
        z = profile.z[k]
        text = f"{profile.x[k] + axes.start:.2f} mm   z {'no data' if np.isnan(z) else f'{z:.3f} mm'}"
        behind = self.bench.shown.reference if self.bench.shown is not None else None
        if behind is not None and np.isfinite(behind.z[k] - z):
            text += f"   against the reference {z - behind.z[k]:+.3f} mm"
        text = units.text(text)
        width = painter.fontMetrics().horizontalAdvance(text) + 30
        draw_chip(painter, QPointF(min(x + 6, self.width() - width), axes.frame.top() - 6), text)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The fields stand at the upper right."""
        self._place_tools()

    def axes(self) -> Axes | None:
        """The scales of what is shown, None without data."""
        profile = self.bench.shown.profile if self.bench.shown else None
        if profile is None or not profile.valid.any():
            return None
        shown = self.bench.shown
        stretch, heights = self._window or (None, self._shown_heights(profile))
        axes = Axes(self.frame(), profile, heights, stretch)
        if shown is not None and shown.index >= 0 and shown.line is not None:
            axes.start = shown.line[0][0]
        elif shown is not None and shown.across_path:
            # left and right of the path
            axes.start = -axes.length / 2
        return axes

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of the zone on the section."""
        axes = self.axes()
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
        self._show_whole()

    def _show_whole(self) -> None:
        self._window = None
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Come nearer, or go farther away, about the pointer."""
        if event.angleDelta().y():
            self._zoom(CLOSER ** (-event.angleDelta().y() / 120.0), event.position())

    def _zoom(self, factor: float, about: QPointF) -> None:
        axes = self.axes()
        if axes is None:
            return
        s, z = axes.place(about)
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
        """Escape leaves what was requested; plus and minus come nearer and go away, arrows go along."""
        axes, middle = self.axes(), self.frame().center()
        pulls = {Qt.Key.Key_Left: (KEY_PULL, 0.0), Qt.Key.Key_Right: (-KEY_PULL, 0.0)}
        if event.key() == Qt.Key.Key_Escape and self.prompt:
            self.pick_left.emit()
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self._zoom(1 / CLOSER if event.key() == Qt.Key.Key_Plus else CLOSER, middle)
        elif event.key() in pulls and self._window is not None and axes is not None:
            self._pulled = middle
            self._pull(middle + QPointF(*pulls[Qt.Key(event.key())]), axes)
            self._pulled = None
        elif event.key() == Qt.Key.Key_Home:
            self._show_whole()
        else:
            super().keyPressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """A drag of the zone becomes an edit."""
        self._pulled = None
        axes, step = self.axes(), self.zone.step
        zone = None if axes is None else self.zone.moved(axes.place(event.position()))
        self.zone.let_go()
        if zone is not None and step is not None:
            self.zone_dropped.emit(step.id, zone)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Link the place under the pointer to the stage, or drag the zone."""
        shown = self.bench.shown
        if shown is None or shown.line is None:
            return
        axes, step = self.axes(), self.zone.step
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
