"""What did not pass, by balloon, the most frequent first."""

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

from hemtra.core.plan.limits import Verdict
from hemtra.desktop import theme
from hemtra.desktop.model.records_bench import RecordsBench
from hemtra.desktop.plan.signs import draw_balloon
from hemtra.storage.records.trends import Failures

ROW = 26
NAMED = 146
"""Pixels for balloon and name."""
Index = QModelIndex | QPersistentModelIndex


class FailureModel(QAbstractListModel):
    """Every characteristic, with how many parts do not pass it."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: tuple[Failures, ...] = ()

    def fill(self, rows: tuple[Failures, ...]) -> None:
        """Take other rows."""
        if rows != self.rows:
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Characteristics."""
        return 0 if parent.isValid() else len(self.rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """What is read aloud of a row; it paints itself."""
        row = self.rows[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return f"{row.balloon} {row.name}, {row.count} parts do not pass"
        if role == Qt.ItemDataRole.ToolTipRole:
            missing = f", of these {row.missing} not measured" if row.missing else ""
            return (
                f"{row.count} parts do not pass {row.balloon} {row.name}{missing}. A double click lists them."
            )
        return None


class FailureList(QListView):
    """A click looks at a characteristic; a double click or Enter lists the parts that do not pass it."""

    listed = Signal(int)

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self.setAccessibleName("What did not pass, by balloon")
        self.setObjectName("plainList")
        self.setFrameShape(QListView.Shape.NoFrame)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._bench, self._filling = bench, False
        self.failures = FailureModel()
        self.setModel(self.failures)
        self.setItemDelegate(_FailureDelegate(self.failures))
        self.activated.connect(lambda index: self.listed.emit(self.failures.rows[index.row()].balloon))
        bench.overview_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Show what the chosen lots hold."""
        self._filling = True
        self.failures.fill(self._bench.overview.failures)
        for row, failure in enumerate(self.failures.rows):
            if failure.balloon == self._bench.balloon:
                self.setCurrentIndex(self.failures.index(row))
        self._filling = False

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        """Look at another characteristic."""
        super().selectionChanged(selected, deselected)
        indexes = selected.indexes()
        if indexes and not self._filling:
            self._bench.look_at(self.failures.rows[indexes[0].row()].balloon)


class _FailureDelegate(QStyledItemDelegate):
    def __init__(self, failures: FailureModel) -> None:
        super().__init__(failures)
        self._failures = failures

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        """All alike."""
        return QSize(100, ROW)

    def paint(self, painter: QPainter, option: Any, index: Index) -> None:
        """Balloon, name, bar and number."""
        row, box = self._failures.rows[index.row()], QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("copper_wash"))
            painter.drawRoundedRect(box.adjusted(4, 1, -4, -1), 4, 4)
        verdict = Verdict.FAIL if row.count > row.missing else Verdict.NOT_MEASURED
        shown = verdict if row.count else Verdict.PASS
        draw_balloon(painter, QPointF(box.left() + 20, box.center().y()), str(row.balloon), shown, radius=9)
        painter.setFont(theme.font(12))
        painter.setPen(theme.colour("ink" if row.count else "muted"))
        named = QRectF(box.left() + 36, box.top(), NAMED - 40, box.height())
        name = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, int(named.width()))
        painter.drawText(named, Qt.AlignmentFlag.AlignVCenter, name)
        if row.count:
            room = box.width() - NAMED - 58
            peak = max(other.count for other in self._failures.rows)
            bar = QRectF(box.left() + NAMED, box.center().y() - 4, room * row.count / peak, 8)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("failed"))
            painter.drawRect(bar)
            painter.setBrush(theme.colour("unmeasured"))
            wide = bar.width() * row.missing / row.count
            painter.drawRect(QRectF(bar.right() - wide, bar.top(), wide, bar.height()))
            painter.setPen(theme.colour("ink"))
            after = QRectF(bar.right() + 6, box.top(), 54, box.height())
            painter.drawText(after, Qt.AlignmentFlag.AlignVCenter, f"{row.count:,}".replace(",", " "))
        painter.restore()
