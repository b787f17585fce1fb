"""Small pictures of evidence: histogram with the used share, map of residuals."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from hemtra.core.marks import Curve, Histogram, MatchPicture, Picture, ResidualMap
from hemtra.core.rendering.palettes import deviation_palette
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.layers import image

CAPTION = 15
REACH, GRIP = 10, 0.09
"""Catch distance of a candidate, pixels, and of the floor as a share of the height."""


class EvidencePicture(QWidget):
    """Paints whatever picture a step's evidence has; an edge is taken from its curve by a click."""

    params_wanted = Signal(object)
    """Parameters by name that a click or a drag requires."""

    def __init__(self, width: int = 112) -> None:
        super().__init__()
        self.setFixedWidth(width)
        self.setMinimumHeight(66)
        self._picture: Picture | None = None
        self._dragged: float | None = None
        """Share at which the line lies that is being dragged."""

    def show_picture(self, picture: Picture | None) -> None:
        """Take another picture."""
        self._picture = picture
        title = "" if picture is None else picture.title
        chooses = isinstance(picture, Curve) and bool(picture.place)
        self.setToolTip(title)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus if chooses else Qt.FocusPolicy.NoFocus)
        self.setAccessibleName(f"{title}; left and right take another place" if chooses else title)
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """The picture and below it what its axis spans."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = self._box()
        painter.setFont(theme.font(10))
        match self._picture:
            case Histogram() as histogram:
                self._draw_histogram(painter, box, histogram)
            case ResidualMap() as residuals:
                self._draw_residuals(painter, box, residuals)
            case MatchPicture() as match:
                self._draw_match(painter, box, match)
            case Curve() as curve:
                self._draw_curve(painter, box, curve)
        if self.hasFocus():
            painter.setPen(QPen(theme.colour("copper"), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(self.rect()).adjusted(0.7, 0.7, -0.7, -0.7))
        painter.end()

    def _draw_match(self, painter: QPainter, box: QRectF, match: MatchPicture) -> None:
        low, high = match.points.min(axis=0), match.points.max(axis=0)
        scale = min(
            (box.width() - 4) / (high[0] - low[0] + 1e-9), (box.height() - 4) / (high[1] - low[1] + 1e-9)
        )
        middle = (low + high) / 2
        for seen, name, width in ((True, "passed", 1.6), (False, "failed", 2.2)):
            painter.setPen(QPen(theme.colour(name), width))
            chosen = match.points[match.seen == seen]
            x = box.center().x() + (chosen[:, 0] - middle[0]) * scale
            y = box.center().y() - (chosen[:, 1] - middle[1]) * scale
            painter.drawPoints(QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]))
        missing = int(np.count_nonzero(~match.seen))
        self._caption(painter, f"{len(match.seen)} points", f"{missing} lost")

    def _draw_curve(self, painter: QPainter, box: QRectF, curve: Curve) -> None:
        known = ~np.isnan(curve.y)
        if np.count_nonzero(known) < 2:
            return
        x, y = curve.x[known], curve.y[known]
        low, peak = min(float(y.min()), 0.0), float(y.max())
        reach = peak - low or 1.0
        px = box.left() + (x - x[0]) / _span(curve) * box.width()
        py = box.bottom() - (y - low) / reach * (box.height() - 3)
        for place in curve.candidates:
            painter.setPen(QPen(theme.colour("muted"), 1, Qt.PenStyle.DotLine))
            at = self._at(curve, place)
            painter.drawLine(QPointF(at, box.top()), QPointF(at, box.bottom()))
        for place in curve.chosen:
            painter.setPen(QPen(theme.colour("copper"), 2))
            at = self._at(curve, place)
            painter.drawLine(QPointF(at, box.top()), QPointF(at, box.bottom()))
        if low < 0.0:
            painter.setPen(QPen(theme.colour("line"), 1))
            zero = box.bottom() + low / reach * (box.height() - 3)
            painter.drawLine(QPointF(box.left(), zero), QPointF(box.right(), zero))
        painter.setPen(QPen(theme.colour("ink"), 1.2))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(px.tolist(), py.tolist(), strict=True)]))
        floor = curve.floor if self._dragged is None else self._dragged
        if floor is not None:
            painter.setPen(QPen(theme.colour("anchor"), 1.4, Qt.PenStyle.DashLine))
            level = box.bottom() - floor * (box.height() - 3)
            painter.drawLine(QPointF(box.left(), level), QPointF(box.right(), level))
        ends = f"±{max(peak, -low):.0f} {curve.unit}" if low < 0.0 else f"{x[-1]:.1f} {curve.along}"
        self._caption(painter, f"{x[0]:.1f}" if low >= 0.0 else "", ends)

    def _box(self) -> QRectF:
        return QRectF(0, 2, self.width(), self.height() - CAPTION - 4)

    def _at(self, curve: Curve, place: float) -> float:
        """The pixel of a place on a curve's x."""
        known = ~np.isnan(curve.y)
        box = self._box()
        return box.left() + (place - float(curve.x[known][0])) / _span(curve) * box.width()

    def _share(self, y: float) -> float:
        box = self._box()
        return min(max((box.bottom() - y) / (box.height() - 3), 0.01), 1.0)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take hold of the floor, or take the candidate nearest to the pointer."""
        curve = self._picture
        if not isinstance(curve, Curve) or not curve.place:
            super().mousePressEvent(event)
            return
        if curve.floor is not None and abs(self._share(event.position().y()) - curve.floor) < GRIP:
            self._dragged = curve.floor
        elif curve.candidates:
            nearest = min(curve.candidates, key=lambda c: abs(self._at(curve, c) - event.position().x()))
            if abs(self._at(curve, nearest) - event.position().x()) <= REACH:
                self._take(curve, nearest)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Left and right take the next candidate."""
        curve, ways = self._picture, {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        step = ways.get(Qt.Key(event.key()))
        if step is None or not isinstance(curve, Curve) or not curve.candidates or not curve.chosen:
            super().keyPressEvent(event)
            return
        places = sorted(curve.candidates)
        now = min(range(len(places)), key=lambda k: abs(places[k] - curve.chosen[0]))
        if 0 <= now + step < len(places):
            self._take(curve, places[now + step])

    def _take(self, curve: Curve, candidate: float) -> None:
        """Request a candidate, and for a floor that it reaches."""
        wanted = {**dict(curve.taken), curve.place: round(candidate - curve.origin, 4)}
        strength = dict(zip(curve.candidates, curve.shares, strict=False)).get(candidate, 1.0)
        if curve.floor is not None and strength < curve.floor:
            wanted[curve.share] = max(1, int(90.0 * strength))
        self.params_wanted.emit(wanted)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Move the floor."""
        if self._dragged is not None:
            self._dragged = self._share(event.position().y())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """A moved floor becomes an edit."""
        curve, share, self._dragged = self._picture, self._dragged, None
        if isinstance(curve, Curve) and share is not None and share != curve.floor:
            self.params_wanted.emit({curve.share: round(100.0 * share)})
        self.update()

    def _draw_histogram(self, painter: QPainter, box: QRectF, histogram: Histogram) -> None:
        # square roots, so that a few points on another level stay visible beside thousands
        counts, used = np.sqrt(histogram.counts), np.sqrt(histogram.used)
        peak = max(float(counts.max()), 1.0)
        step = box.width() / len(counts)
        painter.setPen(Qt.PenStyle.NoPen)
        for values, name in ((counts, "line"), (used, "copper")):
            painter.setBrush(theme.colour(name))
            for k, value in enumerate(values):
                if value > 0:
                    height = max(1.5, box.height() * float(value) / peak)
                    painter.drawRect(QRectF(k * step, box.bottom() - height, max(step - 0.6, 1.0), height))
        painter.setPen(QPen(theme.colour("muted"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        low, high = float(histogram.edges[0]), float(histogram.edges[-1])
        places = 1 if high - low > 1 else 3
        self._caption(painter, f"{low:.{places}f}", f"{high:.{places}f} {histogram.unit}")

    def _draw_residuals(self, painter: QPainter, box: QRectF, residuals: ResidualMap) -> None:
        palette = deviation_palette()
        values = residuals.values[::-1]
        index = np.clip((values / residuals.reach + 1) / 2 * 255, 0, 255)
        pixels = np.zeros((*values.shape, 4), np.uint8)
        found = ~np.isnan(values)
        pixels[found, :3] = palette[index[found].astype(np.uint8)]
        pixels[found, 3] = 255
        rows, cols = values.shape
        # cells are square in points, which is near enough to square in mm for so small a picture
        scale = min(box.width() / cols, box.height() / rows)
        size = cols * scale, rows * scale
        target = QRectF(0, 0, *size)
        target.moveCenter(box.center())
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.setBrush(theme.colour("field"))
        painter.drawRect(target)
        painter.drawImage(target, image(pixels))
        reach = residuals.reach * 1000
        self._caption(painter, f"−{reach:.0f}", f"+{reach:.0f} µm")
        gradient = QRectF(34, self.height() - 9, self.width() - 84, 4)
        for k in range(24):
            tint = palette[k * 255 // 23]
            left = gradient.left() + k * gradient.width() / 24
            painter.fillRect(
                QRectF(left, gradient.top(), gradient.width() / 24 + 1, 4), QColor(*map(int, tint))
            )

    def _caption(self, painter: QPainter, left: str, right: str) -> None:
        painter.setPen(theme.colour("muted"))
        box = QRectF(0, self.height() - CAPTION, self.width(), CAPTION)
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, units.signed(left))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, units.signed(right))


def _span(curve: Curve) -> float:
    """Range of a curve in x."""
    known = curve.x[~np.isnan(curve.y)]
    return float(known[-1] - known[0]) or 1.0
