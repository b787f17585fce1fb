"""Changes when a lot is re-evaluated by another plan."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.plain_table import plain_table
from hemtra.runtime.lot_reevaluation import LotReevaluation

HEADS = ("part", "serial", "then", "now", "what changes")
WIDTHS = (56, 110, 130, 130)
MOST = 5000
"""Changes that are listed; the saved list has all."""


class ReevaluationPage(QWidget):
    """A list of parts; Enter or a double click opens one. Nothing in the records has changed."""

    left = Signal()
    part_wanted = Signal(int)
    tray_wanted, save_wanted = Signal(object), Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.found: LotReevaluation | None = None
        self.message, self.title = QLabel(), QLabel()
        self.message.setWordWrap(True)
        self.title.setObjectName("heading")
        back, tray, save = (
            QPushButton("Back to the lots   Esc"),
            QPushButton("Parts with changed verdicts to the tray"),
            QPushButton("Save as CSV…"),
        )
        self.tray_button, self.save_button = tray, save
        for button in (back, tray, save):
            button.setObjectName("action")
        back.clicked.connect(self.left)
        tray.clicked.connect(lambda: self.tray_wanted.emit(self.found))
        save.clicked.connect(lambda: self.save_wanted.emit(self.found))
        self.table = plain_table(HEADS, WIDTHS, "Parts that change; Enter opens one")
        self.table.activated.connect(lambda index: self._open(index.row()))
        bar = QFrame()
        bar.setObjectName("panel")
        row = QHBoxLayout(bar)
        row.setContentsMargins(10, 4, 10, 4)
        row.addWidget(back)
        row.addWidget(self.title)
        row.addStretch(1)
        row.addWidget(tray)
        row.addWidget(save)
        panel = QFrame()
        panel.setObjectName("panel")
        inner = QVBoxLayout(panel)
        inner.setContentsMargins(12, 10, 4, 6)
        inner.addWidget(self.message)
        inner.addWidget(self.table, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(bar)
        layout.addWidget(panel, 1)

    def show_found(self, found: LotReevaluation) -> None:
        """List what changes."""
        self.found = found
        self.title.setText(f"{found.lot.name} re-evaluated by “{found.plan}”")
        shown = found.changes[:MOST]
        more = f" The first {MOST} are listed." if len(found.changes) > MOST else ""
        rows = ", ".join(f"{row} ({count})" for row, count in found.flips_by_row().items())
        self.message.setText(found.words + (f" Because of: {rows}." if rows else "") + more)
        self.table.setRowCount(len(shown))
        for k, change in enumerate(shown):
            part = change.part
            for column, text in enumerate(
                (str(part.number), part.serial, str(part.verdict), str(change.now), change.words)
            ):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if column in (2, 3):
                    item.setForeground(theme.verdict_colour(part.verdict if column == 2 else change.now))
                self.table.setItem(k, column, item)
        self.tray_button.setEnabled(any(change.flips for change in found.changes))
        self.save_button.setEnabled(bool(found.changes))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape goes back."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def _open(self, row: int) -> None:
        if self.found is not None:
            self.part_wanted.emit(self.found.changes[row].part.id)
