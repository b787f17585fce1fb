"""The lots, by plan, each with its yield."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import (
    QAbstractListModel,
    QItemSelection,
    QModelIndex,
    QPersistentModelIndex,
    QRectF,
    QSize,
    Qt,
)
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QAbstractItemView, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from hemtra.desktop import theme
from hemtra.desktop.model.records_bench import Group, RecordsBench
from hemtra.storage.records.pages import LotView
from hemtra.storage.records.store import Counts

ROW = 44
Index = QModelIndex | QPersistentModelIndex


class LotModel(QAbstractListModel):
    """A row for all lots of a plan, and one for each of them."""

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self.rows: list[Group | LotView] = []
        self._bench = bench

    def fill(self) -> None:
        """Take the lots of the bench."""
        rows: list[Group | LotView] = []
        for group in self._bench.groups:
            rows += [group, *group.lots]
        if rows != self.rows:
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Rows of the list."""
        return 0 if parent.isValid() else len(self.rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """What is read aloud of a row; it paints itself."""
        row = self.rows[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            name = f"all lots of {row.plan}" if isinstance(row, Group) else row.lot.name
            return f"{name}, {row.counts.all} parts, {row.counts.failed} fail"
        return None

    def keys_of(self, index: int) -> tuple[int, ...]:
        """The lots that a row stands for."""
        row = self.rows[index]
        return tuple(v.lot.id for v in row.lots) if isinstance(row, Group) else (row.lot.id,)


class LotList(QListView):
    """A click, or the arrow keys, choose a lot or all lots of a plan."""

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self.setAccessibleName("Lots")
        self.setFrameShape(QListView.Shape.NoFrame)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setObjectName("plainList")
        self._bench, self._filling = bench, False
        self.lots = LotModel(bench)
        self.setModel(self.lots)
        self.setItemDelegate(_LotDelegate(self.lots))
        bench.lots_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Show the lots, and which of them are chosen."""
        self._filling = True
        self.lots.fill()
        for row in range(self.lots.rowCount()):
            if self.lots.keys_of(row) == self._bench.chosen:
                self.setCurrentIndex(self.lots.index(row))
                break
        self._filling = False

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        """Another row is chosen."""
        super().selectionChanged(selected, deselected)
        indexes = selected.indexes()
        if indexes and not self._filling:
            self._bench.choose(self.lots.keys_of(indexes[0].row()))


class _LotDelegate(QStyledItemDelegate):
    def __init__(self, lots: LotModel) -> None:
        super().__init__(lots)
        self._lots = lots

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        """All alike."""
        return QSize(100, ROW)

    def paint(self, painter: QPainter, option: Any, index: Index) -> None:
        """Name, number of parts, when, and the yield as a bar."""
        row, box = self._lots.rows[index.row()], QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("copper_wash"))
            painter.drawRoundedRect(box.adjusted(4, 1, -4, -1), 4, 4)
        inner = box.adjusted(12 if isinstance(row, Group) else 20, 5, -12, -6)
        head = isinstance(row, Group)
        name = f"All {len(row.lots)} lots" if isinstance(row, Group) else row.lot.name
        painter.setFont(theme.font(13, bold=head))
        painter.setPen(theme.colour("ink"))
        number = f"{row.counts.all:,}".replace(",", " ")
        room = inner.width() - painter.fontMetrics().horizontalAdvance(number) - 8
        painter.drawText(
            inner,
            Qt.AlignmentFlag.AlignLeft,
            painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, int(room)),
        )
        painter.setPen(theme.colour("muted"))
        painter.drawText(inner, Qt.AlignmentFlag.AlignRight, number)
        painter.setFont(theme.font(11))
        told = row.plan if isinstance(row, Group) else _when(row)
        painter.drawText(inner.adjusted(0, 17, 0, 0), Qt.AlignmentFlag.AlignLeft, told)
        share = "" if row.counts.share is None else f"{100 * row.counts.share:.1f} %"
        painter.drawText(inner.adjusted(0, 17, 0, 0), Qt.AlignmentFlag.AlignRight, share)
        bar = QRectF(inner.left(), inner.bottom() - 1, inner.width(), 3)
        draw_yield(painter, bar, row.counts)
        painter.restore()


def _when(view: LotView) -> str:
    began = time.strftime("%Y-%m-%d %H:%M", time.localtime(view.lot.started))
    return began if view.lot.ended else f"{began} · open"


def draw_yield(painter: QPainter, box: QRectF, counts: Counts) -> None:
    """How many pass, fail and are not measured, as a bar."""
    painter.setPen(Qt.PenStyle.NoPen)
    left, total = box.left(), max(counts.all, 1)
    for number, name in ((counts.passed, "passed"), (counts.failed, "failed"), (counts.missing, "unmeasured")):
        wide = box.width() * number / total
        if number:
            painter.setBrush(theme.colour(name, 150 if name == "passed" else 255))
            painter.drawRect(QRectF(left, box.top(), max(wide, 2.0), box.height()))
        left += wide
    if not counts.all:
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(box.topLeft(), box.topRight())
