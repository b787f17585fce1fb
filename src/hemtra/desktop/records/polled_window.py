"""A list beside the window that is read from the records again and again as long as it is open."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPushButton, QTableWidgetItem, QVBoxLayout, QWidget

from hemtra.core.errors import HemtraError
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.widgets.plain_table import plain_table


class PolledWindow(QDialog):
    """A table, a message and buttons. Subclasses say what is read and how it is shown, then `begin`."""

    def __init__(
        self, title: str, columns: Sequence[tuple[str, int]], says: str, tasks: Tasks, parent: QWidget
    ) -> None:
        """columns: heads and widths. says: what the table is, for those who do not see it."""
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle(title)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        heads, widths = zip(*columns, strict=True)
        self.resize(min(sum(widths) + 104, parent.width() - 40), min(420, parent.height() - 80))
        self._tasks = tasks
        self._task: Task | None = None
        self._alive = True
        self.table = plain_table(heads, widths, says)
        self.table.itemSelectionChanged.connect(self.offer)
        self.message = QLabel()
        self.message.setWordWrap(True)
        layout, self._foot = QVBoxLayout(self), QHBoxLayout()
        self._foot.addWidget(self.message, 1)
        layout.addWidget(self.table, 1)
        layout.addLayout(self._foot)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)

    def button(self, label: str, does: Callable[[], None], tip: str = "") -> QPushButton:
        """A button at the foot."""
        made = QPushButton(label)
        made.setObjectName("action")
        made.setToolTip(tip)
        made.clicked.connect(does)
        self._foot.addWidget(made)
        return made

    def begin(self, every_ms: int) -> None:
        """Read now, and again every so often."""
        self._timer.start(every_ms)
        self.offer()
        self.look()

    @abstractmethod
    def read(self, task: Task) -> Any:
        """Read the records, beside the window. Raises `HemtraError`."""

    @abstractmethod
    def take(self, found: Any) -> None:
        """Show what was read."""

    @abstractmethod
    def offer(self) -> None:
        """Update which buttons can be pressed."""

    def look(self) -> None:
        """Read again, unless the last reading is still under way."""
        if self._task is None:
            self.do(self.read)

    def do(self, work: Callable[[Task], Any]) -> None:
        """Do something to the records and show what they are then."""

        def answered(task: Task) -> Any:
            try:
                return work(task)
            except HemtraError as error:
                return error

        self._task = self._tasks.start(self.windowTitle(), answered, self._taken, background=True)

    def _taken(self, found: Any) -> None:
        self._task = None
        if not self._alive:
            return
        if isinstance(found, HemtraError):
            self.message.setText(str(found))
            return
        self.take(found)
        self.offer()

    def fill(self, rows: Sequence[Sequence[str]]) -> None:
        """Put texts into the table."""
        self.table.setRowCount(len(rows))
        for row, cells in enumerate(rows):
            for column, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.table.setItem(row, column, item)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter is for the table."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Look no more."""
        self._alive = False
        self._timer.stop()
        super().closeEvent(event)
