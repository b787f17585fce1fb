"""The sheet of a part as it was recorded; what it gives again stands beside what differs."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import (
    QAbstractListModel,
    QItemSelection,
    QModelIndex,
    QPersistentModelIndex,
    QPointF,
    QRectF,
    QSize,
    Qt,
    Signal,
)
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractItemView, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from hemtra.core.plan.limits import Judged, Verdict
from hemtra.desktop import theme
from hemtra.desktop.plan.signs import draw_balloon, told_value

ROW, TALL = 34, 50
Index = QModelIndex | QPersistentModelIndex


class RowModel(QAbstractListModel):
    """The rows of a sheet."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: tuple[Judged, ...] = ()

    def fill(self, rows: tuple[Judged, ...]) -> None:
        """Take the rows of another part."""
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Characteristics."""
        return 0 if parent.isValid() else len(self.rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """What is read aloud of a row; it paints itself."""
        row = self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            told = f"{row.balloon} {row.name} {told_value(row, row.decimals)}, {row.verdict} {row.reason}"
            return told.rstrip()
        return None


class RecordSheet(QListView):
    """A click, or the arrow keys, show the evidence of a characteristic."""

    chosen = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Sheet of the part as it was recorded")
        self.setObjectName("plainList")
        self.setFrameShape(QListView.Shape.NoFrame)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rows = RowModel()
        self.setModel(self.rows)
        self.setItemDelegate(_RowDelegate(self.rows))

    def show_rows(self, rows: tuple[Judged, ...]) -> None:
        """Show another part; the first row that does not pass is chosen."""
        self.rows.fill(rows)
        bad = next((k for k, row in enumerate(rows) if row.verdict is not Verdict.PASS), 0)
        if rows:
            self.setCurrentIndex(self.rows.index(bad))

    def choose(self, balloon: int) -> None:
        """Choose the row of a balloon."""
        for k, row in enumerate(self.rows.rows):
            if row.balloon == balloon:
                self.setCurrentIndex(self.rows.index(k))

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        """Another row is chosen."""
        super().selectionChanged(selected, deselected)
        indexes = selected.indexes()
        if indexes:
            self.chosen.emit(self.rows.rows[indexes[0].row()].balloon)


class _RowDelegate(QStyledItemDelegate):
    def __init__(self, rows: RowModel) -> None:
        super().__init__(rows)
        self._rows = rows

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        """A reason takes a line more."""
        return QSize(100, TALL if self._rows.rows[index.row()].reason else ROW)

    def paint(self, painter: QPainter, option: Any, index: Index) -> None:
        """Balloon, name, value, limits, reason."""
        row, box = self._rows.rows[index.row()], QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("copper_wash"))
            painter.drawRoundedRect(box.adjusted(4, 1, -4, -1), 4, 4)
        draw_balloon(
            painter, QPointF(box.left() + 22, box.top() + 17), str(row.balloon), row.verdict, radius=10
        )
        inner = QRectF(box.left() + 42, box.top() + 2, box.width() - 54, 30)
        painter.setFont(theme.font(13, bold=row.verdict is not Verdict.PASS))
        ink = theme.colour("ink") if row.verdict is Verdict.PASS else theme.verdict_colour(row.verdict)
        painter.setPen(ink)
        value = told_value(row, row.decimals)
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop, value)
        room = inner.width() - painter.fontMetrics().horizontalAdvance(value) - 10
        painter.setPen(theme.colour("ink"))
        painter.setFont(theme.font(13))
        name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, round(room))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, name)
        painter.setFont(theme.font(11))
        painter.setPen(theme.colour("muted"))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, _limits(row))
        if row.reason:
            painter.setPen(theme.verdict_colour(row.verdict))
            under = QRectF(inner.left(), inner.bottom() + 1, inner.width(), 15)
            words = painter.fontMetrics().elidedText(
                row.reason, Qt.TextElideMode.ElideRight, round(under.width())
            )
            painter.drawText(under, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()


def _limits(row: Judged) -> str:
    ends = ["" if limit is None else f"{limit:.{row.decimals}f}" for limit in (row.lower, row.upper)]
    if not ends[0]:
        return f"≤ {ends[1]}"
    return f"{ends[0]} … {ends[1]}" if ends[1] else f"≥ {ends[0]}"
