"""The ribbon of the last parts; a click holds one while the line continues."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from hemtra.core.plan.limits import Verdict
from hemtra.desktop.models.run_bench import RIBBON, RunBench
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import draw_panel

HEAD, FOOT = 26.0, 18.0
EVERY = 10
"""Parts between two numbers."""


class Ribbon(QWidget):
    """Paints one mark a part, the newest on the right."""

    def __init__(self, bench: RunBench) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The last 60 parts; arrow keys hold one, Escape lets go")
        self._bench = bench
        bench.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As high as its marks."""
        return QSize(600, 96)

    def place_of(self, index: int) -> QRectF:
        """The mark of a part, counted from the oldest that is held."""
        width = (self.width() - 24) / RIBBON
        left = 12 + (RIBBON - len(self._bench.parts) + index) * width
        return QRectF(left + width * 0.12, HEAD, width * 0.76, self.height() - HEAD - FOOT)

    def paintEvent(self, event: QPaintEvent) -> None:
        """All marks, numbers below every tenth."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_panel(painter, self)
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(13, bold=True))
        painter.drawText(14, 18, f"Last {RIBBON} parts")
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(12))
        hint = (
            "held; Esc: release" if self._bench.is_held else "click a part to hold it; the line keeps running"
        )
        painter.drawText(QRectF(0, 4, self.width() - 14, 20), Qt.AlignmentFlag.AlignRight, hint)
        shown = self._bench.shown
        for index, done in enumerate(self._bench.parts):
            box = self.place_of(index)
            _draw_mark(painter, box, done.record.verdict)
            if self._bench.is_held and shown is done:
                painter.setPen(QPen(theme.colour("copper"), 2.4))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRoundedRect(box.adjusted(-2.5, -2.5, 2.5, 2.5), 3, 3)
            if done.record.number % EVERY == 0:
                painter.setPen(theme.colour("muted"))
                painter.setFont(theme.font(10))
                under = QRectF(box.center().x() - 30, box.bottom() + 3, 60, 14)
                painter.drawText(under, Qt.AlignmentFlag.AlignCenter, str(done.record.number))
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("copper"), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 6, 6)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Hold the part under the pointer; beside the marks, release it."""
        found = None
        for index, done in enumerate(self._bench.parts):
            box = self.place_of(index)
            if box.left() - 2 <= event.position().x() <= box.right() + 2:
                found = done
        self._bench.hold(found)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows hold the part before or after, Escape lets go."""
        parts = list(self._bench.parts)
        shown = self._bench.shown
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if event.key() == Qt.Key.Key_Escape:
            self._bench.hold(None)
        elif event.key() in moves and shown is not None:
            wanted = parts.index(shown) + moves[Qt.Key(event.key())]
            if 0 <= wanted < len(parts):
                self._bench.hold(parts[wanted])
        else:
            super().keyPressEvent(event)


def _draw_mark(painter: QPainter, box: QRectF, verdict: Verdict) -> None:
    middle = box.center()
    if verdict is Verdict.PASS:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("passed_wash"))
        painter.drawRoundedRect(box.adjusted(0, 5, 0, -5), 2.5, 2.5)
        painter.setPen(QPen(theme.colour("passed"), 2))
        painter.drawLine(middle - QPointF(3.5, 0), middle + QPointF(3.5, 0))
    elif verdict is Verdict.FAIL:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("failed"))
        painter.drawRoundedRect(box, 2.5, 2.5)
        painter.setBrush(theme.colour("paper"))
        size = min(box.width() / 2 - 1, 5.0)
        corners = ((0, -size), (size, 0), (0, size), (-size, 0))
        painter.drawPolygon(QPolygonF([middle + QPointF(x, y) for x, y in corners]))
    else:
        pen = QPen(theme.colour("unmeasured"), 1.4)
        pen.setDashPattern([2.5, 2.0])
        painter.setPen(pen)
        painter.setBrush(theme.colour("paper"))
        painter.drawRoundedRect(box.adjusted(1, 3, -1, -3), 2.5, 2.5)
