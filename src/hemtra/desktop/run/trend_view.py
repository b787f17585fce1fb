"""Trend sparks: the values of the last parts against their limits, those nearest to a limit first."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QWidget

from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.desktop.models.run_bench import TREND, RunBench
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_balloon, draw_panel

COLUMNS, LEAST_HEIGHT = 4, 74
HEAD = 28.0


class TrendView(QWidget):
    """Paints as many sparks as have room."""

    def __init__(self, bench: RunBench) -> None:
        super().__init__()
        self.setMinimumHeight(int(HEAD) + LEAST_HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Trend of the last parts against the limits; Up and Down show the others")
        self.setToolTip(
            "Those that fail, or come nearest to their limits, come first; the wheel shows the others."
        )
        self._bench = bench
        self.first = 0
        """Number of characteristics skipped, to show the others."""
        bench.changed.connect(self.update)

    def _room(self) -> int:
        """Sparks that are shown at once."""
        return COLUMNS * max(1, int((self.height() - HEAD - 8) // LEAST_HEIGHT))

    def turn(self, by: int) -> None:
        """Show the next ones, or the ones before."""
        count, room = sum(bool(rows) for rows in self._bench.trends.values()), self._room()
        self.first = min(max(self.first + by * room, 0), max(0, (count - 1) // room * room))
        self.update()

    def wheelEvent(self, event: QWheelEvent) -> None:
        """The next ones, or the ones before."""
        if event.angleDelta().y():
            self.turn(-1 if event.angleDelta().y() > 0 else 1)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Up and Down do the same."""
        moves = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event.key() in moves:
            self.turn(moves[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        """One box per characteristic."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        draw_panel(painter, self)
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(13, bold=True))
        painter.drawText(14, 19, f"Trend of the last {TREND} parts against the limits")
        lines = self._room() // COLUMNS
        wide, tall = (self.width() - 24) / COLUMNS, (self.height() - HEAD - 8) / lines
        balloons = self._bench.rows_by_margin(self.first, self._room())
        count = sum(bool(rows) for rows in self._bench.trends.values())
        if count > self._room():
            painter.setPen(theme.colour("muted"))
            painter.setFont(theme.font(12))
            last = min(self.first + self._room(), count)
            hint = f"{self.first + 1} to {last} of {count}, closest to limits first"
            painter.drawText(QRectF(0, 5, self.width() - 14, 20), Qt.AlignmentFlag.AlignRight, hint)
        if not balloons:
            painter.setPen(theme.colour("muted"))
            painter.setFont(theme.font(13))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Each characteristic gets a line here.")
        for k, balloon in enumerate(balloons):
            row, column = divmod(k, COLUMNS)
            box = QRectF(12 + column * wide + 4, HEAD + row * tall + 4, wide - 8, tall - 8)
            self._draw_spark(painter, box, list(self._bench.trends[balloon]))
        painter.end()

    def _draw_spark(self, painter: QPainter, box: QRectF, rows: list[CharacteristicResult]) -> None:
        last = units.result(rows[-1])
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 5, 5)
        draw_balloon(painter, box.topLeft() + QPointF(16, 15), str(last.balloon), last.verdict, radius=9)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("ink"))
        name = painter.fontMetrics().elidedText(
            last.name, Qt.TextElideMode.ElideRight, round(box.width() - 110)
        )
        painter.drawText(box.topLeft() + QPointF(31, 19), name)
        painter.setFont(theme.font(13, bold=True))
        painter.setPen(
            theme.verdict_colour(last.verdict) if last.verdict is not Verdict.PASS else theme.colour("ink")
        )
        value = "–" if last.value is None else f"{round(last.value, last.decimals) + 0.0:.{last.decimals}f}"
        shown = last.text or units.signed(value)
        right = QRectF(box.right() - 78, box.top() + 5, 70, 20)
        painter.drawText(right, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, shown)
        _draw_curve(painter, box.adjusted(8, 30, -8, -6), rows)


def _draw_curve(painter: QPainter, box: QRectF, rows: list[CharacteristicResult]) -> None:
    """The limits as a band, values as a line broken where there are none, the last one outside as a diamond."""
    values = np.array([np.nan if row.value is None else row.value for row in rows])
    limits = [limit for limit in (rows[-1].lower, rows[-1].upper) if limit is not None]
    known = values[~np.isnan(values)]
    if not limits and not known.size:
        return
    low, high = min([*limits, *known.tolist()]), max([*limits, *known.tolist()])
    if len(limits) == 2:
        # a value far off must not flatten the rest
        reach = limits[1] - limits[0]
        low, high = max(low, limits[0] - 0.5 * reach), min(high, limits[1] + 0.5 * reach)
    room = 0.12 * (high - low) or 0.1
    low, high = low - room, high + room

    def level(value: float) -> float:
        share: float = (min(max(value, low), high) - low) / (high - low)
        return box.bottom() - share * box.height()

    band = QRectF(box)
    if rows[-1].upper is not None:
        band.setTop(level(rows[-1].upper))
    if rows[-1].lower is not None:
        band.setBottom(level(rows[-1].lower))
    painter.fillRect(band, theme.colour("passed", 26))
    pen = QPen(theme.colour("muted"), 1)
    pen.setDashPattern([3, 2])
    painter.setPen(pen)
    for limit in limits:
        painter.drawLine(QPointF(box.left(), level(limit)), QPointF(box.right(), level(limit)))
    step = box.width() / max(len(rows) - 1, 30)
    painter.setPen(QPen(theme.colour("ink"), 1))
    piece: list[QPointF] = []
    for k, value in enumerate([*values.tolist(), float("nan")]):
        if value == value:
            piece.append(QPointF(box.left() + k * step, level(value)))
        elif piece:
            painter.drawPolyline(QPolygonF(piece))
            painter.drawPoint(piece[0])
            piece = []
    painter.setPen(Qt.PenStyle.NoPen)
    for k, row in enumerate(rows):
        at = box.left() + k * step
        if row.verdict is Verdict.FAIL and row.value is not None:
            painter.setBrush(theme.colour("failed"))
            y = level(row.value)
            corners = ((0, -4), (4, 0), (0, 4), (-4, 0))
            painter.drawPolygon(QPolygonF([QPointF(at + dx, y + dy) for dx, dy in corners]))
        elif row.value is None:
            painter.setBrush(theme.colour("unmeasured"))
            painter.drawRect(QRectF(at - 1.5, box.bottom() - 3, 3, 3))
