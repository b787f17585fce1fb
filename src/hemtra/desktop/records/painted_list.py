"""A list whose rows paint themselves; a click or the arrow keys choose one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Generic, TypeVar

from PySide6.QtCore import (
    QAbstractListModel,
    QItemSelection,
    QModelIndex,
    QPersistentModelIndex,
    QRectF,
    QSize,
    Qt,
)
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QAbstractItemView, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem

from hemtra.desktop.widgets import theme

T = TypeVar("T")
Index = QModelIndex | QPersistentModelIndex


class RowModel(QAbstractListModel, Generic[T]):
    """The rows of a list, and what is read aloud of each."""

    def __init__(self, owner: PaintedList[T]) -> None:
        super().__init__(owner)
        self.rows: Sequence[T] = ()
        self._owner = owner

    def fill(self, rows: Sequence[T]) -> None:
        """Take other rows."""
        if rows != self.rows:
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        """Number of rows."""
        return 0 if parent.isValid() else len(self.rows)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        """A row in words; it paints itself."""
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return self._owner.said(self.rows[index.row()])
        return None


class PaintedList(QListView, Generic[T]):
    """Base of painted lists; subclasses define rows, texts, painting, and the meaning of a choice."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setObjectName("plainList")
        self.setFrameShape(QListView.Shape.NoFrame)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._filling = False
        self.held: RowModel[T] = RowModel(self)
        self.setModel(self.held)
        self.setItemDelegate(_RowPainter(self))

    @property
    def rows(self) -> Sequence[T]:
        """Rows of the list."""
        return self.held.rows

    def show_rows(self, rows: Sequence[T], chosen: int | None) -> None:
        """List other rows with one of them chosen; that is no choice of the user's."""
        self._filling = True
        self.held.fill(rows)
        if chosen is not None:
            self.setCurrentIndex(self.held.index(chosen))
        self._filling = False

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        """Another row is chosen."""
        super().selectionChanged(selected, deselected)
        indexes = selected.indexes()
        if indexes and not self._filling:
            self.choose(self.rows[indexes[0].row()])

    def choose(self, row: T) -> None:
        """The user has chosen a row."""
        raise NotImplementedError

    def said(self, row: T) -> str:
        """A row in words."""
        raise NotImplementedError

    def tall(self, row: T) -> int:
        """Height of a row, pixels."""
        raise NotImplementedError

    def paint_row(self, painter: QPainter, row: T, box: QRectF) -> None:
        """Paint a row into its box; the background of the chosen one is there already."""
        raise NotImplementedError


class _RowPainter(QStyledItemDelegate):
    def __init__(self, owner: PaintedList[Any]) -> None:
        super().__init__(owner)
        self._owner = owner

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        """Height of the whole list."""
        return QSize(100, self._owner.tall(self._owner.rows[index.row()]))

    def paint(self, painter: QPainter, option: Any, index: Index) -> None:
        """The background of the chosen row, then the row."""
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.colour("copper_wash"))
            painter.drawRoundedRect(box.adjusted(4, 1, -4, -1), 4, 4)
        self._owner.paint_row(painter, self._owner.rows[index.row()], box)
        painter.restore()


def elided(painter: QPainter, text: str, room: float) -> str:
    """Text cut to so many pixels in the painter's font."""
    return painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, round(room))
