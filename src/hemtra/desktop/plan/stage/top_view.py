"""The stage from above: the height map with zones, used points, balloons and the section line."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.zones.zone import PathZone
from hemtra.desktop.background.evaluation import prepared_map
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.models.stage_balloons import BESIDE
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.models.viewport import Extent, Pixel, Viewport
from hemtra.desktop.models.zone_drag import dragged, grabbed
from hemtra.desktop.plan.stage.contour_eraser import ContourEraser
from hemtra.desktop.plan.stage.drags import Drag, LineDrag, ViewDrag, ZoneDrag, grip
from hemtra.desktop.plan.stage.legend import Legend
from hemtra.desktop.plan.stage.preview_marks import Ahead, draw_ahead
from hemtra.desktop.plan.stage.section_line import SectionLine
from hemtra.desktop.plan.stage.stage_map import StageMap
from hemtra.desktop.plan.stage.stage_marks import StageMarks, draw_picked
from hemtra.desktop.plan.stage.stage_probe import Probe
from hemtra.desktop.plan.stage.stage_tools import StageTools
from hemtra.desktop.plan.stage.suggestions import Offers
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.paint_soon import PaintSoon
from hemtra.desktop.widgets.symbols import draw_chip

WHEEL_STEP = 1.0015
"""Zoom per eighth of a degree of the wheel: a notch of 15° gives a fifth."""
NUDGE_PIXELS = 1.0


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
    pick_listed = Signal()
    """Emitted to choose an option from a list."""
    offer_taken = Signal(object)
    """Emitted with the item clicked."""
    recoloured = Signal()
    """Emitted with another colouring."""
    repainted = Signal()
    """The map is coloured differently."""
    rubbed = Signal(object, float)
    """Places in mm over which the pointer rubbed, and how far around each in mm."""
    cursor_moved = Signal(object)
    distance_picked = Signal(float)
    """Emitted with the position along the path clicked, mm."""
    path_menu_wanted = Signal(int, object)
    """A node of the selected path, or -1, and the place that was clicked with the right button."""

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("topView")
        self.setMouseTracking(True)
        # otherwise all that lies beneath is painted again, too
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage, top view")
        self.bench = bench
        self.viewport = Viewport()
        self.legend = Legend(self)
        self.legend.range_changed.connect(self.update)
        self.legend.range_changed.connect(self.repainted)
        self.map = StageMap(bench, self.legend)
        self.tools = StageTools(bench, self)
        self.tools.colour_chosen.connect(self.colour_by)
        self.tools.before_toggled.connect(self._on_part)
        self.prompt = ""
        self.probe, self._rubber = Probe(), ContourEraser()
        self.offers = Offers(bench, lambda: self.data, self.update, self)
        self.picked: list[Place] = []
        self.ahead: Ahead | None = None
        """Preview of a click at the pointer."""
        self.joins_picked = False
        """Whether the places that are clicked become a path."""
        self.marks, self.line = StageMarks(bench), SectionLine(bench)
        self._drag: Drag | None = None
        self.pointer: Pixel | None = None
        self._fitted = self._moved = False
        """Whether the whole part is in view, and whether the user has gone elsewhere."""
        self._part: TrayPart | None = None
        self._painting = PaintSoon(self, lambda: isinstance(self._drag, ZoneDrag) and self._drag.moved)
        bench.tray.current_changed.connect(self._on_part)
        bench.shown_changed.connect(self._on_shown)
        bench.selection_changed.connect(self.update)
        bench.document.changed.connect(self._painting.paint)
        self._on_part()

    # -- what is shown ----------------------------------------------------------------------------

    @property
    def data(self) -> HeightMap | None:
        """The height map on the stage: as prepared, or the scan itself when that is requested."""
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
            # around the part are buttons, balloons and the legend
            top, right = self.tools.geometry().bottom() + 8, BESIDE + self.legend.width() + 8
            self.viewport = self.viewport.fitted(part.extent, (BESIDE, top, right, 10))
            self._fitted, self._moved = True, False
            self.update()

    def look_at(self, extent: Extent) -> None:
        """Show x from and to, y from and to, in mm."""
        self.go_to(self.viewport.fitted(extent))

    def go_to(self, viewport: Viewport) -> None:
        """Show another piece, where the user wants to be."""
        self.viewport, self._moved, self._fitted = viewport, True, False
        self.update()

    def colour_by(self, quantity: str) -> None:
        """One of `COLOURS`."""
        self.bench.colour = quantity
        self.tools.show_colour(quantity)
        self.legend.forget()
        self._on_part()
        self.update()
        self.repainted.emit()
        self.recoloured.emit()

    def stretch_colours(self) -> None:
        """Set the colour range to the selected zone, or back to all of it; Z."""
        if self.data is not None:
            self.map.stretch(self.data, self.marks.selected_zone())

    def pick(self, prompt: str) -> None:
        """Prompt for a place: the next click answers, Escape leaves; '' asks no more."""
        self.prompt = prompt
        self.setCursor(Qt.CursorShape.CrossCursor if prompt else Qt.CursorShape.ArrowCursor)
        if prompt:
            self.setFocus()
        self.update()

    def rub(self, prompt: str) -> None:
        """Start erasing pieces with the pointer, until Escape or ''."""
        self.pick(prompt)
        self._rubber.active = bool(prompt)

    def pin(self) -> None:
        """Pin the probe under the pointer; without one there, or on the pin itself, take it off."""
        self.probe.pin(None if self.pointer is None else self.viewport.to_part(*self.pointer), self.viewport)
        self.update()

    def link(self, place: Place | None) -> None:
        """Mark the place another view points at."""
        self.line.linked = place
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
        self.marks.forget()
        self.tools.refresh()
        if self.map.derived:
            self.map.fill_legend(self.data)
        self._painting.now()

    # -- painting ---------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Map, used points, zones, section line, balloons, read-out."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("stage"))
        if self.data is not None:
            painter.drawImage(0, 0, self.map.image(self.data, self.viewport))
            self.marks.place_balloons(self.viewport, self.bench.tray.current, self.legend.width() + 8)
            self.marks.draw_evidence(painter, self.viewport)
            self.line.draw(painter, self.viewport)
            self.marks.draw_balloons(painter)
            self.probe.draw(painter, self.viewport, self.pointer)
            if self.pointer is not None:
                x, y = self.viewport.to_part(*self.pointer)
                words = self.probe.read_out((x, y), self.data, self.map.value_text(self.data, x, y))
                draw_chip(painter, QPointF(10, self.height() - 34), words)
            self.offers.draw(painter, self.viewport, self.pointer)
        draw_picked(painter, self.viewport, self.picked, self.pointer, joined=self.joins_picked)
        if self.ahead is not None:
            draw_ahead(painter, self.viewport, self.ahead, self.pointer)
        self._rubber.draw(painter, self.viewport)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("copper"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
        if self.prompt:
            width = self.fontMetrics().horizontalAdvance(self.prompt) + 40
            # above what is read from the map
            draw_chip(
                painter,
                QPointF(max(8.0, (self.width() - width) / 2), self.height() - 74),
                self.prompt,
                back=theme.colour("copper"),
                ink=theme.colour("paper"),
            )
        painter.end()

    # -- pointer ----------------------------------------------------------------------------------

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
        self._drag = ViewDrag(self, pixel)
        if event.button() != Qt.MouseButton.LeftButton:
            return
        zone, step_id, handle = (
            self.marks.selected_zone(),
            self.bench.selected_step,
            self.marks.grabbed(self.viewport, pixel),
        )
        held, balloon = self.line.under(self.viewport, pixel), self.marks.balloon_under(pixel)
        # the proposed section runs right through the zone, and the zone is what is meant there
        takes_zone = handle not in (None, "body") or (
            handle == "body" and balloon is None and held in (None, "line")
        )
        if takes_zone and handle is not None and zone is not None and step_id is not None:
            self._drag = ZoneDrag(self, pixel, step_id, zone, handle)
        elif balloon is not None:
            self._drag = None
            self.balloon_clicked.emit(balloon)
        elif held is not None and self.line.ends is not None:
            self._drag = LineDrag(self, pixel, self.line.ends, held)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag what was taken; otherwise read the map."""
        pixel = event.position().x(), event.position().y()
        self.pointer = pixel
        place = self.viewport.to_part(*pixel)
        self.cursor_moved.emit(place)
        drag = self._drag
        self._rubber.on(place, self.viewport)
        if drag is not None and drag.begins(pixel):
            drag.on(pixel, place, snap=_snaps(event))
        elif drag is None and not self.prompt:
            held, balloon = self.line.under(self.viewport, pixel), self.marks.balloon_under(pixel)
            self.setCursor(grip(self.marks.grabbed(self.viewport, pixel), held, on_balloon=balloon is not None))
        self.offers.moved(place if self._is_free(pixel) else None)
        self._painting.paint()

    def _is_free(self, pixel: Pixel) -> bool:
        """Whether the pointer is on nothing that can be taken already."""
        held = self.bench.read_only or self.marks.grabbed(self.viewport, pixel)
        busy = self._drag is not None or self.prompt or held or self.marks.balloon_under(pixel) is not None
        return not busy and self.line.under(self.viewport, pixel) is None

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Release; a drag of a zone becomes an edit, a click on another zone selects its step."""
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
        if drag.moved:
            drag.drop(place, snap=_snaps(event))
        elif isinstance(drag, ViewDrag):
            self._clicked(place)

    def _clicked(self, place: Place) -> None:
        """Take what is offered there, or select what lies there."""
        under, offer = self.marks.step_under(place), self.offers.offer
        if offer is not None:
            self.offers.moved(None)
            self.offer_taken.emit(offer)
        elif under is not None:
            self.step_clicked.emit(under)

    def _clicked_path(self, event: QMouseEvent) -> bool:
        """A click on the selected path shows the section there; the right button opens its menu."""
        zone, shown = self.marks.selected_zone(), self.bench.shown
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
            self.distance_picked.emit(shown.along.path.curve.nearest(*place)[0])
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
        self.go_to(self.viewport.zoomed(at.x(), at.y(), WHEEL_STEP ** event.angleDelta().y()))

    def leaveEvent(self, event: QEvent) -> None:
        """Nothing to read any more."""
        self.pointer = None
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
        zone = self.marks.selected_zone()
        if event.key() == Qt.Key.Key_Escape and self.prompt:
            self.rub("")
            self.pick_left.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.prompt:
            self.pick_done.emit()
        elif event.key() == Qt.Key.Key_L and self.prompt:
            self.pick_listed.emit()
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
        left = self.width() - self.legend.width() - 8
        beside = self.tools.geometry().right() < left - 8
        self.legend.move(left, 8 if beside else self.tools.geometry().bottom() + 8)
        if self._fitted:
            self.fit()


def _snaps(event: QMouseEvent) -> bool:
    """Whether drags go in steps."""
    return bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
