"""The drawing of the station, to scale and alive: what is dragged in it is the station."""

from __future__ import annotations

from PySide6.QtCore import QSizeF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QWidget

from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.cross_drawing import draw_cross
from hemtra.desktop.station.drawing_handles import Handle, StationHandles
from hemtra.desktop.station.drawing_scale import DrawingScale
from hemtra.desktop.station.side_drawing import draw_side
from hemtra.desktop.widgets import theme


class StationDrawing(QFrame):
    """A side view along the belt and a view along travel."""

    dragged = Signal(object)
    dropped = Signal(str, object)

    def __init__(self, bench: StationBench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Drawing of the station")
        self.setMouseTracking(True)
        self.bench = bench
        self.scale = DrawingScale(bench)
        self.handles = StationHandles(self.scale)
        self._held: Handle | None = None
        bench.document.changed.connect(self._refresh)
        bench.unit_changed.connect(self.update)
        self._place()

    def _place(self) -> None:
        self.scale.place(self.width(), self.height())

    def _refresh(self) -> None:
        if self._held is None:  # while something is held the scale stays, or it would run away from the pointer
            self._place()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Both views with their dimensions."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("muted"))
        painter.drawText(14, 22, "Side view along the belt; the part reaches the photo-eye")
        painter.drawText(int(self.scale.middle - 60), 22, "View along travel")
        draw_side(painter, self.scale)
        draw_cross(painter, self.scale, QSizeF(self.size()), self.handles.all())
        painter.end()

    # -- pointer ----------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take what lies under the pointer."""
        self._held = self.handles.under(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Drag it along."""
        if self._held is None:
            under = self.handles.under(event.position())
            upright = Qt.CursorShape.SizeVerCursor
            shape = Qt.CursorShape.ArrowCursor
            if under is not None:
                shape = upright if under.upright else Qt.CursorShape.SizeHorCursor
            self.setCursor(shape)
            self.setToolTip(f"Drag: {under.label}" if under else "")
            return
        station = self.handles.moved(self._held, event.position())
        if station is not None:
            self.dragged.emit(station)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """The button is released: the drag becomes one change."""
        handle, self._held = self._held, None
        if handle is not None:
            station = self.handles.moved(handle, event.position()) or self.bench.document.value
            self.dropped.emit(handle.label, station)

    def resizeEvent(self, event: object) -> None:
        """Fit the new size."""
        self._place()
