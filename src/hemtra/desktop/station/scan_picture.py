"""A small picture of a height map to click on."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.layers import image

NEAR, FAR = 2.0, 12.0
"""Step of an arrow key on the cross, and with Shift, pixels."""
WAYS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, -1),
    Qt.Key.Key_Down: (0, 1),
}


class ScanPicture(QWidget):
    """A height map as large as it fits, with lettered places; where it is to be clicked, also with keys."""

    clicked = Signal(float, float)
    """x and y in mm."""

    def __init__(self, empty: str = "", *, name: str = "") -> None:
        """empty: what is said without a map. name: of a picture that is to be clicked."""
        super().__init__()
        self._empty = empty
        self._pointer: QPointF | None = None
        """Place reached with the arrow keys."""
        if name:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            self.setAccessibleName(f"{name}; arrow keys move the cross, Enter clicks")
        self.data: HeightMap | None = None
        self.places: list[tuple[str, float, float]] = []
        self.levels: tuple[float, float] | None = None
        self.setMinimumSize(100, 60)

    def show_scan(self, data: HeightMap | None, levels: tuple[float, float] | None = None) -> None:
        """Take another map; levels: z from and to of the colours, from the data unless given."""
        self.data, self.levels = data, levels
        if data is not None and levels is None:
            found = data.z[~np.isnan(data.z)]
            self.levels = (float(found.min()), float(found.max()) + 1e-3) if found.size else (0.0, 1.0)
        self.update()

    def mark(self, places: list[tuple[str, float, float]]) -> None:
        """Mark places: letter, x, y in mm."""
        self.places = places
        self.update()

    def _frame(self, data: HeightMap) -> tuple[float, QRectF]:
        """Scale in mm per pixel, and the rectangle of the map."""
        x0, x1, y0, y1 = data.extent
        scale = max((x1 - x0) / max(self.width() - 8, 1), (y1 - y0) / max(self.height() - 8, 1), 1e-6)
        w, h = max(1, int((x1 - x0) / scale)), max(1, int((y1 - y0) / scale))
        return scale, QRectF((self.width() - w) / 2, (self.height() - h) / 2, w, h)

    def pixel(self, x: float, y: float) -> QPointF:
        """Pixel of a place in mm."""
        assert self.data is not None
        scale, box = self._frame(self.data)
        x0, _, _, y1 = self.data.extent
        return QPointF(box.left() + (x - x0) / scale, box.top() + (y1 - y) / scale)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Report where."""
        self._click(event.position())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Move the cross, or click where it is."""
        way, key = WAYS.get(Qt.Key(event.key())), event.key()
        at = self._pointer or QPointF(self.rect().center())
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._pointer is not None:
            self._click(at)
        elif way is None or self.data is None:
            super().keyPressEvent(event)
        else:
            step = FAR if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else NEAR
            moved = at + QPointF(*way) * step
            self._pointer = moved if QRectF(self.rect()).contains(moved) else at
            self.update()

    def _click(self, at: QPointF) -> None:
        if self.data is None:
            return
        scale, box = self._frame(self.data)
        x0, _, _, y1 = self.data.extent
        if box.contains(at):
            self.clicked.emit(x0 + (at.x() - box.left()) * scale, y1 - (at.y() - box.top()) * scale)

    def paintEvent(self, event: QPaintEvent) -> None:
        """The map in the middle, as large as it fits."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("stage"))
        data = self.data
        if data is None or self.levels is None:
            painter.setPen(theme.colour("stage_ink"))
            words = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(self.rect().adjusted(8, 4, -8, -4), words, self._empty)
            painter.end()
            return
        scale, box = self._frame(data)
        view = View(data.extent[0], data.extent[3], scale, round(box.width()), round(box.height()))
        painter.drawImage(box, image(picture(data, view, height_palette(), *self.levels)))
        painter.setFont(theme.font(12, bold=True))
        for letter, x, y in self.places:
            at = self.pixel(x, y)
            painter.setPen(QPen(theme.colour("ink"), 1.2))
            painter.setBrush(theme.colour("paper"))
            painter.drawEllipse(at, 10, 10)
            painter.drawText(QRectF(at.x() - 10, at.y() - 10, 20, 20), Qt.AlignmentFlag.AlignCenter, letter)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("copper").lighter(140), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(1, 1, -1, -1))
            if self._pointer is not None:
                for way in WAYS.values():
                    painter.drawLine(self._pointer + QPointF(*way) * 3, self._pointer + QPointF(*way) * 9)
        painter.end()
