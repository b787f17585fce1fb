"""The verdict, readable from across a room, with the part's number and the reasons in words."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.desktop.models.run_bench import RunBench
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_balloon

MOST_REASONS = 4
ROW = 34.0
"""Pixels of a reason."""
REASON = (17, 15, 13, 12)
"""Size of its words: the largest in which they fit."""
IDLE = {
    "idle": "Start the line, and the verdict of each part appears here.",
    "starting": "The line is getting ready …",
    "running": "Waiting for the first part …",
    "paused": "Paused.",
    "stopping": "Finishing what was taken …",
}


class VerdictView(QWidget):
    """Paints the verdict of the part that is shown."""

    def __init__(self, bench: RunBench) -> None:
        super().__init__()
        self.setMinimumSize(300, 260)
        self._bench = bench
        bench.changed.connect(self._changed)
        self._changed()

    @property
    def _scale(self) -> float:
        """Scale against the main window, for reading from farther away."""
        return max(1.0, min(self.width() / 520.0, self.height() / 420.0))

    def _changed(self) -> None:
        shown = self._bench.shown
        self.setAccessibleName(
            IDLE[self._bench.state]
            if shown is None
            else f"Part {shown.record.number}: {shown.record.verdict}. {shown.record.reason}"
        )
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Sign, word, number, reasons."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shown = self._bench.shown
        box = QRectF(self.rect())
        painter.setPen(Qt.PenStyle.NoPen)
        if shown is None:
            painter.setBrush(theme.colour("paper"))
            painter.drawRoundedRect(box, 6, 6)
            painter.setPen(theme.colour("muted"))
            painter.setFont(theme.font(18))
            words = self._bench.trouble or IDLE[self._bench.state]
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(box.adjusted(24, 24, -24, -24), flags, words)
            painter.end()
            return
        verdict = shown.record.verdict
        painter.setBrush(theme.verdict_colour(verdict))
        painter.drawRoundedRect(box, 6, 6)
        bad = [row for row in shown.found.rows if row.verdict is not Verdict.PASS]
        lines = min(len(bad), MOST_REASONS) + (len(bad) > MOST_REASONS)
        if shown.found.trouble:
            lines = 3
        foot = lines * ROW * self._scale + 28 if lines else 0.0
        upper = box.adjusted(16, 14, -16, -(foot + 46 * self._scale))
        self._draw_word(painter, upper, verdict)
        painter.setPen(theme.colour("paper"))
        painter.setFont(theme.font(round(17 * self._scale)))
        serial = f"   ·   {shown.record.serial}" if shown.record.serial else ""
        held = "held   ·   " if self._bench.is_held else ""
        number = QRectF(box.left(), upper.bottom() + 6, box.width(), 30 * self._scale)
        painter.drawText(number, Qt.AlignmentFlag.AlignCenter, f"{held}part {shown.record.number}{serial}")
        if lines:
            self._draw_reasons(painter, QRectF(14, box.bottom() - foot - 2, box.width() - 28, foot - 12), bad)
        painter.end()

    def _draw_word(self, painter: QPainter, box: QRectF, verdict: Verdict) -> None:
        word = str(verdict)
        size = 12
        for pixels in range(12, round(220 * self._scale), 4):
            metrics = QFontMetricsF(_heavy(pixels))
            if metrics.horizontalAdvance(word) > box.width() or metrics.height() > 0.62 * box.height():
                break
            size = pixels
        tall = QFontMetricsF(_heavy(size)).height()
        sign = max(min((box.height() - tall) / 2 - 4, box.width() / 4), 10.0)
        centre = QPointF(box.center().x(), box.top() + sign + (box.height() - tall - 2 * sign) / 2)
        _draw_sign(painter, centre, sign, verdict)
        painter.setFont(_heavy(size))
        painter.setPen(theme.colour("paper"))
        word_box = QRectF(box.left(), box.bottom() - tall, box.width(), tall)
        painter.drawText(word_box, Qt.AlignmentFlag.AlignCenter, word)

    def _draw_reasons(self, painter: QPainter, box: QRectF, bad: list[CharacteristicResult]) -> None:
        shown = self._bench.shown
        assert shown is not None
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("ink", 60))
        painter.drawRoundedRect(box, 5, 5)
        if shown.found.trouble:
            painter.setPen(theme.colour("paper"))
            painter.setFont(theme.font(round(16 * self._scale), bold=True))
            flags = Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(box.adjusted(14, 4, -14, -4), flags, shown.found.trouble)
            return
        scale, row_height = self._scale, ROW * self._scale
        for k, row in enumerate(bad[:MOST_REASONS]):
            middle = box.top() + 8 + (k + 0.5) * row_height
            at = QPointF(box.left() + 24 * scale, middle)
            draw_balloon(painter, at, str(row.balloon), row.verdict, radius=12 * scale)
            painter.setPen(theme.colour("paper"))
            left = box.left() + 48 * scale
            line = QRectF(left, middle - row_height / 2, box.right() - 8 - left, row_height)
            words = f"{row.name} {units.result(row).reason}"
            for pixels in REASON:
                painter.setFont(theme.font(round(pixels * scale), bold=True))
                if painter.fontMetrics().horizontalAdvance(words) <= line.width():
                    break
            words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(line.width()))
            painter.drawText(line, Qt.AlignmentFlag.AlignVCenter, words)
        if len(bad) > MOST_REASONS:
            painter.setFont(theme.font(round(15 * scale)))
            at = QPointF(box.left() + 48 * scale, box.top() + 8 + (MOST_REASONS + 0.6) * row_height)
            painter.drawText(at, f"and {len(bad) - MOST_REASONS} more")


def _heavy(pixels: int) -> QFont:
    return theme.font(pixels, bold=True)


def _draw_sign(painter: QPainter, centre: QPointF, radius: float, verdict: Verdict) -> None:
    """A circle with a tick, a diamond with a cross, or a dashed circle with a bar."""
    pen = QPen(theme.colour("paper"), max(radius / 7, 3.0))
    pen.setCapStyle(Qt.PenCapStyle.FlatCap)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    arm = radius * 0.38
    if verdict is Verdict.FAIL:
        painter.setPen(pen)
        corners = ((0, -radius), (radius, 0), (0, radius), (-radius, 0))
        painter.drawPolygon(QPolygonF([centre + QPointF(x, y) for x, y in corners]))
        painter.drawLine(centre + QPointF(-arm / 2, -arm / 2), centre + QPointF(arm / 2, arm / 2))
        painter.drawLine(centre + QPointF(-arm / 2, arm / 2), centre + QPointF(arm / 2, -arm / 2))
        return
    if verdict is Verdict.PASS:
        painter.setPen(pen)
        painter.drawEllipse(centre, radius * 0.9, radius * 0.9)
        tick = ((-arm, 0.0), (-arm * 0.2, arm * 0.75), (arm, -arm * 0.7))
        painter.drawPolyline(QPolygonF([centre + QPointF(x, y) for x, y in tick]))
        return
    dashed = QPen(pen)
    dashed.setDashPattern([2.2, 1.4])
    painter.setPen(dashed)
    painter.drawEllipse(centre, radius * 0.9, radius * 0.9)
    painter.setPen(pen)
    painter.drawLine(centre - QPointF(arm, 0), centre + QPointF(arm, 0))
