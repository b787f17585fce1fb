"""The strips below a profile: each characteristic's value along travel, with its limits."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QScrollArea, QWidget

from hemtra.core.arrays import FloatArray
from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import Judged
from hemtra.core.plan.series import Series, beyond, stretches
from hemtra.desktop import theme
from hemtra.desktop.model.bench import Bench, Shown
from hemtra.desktop.plan.signs import draw_balloon, told_value

LOW, TALL, FOOT = 30, 76, 20
"""Pixels of a strip, of the selected one, and of the scale below them."""
NAMES, VALUES = 176, 120
"""Pixels left of the strips for names, and right of them for values."""
PAGE = 10
"""Profiles by which a page key goes on."""


class Strips(QWidget):
    """Paints a strip a row; a click selects its row and goes to that profile."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.bench = bench
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Values along travel; arrow keys go from profile to profile")
        self.setMouseTracking(True)
        for changed in (bench.shown_changed, bench.selection_changed, bench.document.changed):
            changed.connect(self._changed)

    def _changed(self) -> None:
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def sizeHint(self) -> QSize:
        """As tall as its strips."""
        return QSize(400, FOOT + sum(self._height(row) for row in self.rows()))

    def rows(self) -> list[Characteristic]:
        """The rows that have a series, in balloon order."""
        shown = self.bench.shown
        if shown is None or shown.here is None:
            return []
        known = {c.balloon: c for c in self.bench.document.shown.sheet}
        return [known[balloon] for balloon in sorted(shown.result.series) if balloon in known]

    def _height(self, row: Characteristic) -> int:
        return TALL if row.balloon == self.bench.balloon else LOW

    def span_of(self, balloon: int | None) -> tuple[float, float] | None:
        """Top and height in pixels of a row's strip."""
        top = 0.0
        for row in self.rows():
            if row.balloon == balloon:
                return top, float(self._height(row))
            top += self._height(row)
        return None

    def _frame(self) -> tuple[float, float]:
        """Left and right end of the strips in pixels."""
        return float(NAMES), float(max(NAMES + 40, self.width() - VALUES))

    def pixel(self, index: float) -> float:
        """Where a profile stands."""
        left, right = self._frame()
        return left + (index + 0.5) / max(self._count(), 1) * (right - left)

    def index_at(self, x: float) -> int:
        """The profile at a pixel."""
        left, right = self._frame()
        count = self._count()
        return min(max(int((x - left) / (right - left) * count), 0), max(count - 1, 0))

    def _count(self) -> int:
        shown = self.bench.shown
        series = next(iter(shown.result.series.values()), None) if shown is not None else None
        return 0 if series is None else series.values.size

    def paintEvent(self, event: QPaintEvent) -> None:
        """The strips, the scale, and the profile looked at."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shown, rows = self.bench.shown, self.rows()
        if shown is None or not rows:
            painter.setPen(theme.colour("muted"))
            text = "The values along travel appear here; press N and click the profile for the first one."
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text if shown is not None else "")
            painter.end()
            return
        judged = {c.balloon: c for c in shown.result.characteristics}
        here = {c.balloon: c for c in shown.here.characteristics} if shown.here is not None else {}
        top = 0.0
        for row in rows:
            height = float(self._height(row))
            self._draw_strip(
                painter, row, shown.result.series[row.balloon], QRectF(0, top, self.width(), height)
            )
            self._draw_words(painter, row, judged[row.balloon], here.get(row.balloon), top, height)
            top += height
        self._draw_scale(painter, shown, top)
        painter.end()

    def _draw_strip(self, painter: QPainter, row: Characteristic, series: Series, box: QRectF) -> None:
        left, right = self._frame()
        frame = QRectF(left, box.top() + 3, right - left, box.height() - 6)
        selected = row.balloon == self.bench.balloon
        painter.setPen(QPen(theme.colour("copper" if selected else "line"), 1.2 if selected else 1.0))
        painter.setBrush(theme.colour("paper"))
        painter.drawRect(frame)
        low, high = shown_range(row, series.values)

        def level(value: float) -> float:
            return frame.bottom() - 2 - (value - low) / (high - low) * (frame.height() - 4)

        x = np.array([self.pixel(k) for k in (0, 1)])
        px = x[0] + np.arange(series.values.size) * (x[1] - x[0])
        within = QRectF(frame)
        if row.upper is not None:
            within.setTop(max(frame.top(), level(row.upper)))
        if row.lower is not None:
            within.setBottom(min(frame.bottom(), level(row.lower)))
        painter.fillRect(within, theme.colour("passed", 22))
        painter.setPen(QPen(theme.colour("passed", 150), 1.0))
        for limit in (row.upper, row.lower):
            if limit is not None:
                painter.drawLine(QPointF(frame.left(), level(limit)), QPointF(frame.right(), level(limit)))
        painter.setClipRect(frame)
        y = frame.bottom() - 2 - (series.values - low) / (high - low) * (frame.height() - 4)
        painter.setPen(QPen(theme.colour("ink"), 1.1))
        for first, last in stretches(series.measured):
            points = QPolygonF([QPointF(float(px[k]), float(y[k])) for k in range(first, last + 1)])
            painter.drawPolyline(points)
        self._draw_troubles(painter, row, series, px, frame)
        painter.setClipping(False)

    def _draw_troubles(
        self, painter: QPainter, row: Characteristic, series: Series, px: FloatArray, frame: QRectF
    ) -> None:
        """What is outside as a solid bar on top, what was not measured as a dashed one at the bottom."""
        half = (px[1] - px[0]) / 2 if px.size > 1 else 1.0
        out = beyond(np.nan_to_num(series.values), row.lower, row.upper) > 0
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("failed"))
        for first, last in stretches(out & series.measured):
            wide = max(float(px[last] - px[first] + 2 * half), 2.0)
            painter.drawRect(QRectF(float(px[first] - half), frame.top() + 1, wide, 4))
        pen = QPen(theme.colour("unmeasured"), 3)
        pen.setDashPattern([1.5, 1.0])
        painter.setPen(pen)
        for first, last in stretches(~series.measured):
            y = frame.bottom() - 3
            painter.drawLine(QPointF(float(px[first] - half), y), QPointF(float(px[last] + half) + 2, y))

    def _draw_words(
        self,
        painter: QPainter,
        row: Characteristic,
        judged: Judged,
        here: Judged | None,
        top: float,
        height: float,
    ) -> None:
        middle = top + height / 2
        draw_balloon(painter, QPointF(15, middle), str(row.balloon), judged.verdict, radius=10)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("ink"))
        name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, NAMES - 40)
        painter.drawText(QPointF(32, middle + 4), name)
        _, right = self._frame()
        tall = height > LOW
        painter.setPen(theme.verdict_colour(judged.verdict))
        painter.setFont(theme.font(13, bold=True))
        value = "—" if judged.value is None else told_value(judged, judged.decimals)
        painter.drawText(QPointF(right + 8, middle + (-10 if tall else 4)), value)
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(11))
        if tall:
            over = row.over or "each"
            asked = f"share in limits ≥ {row.least_share:g} %" if over == "share" else f"{over} of the profiles"
            painter.drawText(QPointF(right + 8, middle + 6), asked if over != "each" else "each profile")
            now = "not measured" if here is None or here.value is None else told_value(here, here.decimals)
            painter.drawText(QPointF(right + 8, middle + 22), f"here {now}")

    def _draw_scale(self, painter: QPainter, shown: Shown, top: float) -> None:
        series = next(iter(shown.result.series.values()))
        _, right = self._frame()
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("muted"))
        span = float(series.at[-1] - series.at[0]) or 1.0
        step = next(s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1e9) if span / s <= 10)
        first = int(np.ceil(series.at[0] / step))
        for k in range(first, int(series.at[-1] // step) + 1):
            at = (k * step - series.at[0]) / span * (series.values.size - 1)
            painter.drawText(
                QRectF(self.pixel(at) - 30, top + 2, 60, 16), Qt.AlignmentFlag.AlignCenter, f"{k * step:g}"
            )
        painter.drawText(QPointF(right + 8, top + 14), "mm along travel")
        if shown.index >= 0:
            x = self.pixel(shown.index)
            painter.setPen(QPen(theme.colour("copper"), 1.4))
            painter.drawLine(QPointF(x, 0), QPointF(x, top))
            painter.setBrush(theme.colour("copper"))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawPolygon(QPolygonF([QPointF(x - 5, top + 7), QPointF(x + 5, top + 7), QPointF(x, top)]))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the row under the pointer, and go to the profile there."""
        top = 0.0
        for row in self.rows():
            height = self._height(row)
            if top <= event.position().y() < top + height:
                if row.balloon != self.bench.balloon:
                    self.bench.select(row.balloon)
                break
            top += height
        self._go(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Go along while the button is held."""
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event.position().x())

    def _go(self, x: float) -> None:
        left, right = self._frame()
        if left - 4 <= x <= right + 4:
            self.bench.set_profile(self.index_at(x))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows go to the next profile, page keys ten on, Home and End to the ends."""
        shown = self.bench.shown
        index, last = (shown.index if shown is not None else 0), self._count() - 1
        key = Qt.Key
        wanted = {
            key.Key_Left: index - 1,
            key.Key_Right: index + 1,
            key.Key_PageUp: index - PAGE,
            key.Key_PageDown: index + PAGE,
            key.Key_Home: 0,
            key.Key_End: last,
        }.get(key(event.key()))
        if wanted is None or last < 0:
            super().keyPressEvent(event)
        else:
            self.bench.set_profile(min(max(wanted, 0), last))


class StripView(QScrollArea):
    """The strips, scrolled where there are many."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setWidgetResizable(True)
        self.strips = Strips(bench)
        self.setWidget(self.strips)
        self._revealed: int | None = None
        for changed in (bench.selection_changed, bench.shown_changed):
            changed.connect(self._reveal)

    def _reveal(self) -> None:
        """Scroll to the strip of the selected row, once it is there."""
        balloon = self.strips.bench.balloon
        span = self.strips.span_of(balloon)
        if span is not None and balloon != self._revealed:
            self._revealed = balloon
            top, height = span
            self.ensureVisible(0, round(top + height / 2), 0, round(height / 2) + 4)


def shown_range(row: Characteristic, values: FloatArray) -> tuple[float, float]:
    """The values a strip spans: its limits with room around them, and what was measured."""
    ends = [limit for limit in (row.lower, row.upper, row.nominal) if limit is not None]
    found = values[~np.isnan(values)]
    low, high = min([*ends, *found.tolist()]), max([*ends, *found.tolist()])
    room = 0.08 * (high - low) or 0.1
    return low - room, high + room
