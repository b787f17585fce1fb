"""The stage from above: the height map with zones, used points, balloons and the section line."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import (
    QColor,
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

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.plan.document import Step
from hemtra.core.zones.zone import AnyZone, PathZone
from hemtra.desktop.background.evaluation import prepared_map
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.models.stage_balloons import StageBalloon, stage_balloons
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.models.viewport import Pixel, Viewport
from hemtra.desktop.models.zone_drag import Handle, dragged, grabbed
from hemtra.desktop.plan.stage.anchor_marks import draw_anchors, draw_spread
from hemtra.desktop.plan.stage.contour_eraser import ContourEraser
from hemtra.desktop.plan.stage.legend import Legend
from hemtra.desktop.plan.stage.path_marks import draw_paths
from hemtra.desktop.plan.stage.stage_map import StageMap
from hemtra.desktop.plan.stage.stage_probe import Probe
from hemtra.desktop.plan.stage.stage_tools import StageTools
from hemtra.desktop.plan.stage.suggestions import Offers
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.layers import (
    RegionImages,
    draw_handles,
    draw_labels,
    draw_polylines,
    draw_regions,
    draw_strokes,
    draw_zone,
)
from hemtra.desktop.widgets.symbols import RADIUS, draw_balloon, draw_chip

LINE_GRAB = 7.0
"""Pixels around the section line that take it."""
WHEEL_STEP = 1.0015
"""Zoom per eighth of a degree of the wheel: a notch of 15° gives a fifth."""
NUDGE_PIXELS = 1.0


@dataclass
class _Drag:
    """What the pointer holds."""

    what: str
    start: Place
    pixel: Pixel
    handle: Handle = "body"
    zone: AnyZone | None = None
    line: tuple[Place, Place] | None = None
    viewport: Viewport = field(default_factory=Viewport)
    moved: bool = False


class TopView(QWidget):
    """Shows the current part of the bench from above and turns pointer and keys into intents."""

    zone_dragged = Signal(str, object)
    zone_dropped = Signal(str, object)
    line_moved = Signal(object)
    balloon_clicked = Signal(int)
    step_clicked = Signal(str)
    place_picked = Signal(float, float)
    pick_left = Signal()
    pick_done = Signal()
    offer_taken = Signal(object)
    """What lay under the pointer when it was clicked."""
    recoloured = Signal()
    """Something else is to colour the part."""
    repainted = Signal()
    """The map is coloured differently."""
    rubbed = Signal(object, float)
    """Places in mm over which the pointer rubbed, and how far around each in mm."""
    cursor_moved = Signal(object)
    distance_picked = Signal(float)
    """mm along the path that was clicked."""
    path_menu_wanted = Signal(int, object)
    """A node of the selected path, or -1, and the place that was clicked with the right button."""

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("topView")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage, top view")
        self.bench = bench
        self.viewport = Viewport()
        self.legend = Legend(self)
        self.legend.range_changed.connect(self._repaint_map)
        self.map = StageMap(bench, self.legend)
        self.tools = StageTools(bench, self)
        self.tools.colour_chosen.connect(self.colour_by)
        self.tools.before_toggled.connect(self._on_part)
        self.prompt = ""
        self.probe, self._rubber = Probe(), ContourEraser()
        self.offers = Offers(bench, lambda: self.data, self.update, self)
        self.picked: list[Place] = []
        self.joins_picked = False
        """Whether the places that are clicked become a path."""
        self._regions = RegionImages()
        self._balloons: list[StageBalloon] = []
        self._drag: _Drag | None = None
        self._cursor: Pixel | None = None
        self._linked: Place | None = None
        self._fitted = self._moved = False
        """Whether the whole part is in view, and whether the user has gone elsewhere."""
        self._part: TrayPart | None = None
        bench.tray.current_changed.connect(self._on_part)
        bench.shown_changed.connect(self._on_shown)
        bench.selection_changed.connect(self.update)
        bench.document.changed.connect(self.update)
        self._on_part()

    # -- what is shown ----------------------------------------------------------------------------

    @property
    def data(self) -> HeightMap | None:
        """The height map on the stage: as prepared, or the scan itself when that is asked for."""
        part, shown = self.bench.tray.current, self.bench.shown
        if part is None:
            return None
        prepared = None
        if shown is not None and not self.tools.before.isChecked():
            prepared = prepared_map(self.bench.document.shown, shown.result)
        return prepared or part.scan.data

    def fit(self) -> None:
        """Show the whole part."""
        part = self.bench.tray.current
        if part is not None:
            self.viewport = self.viewport.fitted(part.extent)
            self._fitted, self._moved = True, False
            self.update()

    def look_at(self, extent: tuple[float, float, float, float]) -> None:
        """Show x from and to, y from and to, in mm."""
        self.viewport = self.viewport.fitted(extent)
        self._moved = True
        self.update()

    def colour_by(self, quantity: str) -> None:
        """One of `COLOURS`."""
        self.bench.colour = quantity
        self.tools.show_colour(quantity)
        self.legend.forget()
        self._on_part()
        self._repaint_map()
        self.recoloured.emit()

    def stretch_colours(self) -> None:
        """Let the colours span what the selected zone holds, or all of it again; Z."""
        if self.data is not None:
            self.map.stretch(self.data, self._selected_zone())

    def pick(self, prompt: str) -> None:
        """Ask for a place: the next click answers, Escape leaves; '' asks no more."""
        self.prompt = prompt
        self.setCursor(Qt.CursorShape.CrossCursor if prompt else Qt.CursorShape.ArrowCursor)
        if prompt:
            self.setFocus()
        self.update()

    def rub(self, prompt: str) -> None:
        """Let the pointer rub pieces out, until Escape or ''."""
        self.pick(prompt)
        self._rubber.active = bool(prompt)

    def pin(self) -> None:
        """Pin the probe under the pointer; without one there, or on the pin itself, take it off."""
        self.probe.pin(None if self._cursor is None else self.viewport.to_part(*self._cursor), self.viewport)
        self.update()

    def link(self, place: Place | None) -> None:
        """Mark the place another view points at."""
        self._linked = place
        self.update()

    def _on_part(self) -> None:
        data = self.data
        self.map.fill_legend(data)
        self.tools.setVisible(data is not None)
        if data is not None and self.bench.tray.current is not self._part and not self._moved:
            self.fit()
        self._part = self.bench.tray.current
        if data is None:
            self._fitted = self._moved = False
        self.update()

    def _on_shown(self) -> None:
        self._regions.forget()
        self.tools.refresh()
        if self.map.derived:
            self.map.fill_legend(self.data)
        self.update()

    def _repaint_map(self) -> None:
        self.update()
        self.repainted.emit()

    # -- painting ---------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Map, used points, zones, section line, balloons, read-out."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("stage"))
        if self.data is not None:
            painter.drawImage(0, 0, self.map.image(self.data, self.viewport))
            self._draw_evidence(painter)
            self._draw_line(painter)
            self._draw_balloons(painter)
            self.probe.draw(painter, self.viewport, self._cursor)
            self._draw_read_out(painter)
            self.offers.draw(painter, self.viewport, self._cursor)
        painter.setPen(QPen(theme.colour("copper").lighter(140), 2))
        if self.joins_picked and self.picked:
            pointer = [] if self._cursor is None else [QPointF(*self._cursor)]
            clicked = [QPointF(*self.viewport.to_screen(*place)) for place in self.picked]
            painter.drawPolyline(QPolygonF([*clicked, *pointer]))
        for place in self.picked:
            at = QPointF(*self.viewport.to_screen(*place))
            painter.drawLine(at - QPointF(7, 0), at + QPointF(7, 0))
            painter.drawLine(at - QPointF(0, 7), at + QPointF(0, 7))
        self._rubber.draw(painter, self.viewport)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("copper"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
        if self.prompt:
            width = self.fontMetrics().horizontalAdvance(self.prompt) + 40
            draw_chip(
                painter,
                QPointF(max(8.0, (self.width() - width) / 2), self.height() - 40),
                self.prompt,
                back=theme.colour("copper"),
                ink=theme.colour("paper"),
            )
        painter.end()

    def _lineage_steps(self) -> list[Step]:
        return [step for column in self.bench.lineage() for step in column]

    def _draw_evidence(self, painter: QPainter) -> None:
        shown, selected = self.bench.shown, self.bench.selected_step
        evidence = shown.evidence if shown else {}
        if selected in evidence:
            draw_regions(painter, self.viewport, evidence[selected].marks, self._regions)
            draw_strokes(painter, self.viewport, evidence[selected].marks)
            draw_labels(painter, self.viewport, evidence[selected].marks)
        for step in self._lineage_steps():
            zone = self.bench.placed(step)
            if zone is None or step.id == selected:
                continue
            pen = QPen(theme.colour("stage_ink", 190), 1.2)
            pen.setDashPattern([4, 3])
            draw_zone(painter, self.viewport, zone, pen)
        for step_id, found in evidence.items():
            if step_id == (self.bench.row.step if self.bench.row else None):
                draw_polylines(painter, self.viewport, found.marks)
        draw_paths(painter, self.viewport, self.bench)
        draw_spread(painter, self.viewport, self.bench)
        draw_anchors(painter, self.viewport, self.bench, self._lineage_steps())
        zone = self._selected_zone()
        if zone is not None:
            draw_zone(painter, self.viewport, zone, QPen(theme.colour("copper").lighter(130), 1.8))
            if not self.bench.read_only:
                draw_handles(painter, self.viewport, zone)

    def _line(self) -> tuple[Place, Place] | None:
        if self.bench.line is not None:
            return self.bench.line
        return self.bench.shown.line if self.bench.shown else None

    def _draw_line(self, painter: QPainter) -> None:
        line = self._line()
        if line is None:
            return
        a, b = (QPointF(*self.viewport.to_screen(*end)) for end in line)
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
        if self._linked is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme.colour("paper"), 1.6))
            painter.drawEllipse(QPointF(*self.viewport.to_screen(*self._linked)), 6, 6)

    def _draw_balloons(self, painter: QPainter) -> None:
        shown = self.bench.shown
        taken = self.legend.width() if self.legend.isVisible() else 0
        plan = self.bench.document.shown
        self._balloons = stage_balloons(plan, shown, self.viewport, taken) if shown else []
        for balloon in self._balloons:
            chosen = balloon.judged.balloon == self.bench.balloon
            painter.setPen(QPen(theme.colour("stage_ink", 255 if chosen else 150), 1.4 if chosen else 1.0))
            painter.drawLine(QPointF(*balloon.anchor), QPointF(*balloon.place))
            painter.setBrush(theme.colour("stage_ink"))
            painter.drawEllipse(QPointF(*balloon.anchor), 2.2, 2.2)
        for balloon in self._balloons:
            judged, chosen = balloon.judged, balloon.judged.balloon == self.bench.balloon
            place = QPointF(*balloon.place)
            draw_balloon(painter, place, str(judged.balloon), judged.verdict, selected=chosen)

    def _draw_read_out(self, painter: QPainter) -> None:
        data = self.data
        if self._cursor is None or data is None:
            return
        x, y = self.viewport.to_part(*self._cursor)
        z = data.height_at(x, y)
        text = f"x {x:.2f}   y {y:.2f}   z {'no data' if z is None else f'{z:.3f}'} mm"
        grey = data.intensity_at(x, y)
        parts = [text, self.map.told(data, x, y), "" if grey is None else f"intensity {grey}"]
        parts.append(self.probe.told((x, y), data))
        text = "   ".join(part for part in parts if part)
        draw_chip(painter, QPointF(10, self.height() - 34), text)

    # -- pointer ----------------------------------------------------------------------------------

    def _selected_zone(self) -> AnyZone | None:
        step = next((s for s in self._lineage_steps() if s.id == self.bench.selected_step), None)
        return None if step is None else self.bench.placed(step)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take what lies under the pointer: handle, section line, balloon, zone, or the view itself."""
        pixel = event.position().x(), event.position().y()
        place = self.viewport.to_part(*pixel)
        if event.button() == Qt.MouseButton.LeftButton and self._rubber.active:
            self._rubber.places = [place]
            return
        if event.button() == Qt.MouseButton.LeftButton and self.prompt:
            self.place_picked.emit(*place)
            return
        self._drag = _Drag("view", place, pixel, viewport=self.viewport)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        zone = self._selected_zone()
        handle = self._grabbed(pixel)
        line_part = self._line_under(pixel)
        balloon = self._balloon_under(pixel)
        if handle not in (None, "body"):
            self._drag = _Drag("zone", place, pixel, handle or "body", zone)
        elif balloon is not None:
            self._drag = None
            self.balloon_clicked.emit(balloon)
        elif handle == "body" and line_part in (None, "line"):
            # the proposed section runs right through the zone, and the zone is what is meant there
            self._drag = _Drag("zone", place, pixel, "body", zone)
        elif line_part is not None:
            self._drag = _Drag(line_part, place, pixel, line=self._line())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag what was taken; otherwise read the map."""
        pixel = event.position().x(), event.position().y()
        self._cursor = pixel
        place = self.viewport.to_part(*pixel)
        self.cursor_moved.emit(place)
        drag = self._drag
        self._rubber.on(place, self.viewport)
        if drag is not None and (drag.moved or math.dist(pixel, drag.pixel) > 3):
            drag.moved = True
            self._drag_on(drag, pixel, place, snap=bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif drag is None and not self.prompt:
            self._show_grip(pixel)
        self.offers.moved(place if self._is_free(pixel) else None)
        self.update()

    def _is_free(self, pixel: Pixel) -> bool:
        """Whether the pointer is on nothing that can be taken already."""
        held = self.bench.read_only or self._grabbed(pixel)
        busy = self._drag is not None or self.prompt or held or self._balloon_under(pixel) is not None
        return not busy and self._line_under(pixel) is None

    def _drag_on(self, drag: _Drag, pixel: Pixel, place: Place, *, snap: bool) -> None:
        if drag.what == "view":
            self._moved = True
            self.viewport = drag.viewport.panned(pixel[0] - drag.pixel[0], pixel[1] - drag.pixel[1])
        elif drag.what == "zone" and drag.zone is not None and self.bench.selected_step:
            zone = dragged(drag.zone, drag.handle, drag.start, place, snap=snap)
            self.zone_dragged.emit(self.bench.selected_step, zone)
        elif drag.line is not None:
            dx, dy = place[0] - drag.start[0], place[1] - drag.start[1]
            moves = {"line-0": (1, 0), "line-1": (0, 1), "line": (1, 1)}[drag.what]
            (ax, ay), (bx, by) = drag.line
            a, b = moves
            self.line_moved.emit(((ax + a * dx, ay + a * dy), (bx + b * dx, by + b * dy)))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let go; a drag of a zone becomes an edit, a click on another zone selects its step."""
        if self._rubber.places:
            self._rubber.on(self.viewport.to_part(event.position().x(), event.position().y()), self.viewport)
            places, self._rubber.places = self._rubber.places, []
            self.rubbed.emit(places, self._rubber.reach(self.viewport))
            return
        drag, self._drag = self._drag, None
        if drag is None:
            return
        if not drag.moved and self._clicked_path(event):
            return
        place = self.viewport.to_part(event.position().x(), event.position().y())
        if drag.what == "zone" and drag.moved and drag.zone is not None and self.bench.selected_step:
            snap = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.zone_dropped.emit(
                self.bench.selected_step, dragged(drag.zone, drag.handle, drag.start, place, snap=snap)
            )
        elif not drag.moved and drag.what == "view":
            under, offer = self._step_under(place), self.offers.offer
            if offer is not None:
                self.offers.moved(None)
                self.offer_taken.emit(offer)
            elif under is not None:
                self.step_clicked.emit(under)

    def _clicked_path(self, event: QMouseEvent) -> bool:
        """A click on the selected path looks at it there; the right button offers what can be done with it."""
        zone, shown = self._selected_zone(), self.bench.shown
        pixel = event.position().x(), event.position().y()
        if not isinstance(zone, PathZone) or self.prompt:
            return False
        grip = grabbed(zone, self.viewport, pixel)
        if grip is None or (self.bench.read_only and event.button() == Qt.MouseButton.RightButton):
            return False
        place = self.viewport.to_part(*pixel)
        if event.button() == Qt.MouseButton.RightButton:
            node = int(grip.removeprefix("node-")) if grip.startswith("node-") else -1
            self.path_menu_wanted.emit(node, place)
        elif grip == "body" and shown is not None and shown.along is not None:
            self.distance_picked.emit(shown.along.path.course.nearest(*place)[0])
        return True

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Show the whole part again."""
        if not self.prompt:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """Zoom about the pointer."""
        if self.data is None:
            return
        at = event.position()
        self._moved = True
        self.viewport = self.viewport.zoomed(at.x(), at.y(), WHEEL_STEP ** event.angleDelta().y())
        self.update()

    def leaveEvent(self, event: QEvent) -> None:
        """Nothing to read any more."""
        self._cursor = None
        self.offers.moved(None)
        self.cursor_moved.emit(None)
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows nudge the selected zone by a pixel, with Shift ten; Escape leaves picking, Enter ends it."""
        moves = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        zone = self._selected_zone()
        if event.key() == Qt.Key.Key_Escape and self.prompt:
            self.rub("")
            self.pick_left.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.prompt:
            self.pick_done.emit()
        elif event.key() in moves and zone is not None and self.bench.selected_step:
            far = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
            step = NUDGE_PIXELS * self.viewport.scale * far
            dx, dy = (step * k for k in moves[Qt.Key(event.key())])
            self.zone_dropped.emit(self.bench.selected_step, dragged(zone, "body", (0, 0), (dx, dy)))
        else:
            super().keyPressEvent(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Keep the middle where it is, or the whole part in view."""
        self.viewport = self.viewport.resized(self.width(), self.height())
        self.legend.move(self.width() - self.legend.width() - 8, 8)
        if self._fitted:
            self.fit()

    def _show_grip(self, pixel: Pixel) -> None:
        handle = self._grabbed(pixel)
        shapes = {"rotate": Qt.CursorShape.CrossCursor, "body": Qt.CursorShape.SizeAllCursor}
        grip = handle and handle.rpartition(":")[2]
        if self._balloon_under(pixel) is not None:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        elif handle is not None and (handle != "body" or self._line_under(pixel) in (None, "line")):
            self.setCursor(shapes.get(grip or "", Qt.CursorShape.SizeFDiagCursor))
        elif self._line_under(pixel) is not None:
            self.setCursor(Qt.CursorShape.OpenHandCursor)
        else:
            self.setCursor(Qt.CursorShape.ArrowCursor)

    def _grabbed(self, pixel: Pixel) -> Handle | None:
        """What of the selected zone a pixel takes hold of."""
        zone = self._selected_zone()
        return None if zone is None or self.bench.read_only else grabbed(zone, self.viewport, pixel)

    def _balloon_under(self, pixel: Pixel) -> int | None:
        near = (b for b in self._balloons if math.dist(b.place, pixel) <= RADIUS + 2)
        return next((b.judged.balloon for b in near), None)

    def _line_under(self, pixel: Pixel) -> str | None:
        line = self._line()
        if line is None:
            return None
        ends = [self.viewport.to_screen(*end) for end in line]
        for k, end in enumerate(ends):
            if math.dist(end, pixel) <= LINE_GRAB + 2:
                return f"line-{k}"
        (ax, ay), (bx, by) = ends
        length = math.dist(*ends) or 1.0
        along = ((pixel[0] - ax) * (bx - ax) + (pixel[1] - ay) * (by - ay)) / length
        off = abs((pixel[0] - ax) * (by - ay) - (pixel[1] - ay) * (bx - ax)) / length
        return "line" if off <= LINE_GRAB and 0 <= along <= length else None

    def _step_under(self, place: Place) -> str | None:
        """The smallest zone of the lineage under a place."""
        x, y = np.array(place[0]), np.array(place[1])
        placed = [(self.bench.placed(s), s.id) for s in self._lineage_steps()]
        zones = [(zone.area, step_id) for zone, step_id in placed if zone and zone.contains(x, y)]
        return min(zones)[1] if zones else None
