"""Failures by balloon, the most frequent first."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter

from hemtra.desktop.models.records_bench import RecordsBench
from hemtra.desktop.records.painted_list import PaintedList, elided
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.symbols import draw_balloon
from hemtra.storage.records.trends import Failures

ROW = 26
NAMED, NUMBER, BAR = 36, 44, 24
"""Widths in pixels: before the name, of the number, and minimum of the bar."""


class FailureList(PaintedList[Failures]):
    """A click selects a characteristic; a double click or Enter lists the parts that do not pass it."""

    listed = Signal(int)

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__("Not passed, by balloon")
        self._bench = bench
        self.activated.connect(lambda index: self.listed.emit(self.rows[index.row()].balloon))
        bench.overview_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Show what the chosen lots hold."""
        rows = self._bench.overview.failures
        at = next((k for k, row in enumerate(rows) if row.balloon == self._bench.balloon), None)
        self.show_rows(rows, at)

    def choose(self, row: Failures) -> None:
        """Show another characteristic."""
        self._bench.look_at(row.balloon)

    def said(self, row: Failures) -> str:
        """Number of parts that do not pass."""
        missing = f", of these {row.missing} not measured" if row.missing else ""
        return f"{row.count} parts not passed, {row.balloon} {row.name}{missing}. A double click lists them."

    def tall(self, row: Failures) -> int:
        """All alike."""
        return ROW

    def paint_row(self, painter: QPainter, row: Failures, box: QRectF) -> None:
        """Balloon, name, bar and number."""
        at = QPointF(box.left() + 20, box.center().y())
        draw_balloon(painter, at, str(row.balloon), row.verdict, radius=9)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("ink" if row.count else "muted"))
        widest = max(painter.fontMetrics().horizontalAdvance(other.name) for other in self.rows) + 10
        room = min(widest, box.width() - NAMED - NUMBER - BAR)
        named = QRectF(box.left() + NAMED, box.top(), room, box.height())
        painter.drawText(named, Qt.AlignmentFlag.AlignVCenter, elided(painter, row.name, named.width()))
        if not row.count:
            return
        peak = max(other.count for other in self.rows)
        long = (box.right() - named.right() - NUMBER) * row.count / peak
        bar = QRectF(named.right(), box.center().y() - 4, long, 8)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("failed"))
        painter.drawRect(bar)
        painter.setBrush(theme.colour("unmeasured"))
        wide = bar.width() * row.missing / row.count
        painter.drawRect(QRectF(bar.right() - wide, bar.top(), wide, bar.height()))
        painter.setPen(theme.colour("ink"))
        after = QRectF(bar.right() + 6, box.top(), NUMBER, box.height())
        painter.drawText(after, Qt.AlignmentFlag.AlignVCenter, f"{row.count:,}".replace(",", " "))
