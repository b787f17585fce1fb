"""Words on a picture: each on a dark patch so that it can be read, and none over another."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from hemtra.desktop.widgets import theme

PATCH = QColor(16, 22, 21, 190)


class Labels:
    """Rectangles taken by texts, with a margin in pixels."""

    def __init__(self, bounds: QRectF, taken: Iterable[QRectF] = ()) -> None:
        self._bounds = bounds
        self._taken = list(taken)

    def draw(
        self,
        painter: QPainter,
        text: str,
        centres: Sequence[QPointF],
        *,
        pixels: int = 11,
        ink: QColor | None = None,
        always: bool = False,
    ) -> None:
        """Write at the first of some places that is free; where none is, not at all, or at the first.

        always: it is written in any case.
        """
        painter.setFont(theme.font(pixels, bold=True))
        metrics = painter.fontMetrics()
        wide, high = metrics.horizontalAdvance(text) + 8.0, metrics.height() + 2.0
        boxes = [self._inside(QRectF(c.x() - wide / 2, c.y() - high / 2, wide, high)) for c in centres]
        free = next((box for box in boxes if not any(box.intersects(other) for other in self._taken)), None)
        if free is None and not always:
            return
        box = boxes[0] if free is None else free
        self._taken.append(box)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(PATCH)
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(ink or theme.colour("stage_ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _inside(self, box: QRectF) -> QRectF:
        x = min(max(box.left(), self._bounds.left()), self._bounds.right() - box.width())
        y = min(max(box.top(), self._bounds.top()), self._bounds.bottom() - box.height())
        return QRectF(x, y, box.width(), box.height())


def around(at: QPointF, across: float, up: float) -> list[QPointF]:
    """Places at the four corners and sides of a point, the one above right first."""
    ways = ((1, -1), (1, 1), (-1, -1), (-1, 1), (0, -1.6), (0, 1.6))
    return [at + QPointF(x * across, y * up) for x, y in ways]
