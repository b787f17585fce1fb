"""The parts that are wanted, newest first; more come when the end of the list is reached."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QStyle, QStyledItemDelegate, QTableView

from hemtra.core.units import MM
from hemtra.desktop.models.records_bench import RecordsBench
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.symbols import draw_balloon
from hemtra.storage.records.store import PartRecord

HEADS = ("part", "lot", "serial", "scanned", "verdict", "limiting characteristic", "scan")
WIDTHS = (56, 116, 96, 164, 128, 300, 52)
PART, LOT, SERIAL, SCANNED, VERDICT, REASON, SCAN = range(len(HEADS))
RIGHT = (PART,)
ROW = 24
Index = QModelIndex | QPersistentModelIndex


class PartModel(QAbstractTableModel):
    """The pages that have come so far."""

    more_wanted = Signal()

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self._bench = bench
        self._parts: list[PartRecord] = []

    def refresh(self) -> None:
        """Take the parts of the bench; a page more keeps what stood before where it was."""
        parts = self._bench.parts
        count = len(self._parts)
        if count and len(parts) > count and parts[0] == self._parts[0] and parts[count - 1] == self._parts[-1]:
            self.beginInsertRows(QModelIndex(), count, len(parts) - 1)
            self._parts = list(parts)
            self.endInsertRows()
        elif parts != self._parts:
            self.beginResetModel()
            self._parts = list(parts)
            self.endResetModel()

    def part(self, row: int) -> PartRecord | None:
        """The part of a row."""
        return self._parts[row] if 0 <= row < len(self._parts) else None

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Parts that have come."""
        return 0 if parent.isValid() else len(self._parts)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Columns of the table."""
        return len(HEADS)

    def canFetchMore(self, parent: Index) -> bool:
        """Whether there are more pages."""
        return self._bench.more is not None

    def fetchMore(self, parent: Index) -> None:
        """Request the next page; it arrives later."""
        self.more_wanted.emit()

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        """Titles of the columns."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            # reasons stand as they were recorded
            in_mm = " (in mm)" if section == REASON and units.current() is not MM else ""
            return f"{HEADS[section]}{in_mm}"
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if section in RIGHT else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """The text of a cell."""
        part, column = self._parts[index.row()], index.column()
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return self._text(part, column)
        if role == Qt.ItemDataRole.TextAlignmentRole and column in RIGHT:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ForegroundRole and column in (SCANNED, SCAN):
            return theme.colour("muted")
        return None

    def _text(self, part: PartRecord, column: int) -> str:
        match column:
            case 0:
                return str(part.number)
            case 1:
                return self._bench.lot_name(part.lot_id)
            case 2:
                return part.serial or "–"
            case 3:
                return time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(part.scanned))
            case 4:
                return str(part.verdict)
            case 5:
                return part.reason
            case _:
                return "kept" if part.scan else ""


class PartTable(QTableView):
    """Enter or a double click opens a part."""

    opened = Signal(object)

    def __init__(self, bench: RecordsBench) -> None:
        super().__init__()
        self.setAccessibleName("Parts; Enter opens one")
        self.setObjectName("plainTable")
        self.parts = PartModel(bench)
        self.setModel(self.parts)
        self._bench = bench
        self.setShowGrid(False)
        self.setFrameShape(QTableView.Shape.NoFrame)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setWordWrap(False)
        self.setTabKeyNavigation(False)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW)
        self.setItemDelegateForColumn(VERDICT, _VerdictDelegate(self))
        head = self.horizontalHeader()
        head.setHighlightSections(False)
        for column, width in enumerate(WIDTHS):
            self.setColumnWidth(column, width)
        head.setSectionResizeMode(REASON, QHeaderView.ResizeMode.Stretch)
        self.doubleClicked.connect(lambda index: self._open(index.row()))
        bench.parts_changed.connect(self.parts.refresh)
        bench.lots_changed.connect(lambda: self.setColumnHidden(LOT, len(bench.chosen) == 1))

    def selected(self) -> list[PartRecord]:
        """The parts that are selected, in their order."""
        rows = sorted(index.row() for index in self.selectionModel().selectedRows())
        return [part for row in rows if (part := self.parts.part(row)) is not None]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter opens the part."""
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._open(self.currentIndex().row())
        else:
            super().keyPressEvent(event)

    def _open(self, row: int) -> None:
        part = self.parts.part(row)
        if part is not None:
            self.opened.emit(part)


class _VerdictDelegate(QStyledItemDelegate):
    """A verdict with its sign."""

    def __init__(self, table: PartTable) -> None:
        super().__init__(table)
        self._table = table

    def paint(self, painter: QPainter, option: Any, index: Index) -> None:
        """Sign and word."""
        part = self._table.parts.part(index.row())
        if part is None:
            return
        painter.save()
        box = QRectF(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(box, theme.colour("copper_wash"))
        draw_balloon(painter, QPointF(box.left() + 12, box.center().y()), "", part.verdict, radius=5.5)
        painter.setPen(theme.verdict_colour(part.verdict))
        painter.setFont(theme.font(12, bold=True))
        painter.drawText(box.adjusted(24, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, str(part.verdict))
        painter.restore()
