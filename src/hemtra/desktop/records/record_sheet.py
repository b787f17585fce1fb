"""The sheet of a part as it was recorded."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter

from hemtra.core.plan.limits import CharacteristicResult, Verdict
from hemtra.desktop.records.painted_list import PaintedList, elided
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_balloon
from hemtra.storage.records.fields import numbers_in_words

ROW, TALL = 34, 50


class RecordSheet(PaintedList[CharacteristicResult]):
    """A click, or the arrow keys, show the evidence of a characteristic."""

    chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__("Sheet of the part as it was recorded")

    def show_part(self, rows: tuple[CharacteristicResult, ...]) -> None:
        """Show another part; the first row that does not pass is chosen."""
        bad = next((k for k, row in enumerate(rows) if row.verdict is not Verdict.PASS), 0)
        self.show_rows(rows, bad if rows else None)
        if rows:
            self.chosen.emit(rows[bad].balloon)

    def choose_balloon(self, balloon: int) -> None:
        """Choose the row of a balloon."""
        for k, row in enumerate(self.rows):
            if row.balloon == balloon:
                self.setCurrentIndex(self.held.index(k))

    def choose(self, row: CharacteristicResult) -> None:
        """Another row is chosen."""
        self.chosen.emit(row.balloon)

    def said(self, row: CharacteristicResult) -> str:
        """Name, value, verdict and reason, and what else was kept."""
        row = units.result(row)
        words = (
            f"{row.balloon} {row.name} {units.value(row, row.decimals)}, {row.verdict} {row.reason}".rstrip()
        )
        numbers = units.signed(numbers_in_words(row))
        return f"{words} ({numbers})" if numbers else words

    def tall(self, row: CharacteristicResult) -> int:
        """A reason takes a line more."""
        return TALL if row.reason else ROW

    def paint_row(self, painter: QPainter, row: CharacteristicResult, box: QRectF) -> None:
        """Balloon, name, value, limits, reason."""
        row = units.result(row)
        at = QPointF(box.left() + 22, box.top() + 17)
        draw_balloon(painter, at, str(row.balloon), row.verdict, radius=10)
        inner = QRectF(box.left() + 42, box.top() + 2, box.width() - 54, 30)
        painter.setFont(theme.font(13, bold=row.verdict is not Verdict.PASS))
        ink = theme.colour("ink") if row.verdict is Verdict.PASS else theme.verdict_colour(row.verdict)
        painter.setPen(ink)
        value = units.value(row, row.decimals)
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, value)
        room = inner.width() - painter.fontMetrics().horizontalAdvance(value) - 10
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(13))
        name = elided(painter, row.name, room)
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("muted"))
        limits = units.limits(row.lower, row.upper, row.decimals)
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, limits)
        if row.reason:
            painter.setPen(theme.verdict_colour(row.verdict))
            under = QRectF(inner.left(), inner.bottom() + 1, inner.width(), 15)
            words = elided(painter, row.reason, under.width())
            painter.drawText(under, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)
