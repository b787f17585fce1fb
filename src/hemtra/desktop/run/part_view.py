"""The part that is shown, with only the balloons that do not pass."""

from __future__ import annotations

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QWidget

from hemtra.core.balloon_layout import place_balloons
from hemtra.core.detection.part_box import part_box
from hemtra.core.plan.limits import Verdict
from hemtra.core.rendering.palettes import height_palette
from hemtra.core.rendering.picture import View, picture
from hemtra.desktop.models.run_bench import RunBench
from hemtra.desktop.models.viewport import Viewport
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.layers import image
from hemtra.desktop.widgets.symbols import draw_balloon
from hemtra.runtime.production import Done

EDGE = 30.0
"""Pixels between balloons and the part, or the border."""
RADIUS = 15.0


class PartView(QWidget):
    """Paints the coarse map of a part; its height colours fit what lies on it."""

    def __init__(self, bench: RunBench) -> None:
        super().__init__()
        self.setMinimumSize(280, 220)
        self.setAccessibleName("The part, with what does not pass")
        self._bench = bench
        self._painted: tuple[int, int, int] | None = None
        self._image: QImage | None = None
        self._viewport = Viewport()
        bench.changed.connect(self.update)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Painted anew in another size."""
        self._painted = None

    def paintEvent(self, event: QPaintEvent) -> None:
        """Map, leaders, balloons."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.colour("stage"))
        shown = self._bench.shown
        if shown is None or shown.found.look is None or shown.found.look.data_share == 0.0:
            painter.setPen(theme.colour("stage_ink"))
            painter.setFont(theme.font(14))
            words = "" if shown is None else "There is no scan of this part."
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, words)
            painter.end()
            return
        self._draw_map(painter, shown)
        self._draw_balloons(painter, shown)
        painter.end()

    def _draw_map(self, painter: QPainter, shown: Done) -> None:
        look = shown.found.look
        assert look is not None
        state = (shown.record.id, self.width(), self.height())
        if state != self._painted:
            self._painted = state
            self._viewport = Viewport().resized(self.width(), self.height()).fitted(look.extent, (22.0,) * 4)
            v = self._viewport
            left, top = v.to_part(0, 0)
            found = look.z[look.z == look.z]
            low, high = float(found.min()), float(found.max())
            view = View(left, top, v.scale, self.width(), self.height())
            self._image = image(picture(look, view, height_palette(), low, high + 1e-3))
        if self._image is not None:
            painter.drawImage(0, 0, self._image)

    def _draw_balloons(self, painter: QPainter, shown: Done) -> None:
        bad = [row for row in shown.found.rows if row.verdict is not Verdict.PASS and row.at is not None]
        anchors = [self._viewport.to_screen(row.at.x, row.at.y) for row in bad if row.at is not None]
        if not anchors:
            return
        look = shown.found.look
        assert look is not None
        x0, x1, y0, y1 = part_box(look) or look.extent
        (left, top), (right, bottom) = self._viewport.to_screen(x0, y1), self._viewport.to_screen(x1, y0)
        # around the part itself, so that leaders are short, but never off the picture
        ring = (
            max(EDGE, left - EDGE),
            max(EDGE, top - EDGE),
            min(self.width() - EDGE, right + EDGE),
            min(self.height() - EDGE, bottom + EDGE),
        )
        for row, anchor, place in zip(bad, anchors, place_balloons(anchors, ring, radius=RADIUS), strict=True):
            painter.setPen(QPen(theme.colour("stage_ink"), 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(*anchor), 13, 13)
            painter.drawLine(QPointF(*anchor), QPointF(*place))
            draw_balloon(painter, QPointF(*place), str(row.balloon), row.verdict, radius=RADIUS)
