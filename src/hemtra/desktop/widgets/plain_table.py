"""A table to read: rows that are chosen whole, no grid, the last column takes the rest."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget


def plain_table(heads: Sequence[str], widths: Sequence[int], name: str) -> QTableWidget:
    """An empty one. widths: pixels of all columns but the last; name: what assistive tools say."""
    table = QTableWidget(0, len(heads))
    table.setObjectName("plainTable")
    table.setAccessibleName(name)
    table.setHorizontalHeaderLabels(list(heads))
    table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    table.verticalHeader().hide()
    table.setShowGrid(False)
    table.setFrameShape(QTableWidget.Shape.NoFrame)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.horizontalHeader().setSectionResizeMode(len(heads) - 1, QHeaderView.ResizeMode.Stretch)
    for column, width in enumerate(widths):
        table.setColumnWidth(column, width)
    return table
