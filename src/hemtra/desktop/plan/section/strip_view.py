"""The strips: each characteristic's value along travel or along a path, with its limits and what fails."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import (
    QBrush,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from hemtra.core.arrays import FloatArray
from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.series import Series, beyond, stretches
from hemtra.desktop.models.bench import Shown, WorkspaceModel
from hemtra.desktop.models.strips import (
    looked_at,
    missing_parts,
    parts_of,
    strip_rows,
    strip_span,
    value_here,
)
from hemtra.desktop.plan.section.stretch_list import StretchList
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.curves import draw_curve
from hemtra.desktop.widgets.symbols import draw_balloon

LOW, TALL, FOOT = 30, 76, 20
"""Heights of a strip, of the selected one, and of the scale below them, pixels."""
NAME_LEFT = 32
"""Width of the balloon beside the name, pixels."""
NAMES_SHARE = 0.3
"""Share of the width for names; where they need more, only the balloon is shown."""
LEAST = 60
"""Minimum height of a strip, pixels."""
ALONG_TRAVEL = "mm along travel"
PAGE = 10
"""Profiles by which a page key moves."""
STEPS = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 1e9)
"""Distance between numbers of the scale, mm."""


class Strips(QWidget):
    """Paints a strip a row; a click selects its row and goes to that profile or place of the path."""

    def __init__(self, bench: WorkspaceModel) -> None:
        super().__init__()
        self.bench = bench
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Values along travel or a path; arrow keys go from one to the next")
        self.setMouseTracking(True)
        self._pinned: float | None = None
        """Position along the path to return to when the pointer leaves, mm."""
        self._hovering = False
        self._ends = float(NAME_LEFT), NAME_LEFT + 40.0
        """Left and right end of the strips in pixels."""
        for changed in (bench.shown_changed, bench.selection_changed, bench.document.changed):
            changed.connect(self._changed)

    def _changed(self) -> None:
        self.setFixedHeight(self.sizeHint().height())
        self._ends = self._measure()
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """The strips take what names and values leave."""
        self._ends = self._measure()

    def sizeHint(self) -> QSize:
        """Height of its strips."""
        return QSize(400, FOOT + sum(self._height(row) for row in self.rows()))

    def rows(self) -> list[Characteristic]:
        """The rows that have a strip, in balloon order."""
        return strip_rows(self.bench)

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

    def _measure(self) -> tuple[float, float]:
        """Names stand beside the strips where there is room, what was measured right of them."""
        rows, shown = self.rows(), self.bench.shown
        names, small = QFontMetrics(theme.font(12)), QFontMetrics(theme.font(11))
        values = QFontMetrics(theme.font(13, bold=True))
        evaluated = {c.balloon: c for c in shown.result.characteristics} if shown is not None else {}
        wide = NAME_LEFT + 8 + max((names.horizontalAdvance(row.name) for row in rows), default=0)
        left = wide if wide <= NAMES_SHARE * self.width() else NAME_LEFT
        said = [
            values.horizontalAdvance(_value_text(evaluated[r.balloon])) for r in rows if r.balloon in evaluated
        ]
        said += [small.horizontalAdvance(_asked(r, self.bench)) for r in rows if self._height(r) > LOW]
        said.append(small.horizontalAdvance(ALONG_TRAVEL))
        self.setMinimumWidth(NAME_LEFT + LEAST + max(said) + 14)
        return float(left), float(max(left + LEAST, self.width() - max(said) - 14))

    def pixel_at(self, at: float) -> float:
        """Position of a place, mm along."""
        (left, right), (first, last) = self._ends, strip_span(self.bench)
        return left + (at - first) / (last - first) * (right - left)

    def place_at(self, x: float) -> float:
        """Position at a pixel, mm."""
        (left, right), (first, last) = self._ends, strip_span(self.bench)
        return min(max(first + (x - left) / (right - left) * (last - first), first), last)

    def pixel(self, index: float) -> float:
        """Position of a profile."""
        left, right = self._ends
        return left + (index + 0.5) / max(self._count(), 1) * (right - left)

    def index_at(self, x: float) -> int:
        """The profile at a pixel."""
        left, right = self._ends
        count = self._count()
        return min(max(int((x - left) / (right - left) * count), 0), max(count - 1, 0))

    def _count(self) -> int:
        shown = self.bench.shown
        if shown is not None and shown.along is not None:
            return shown.along.at.size
        series = next(iter(shown.result.series.values()), None) if shown is not None else None
        return 0 if series is None else series.values.size

    def paintEvent(self, event: QPaintEvent) -> None:
        """The strips, the scale, and the profile shown."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shown, rows = self.bench.shown, self.rows()
        if shown is None or not rows:
            painter.setPen(theme.colour("muted"))
            text = "The values along it appear here; press N to add a characteristic."
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, text if shown is not None else "")
            painter.end()
            return
        evaluated = {c.balloon: c for c in shown.result.characteristics}
        top = 0.0
        for row in rows:
            height = float(self._height(row))
            self._draw_strip(
                painter, row, shown.result.series[row.balloon], QRectF(0, top, self.width(), height)
            )
            self._draw_words(painter, row, evaluated[row.balloon], value_here(shown, row), top, height)
            top += height
        self._draw_scale(painter, shown, top)
        painter.end()

    def _draw_strip(self, painter: QPainter, row: Characteristic, series: Series, box: QRectF) -> None:
        left, right = self._ends
        frame = QRectF(left, box.top() + 3, right - left, box.height() - 6)
        selected = row.balloon == self.bench.balloon
        painter.setPen(QPen(theme.colour("copper" if selected else "line"), 1.2 if selected else 1.0))
        painter.setBrush(theme.colour("paper"))
        painter.drawRect(frame)
        low, high = shown_range(row, series.values)

        def level(value: float) -> float:
            return frame.bottom() - 2 - (value - low) / (high - low) * (frame.height() - 4)

        px = self._pixels(series)
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
        self._draw_missing(painter, frame)
        for first, last in parts_of(series):
            draw_curve(painter, px[first : last + 1], y[first : last + 1], QPen(theme.colour("ink"), 1))
        self._draw_troubles(painter, row, series, px, frame)
        painter.setClipping(False)

    def _pixels(self, series: Series) -> FloatArray:
        """(n,) where each value stands."""
        (left, right), (first, last) = self._ends, strip_span(self.bench)
        pixels: FloatArray = left + (series.at - first) / (last - first) * (right - left)
        return pixels

    def _draw_missing(self, painter: QPainter, frame: QRectF) -> None:
        """Hatch the stretches with nothing along the path."""
        along = self.bench.shown.along if self.bench.shown is not None else None
        if along is None:
            return
        for start, length, reason in missing_parts(along):
            absent = reason == along.reasons.get(1)
            painter.setPen(Qt.PenStyle.NoPen)
            pattern = Qt.BrushStyle.BDiagPattern if absent else Qt.BrushStyle.Dense6Pattern
            brush = theme.colour("failed" if absent else "unmeasured", 190)
            painter.setBrush(QBrush(brush, pattern))
            wide = max(self.pixel_at(start + length) - self.pixel_at(start), 3.0)
            for begun in (start, start + along.path.curve.length) if start < 0.0 else (start,):
                painter.drawRect(QRectF(self.pixel_at(begun), frame.top(), wide, frame.height()))

    def _draw_troubles(
        self, painter: QPainter, row: Characteristic, series: Series, px: FloatArray, frame: QRectF
    ) -> None:
        """Mark values out of limits by a solid bar on top, and missing ones by a dashed bar at the bottom."""
        half = float(np.median(np.diff(px))) / 2 if px.size > 1 else 1.0
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
        evaluated: CharacteristicResult,
        here: float | None,
        top: float,
        height: float,
    ) -> None:
        middle = top + height / 2
        draw_balloon(painter, QPointF(15, middle), str(row.balloon), evaluated.verdict, radius=10)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("ink"))
        left, right = self._ends
        if left > NAME_LEFT:
            painter.drawText(QPointF(NAME_LEFT, middle + 4), row.name)
        tall = height > LOW
        painter.setPen(theme.verdict_colour(evaluated.verdict))
        painter.setFont(theme.font(13, bold=True))
        shown, mm = units.result(evaluated), units.current().factor(evaluated.unit)
        painter.drawText(QPointF(right + 8, middle + (-10 if tall else 4)), _value_text(shown))
        painter.setPen(theme.colour("muted"))
        painter.setFont(theme.font(11))
        if tall:
            painter.drawText(QPointF(right + 8, middle + 6), _asked(row, self.bench))
            now = "not measured"
            if here is not None:
                now = units.signed(f"{round(here / mm, shown.decimals) + 0.0:.{shown.decimals}f}")
            painter.drawText(QPointF(right + 8, middle + 22), f"here {now}")

    def _draw_scale(self, painter: QPainter, shown: Shown, top: float) -> None:
        mm = units.current().mm
        first, last = (end / mm for end in strip_span(self.bench))
        left, right = self._ends
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("muted"))
        most = max((right - left) / 50.0, 2.0)
        step = next(s for s in STEPS if (last - first) / s <= min(most, 10.0))
        for k in range(math.ceil(first / step), int(last // step) + 1):
            box = QRectF(self.pixel_at(k * step * mm) - 30, top + 2, 60, 16)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, units.field(k * step))
        name = units.current().name
        along = f"{name} along travel" if shown.along is None else f"{name} along"
        painter.drawText(QPointF(right + 8, top + 14), along)
        at = looked_at(shown)
        if at is not None:
            x = self.pixel_at(at)
            painter.setPen(QPen(theme.colour("copper"), 1.4))
            painter.drawLine(QPointF(x, 0), QPointF(x, top))
            painter.setBrush(theme.colour("copper"))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawPolygon(QPolygonF([QPointF(x - 5, top + 7), QPointF(x + 5, top + 7), QPointF(x, top)]))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Select the row under the pointer, and go to the place there."""
        top = 0.0
        for row in self.rows():
            height = self._height(row)
            if top <= event.position().y() < top + height:
                if row.balloon != self.bench.balloon:
                    self.bench.select(row.balloon)
                break
            top += height
        self._go(event.position().x(), pin=True)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Go along while the button is held; along a path also while it is not."""
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._go(event.position().x(), pin=True)
        elif self.bench.shown_along:
            self._go(event.position().x(), pin=False)

    def leaveEvent(self, event: QEvent) -> None:
        """Back to where was clicked."""
        if self._hovering:
            self._hovering = False
            self.bench.set_distance(self._pinned)

    def _go(self, x: float, *, pin: bool) -> None:
        left, right = self._ends
        if not left - 4 <= x <= right + 4:
            return
        if not self.bench.shown_along:
            self.bench.set_profile(self.index_at(x))
            return
        if not pin and not self._hovering:
            self._pinned = self.bench.distance
        self._hovering = not pin
        if pin:
            self._pinned = self.place_at(x)
        self.bench.set_distance(self.place_at(x))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Arrows go to the next profile or section, page keys ten on, Home and End to the ends."""
        shown = self.bench.shown
        last = self._count() - 1
        along = shown.along if shown is not None else None
        index = shown.index if shown is not None else 0
        if along is not None and shown is not None and shown.at is not None:
            index = int(np.argmin(np.abs(along.at - shown.at)))
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
        elif along is not None:
            self.bench.set_distance(float(along.at[min(max(wanted, 0), last)]))
        else:
            self.bench.set_profile(min(max(wanted, 0), last))


class StripView(QWidget):
    """The strips, scrolled where there are many, and below them the stretches that fail."""

    def __init__(self, bench: WorkspaceModel) -> None:
        super().__init__()
        self.strips, self.stretches = Strips(bench), StretchList(bench)
        self._scroll = QScrollArea()
        self._scroll.setObjectName("panel")
        self._scroll.setWidgetResizable(True)
        self._scroll.setWidget(self.strips)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self._scroll, 1)
        layout.addWidget(self.stretches)
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
            self._scroll.ensureVisible(0, round(top + height / 2), 0, round(height / 2) + 4)


def _value_text(evaluated: CharacteristicResult) -> str:
    return "–" if evaluated.value is None else units.value(evaluated, evaluated.decimals)


def _asked(row: Characteristic, bench: WorkspaceModel) -> str:
    """Describe the values that a row evaluates, in a few words."""
    over, what = row.over or "each", "section" if bench.shown_along else "profile"
    if over == "share":
        return f"share in limits ≥ {units.field(row.least_share)} %"
    return f"each {what}" if over == "each" else f"{over} of the {what}s"


def shown_range(row: Characteristic, values: FloatArray) -> tuple[float, float]:
    """The values a strip spans: its limits with room around them, and what was measured."""
    ends = [limit for limit in (row.lower, row.upper, row.nominal) if limit is not None]
    found = values[~np.isnan(values)]
    low, high = min([*ends, *found.tolist()]), max([*ends, *found.tolist()])
    room = 0.08 * (high - low) or 0.1
    return low - room, high + room
