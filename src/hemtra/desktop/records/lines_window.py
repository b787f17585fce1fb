"""All lines that write into the records: what each does now, how it passes, what it fails most."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QCloseEvent, QColor, QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPushButton, QTableWidgetItem, QVBoxLayout, QWidget

from hemtra.core.errors import HemtraError
from hemtra.core.text import percent
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.plain_table import plain_table
from hemtra.storage.records import Records
from hemtra.storage.records.lines import LineState, all_lines, forget
from hemtra.storage.records.store import Lot
from hemtra.storage.records.trends import failures

HEADS = ("line", "computer", "state", "plan", "lot", "parts", "pass", "fails most", "latency", "waiting")
WIDTHS = (120, 100, 70, 130, 140, 60, 66, 150, 70, 60)
EVERY_MS = 5000
EMPTY = "No line has written into these records yet. A line says what it does every 5 s while it runs."
TINTS = {"runs": "passed", "lost": "failed"}
"""Colour of a state that should be seen from afar."""


@dataclass(frozen=True)
class ShownLine:
    """A line, and in words what its lot fails most."""

    line: LineState
    worst: str


class LinesWindow(QDialog):
    """Looks again by itself as long as it is open."""

    def __init__(self, records: Callable[[], str], tasks: Tasks, parent: QWidget) -> None:
        """records: where they are; '' where there are none."""
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Lines")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(min(1020, parent.width() - 40), min(420, parent.height() - 80))
        self._records, self._tasks = records, tasks
        self._task: Task | None = None
        self._alive = True
        self.shown: tuple[ShownLine, ...] = ()
        self.table = plain_table(HEADS, WIDTHS, "Lines that write into the records")
        self.message = QLabel(EMPTY)
        self.message.setWordWrap(True)
        self.drop = QPushButton("Forget the line")
        self.drop.setObjectName("action")
        self.drop.setToolTip("Of a line that is gone for good; its parts stay.")
        self.drop.clicked.connect(self._forget)
        self.table.itemSelectionChanged.connect(self._offer)
        layout, foot = QVBoxLayout(self), QHBoxLayout()
        foot.addWidget(self.message, 1)
        foot.addWidget(self.drop)
        layout.addWidget(self.table, 1)
        layout.addLayout(foot)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)
        self._timer.start(EVERY_MS)
        self._offer()
        self.look()

    def look(self) -> None:
        """Ask the records again, unless they still answer the last time."""
        if self._task is None:
            self._task = self._tasks.start("Lines", partial(_looked, self._records()), self._seen)

    def _seen(self, found: tuple[ShownLine, ...] | HemtraError) -> None:
        self._task = None
        if not self._alive:
            return
        if isinstance(found, HemtraError):
            self.message.setText(str(found))
            return
        self.shown = found
        self.message.setText(EMPTY if not found else "Looks again every 5 s.")
        self.table.setRowCount(len(found))
        for row, one in enumerate(found):
            for column, text in enumerate(_cells(one)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                if column == HEADS.index("state") and one.line.shown in TINTS:
                    item.setForeground(QColor(theme.colour(TINTS[one.line.shown])))
                self.table.setItem(row, column, item)
        self._offer()

    @property
    def _chosen(self) -> LineState | None:
        row = self.table.currentRow()
        return self.shown[row].line if 0 <= row < len(self.shown) else None

    def _offer(self) -> None:
        chosen = self._chosen
        self.drop.setEnabled(chosen is not None and chosen.shown in ("lost", "stopped"))

    def _forget(self) -> None:
        chosen, url = self._chosen, self._records()
        if chosen is None:
            return

        def work(task: Task) -> tuple[ShownLine, ...] | HemtraError:
            records = Records(url, create=False)
            try:
                forget(records, chosen)
            finally:
                records.close()
            return _looked(url, task)

        self._task = self._tasks.start("Lines", work, self._seen)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter does nothing of its own."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Look no more."""
        self._alive = False
        self._timer.stop()
        super().closeEvent(event)


def _looked(url: str, task: Task) -> tuple[ShownLine, ...] | HemtraError:
    if not url:
        return ()
    try:
        records = Records(url, create=False)
    except HemtraError as error:
        return error
    try:
        newest: dict[tuple[str, str], Lot] = {}
        for one in records.all_lots():
            newest.setdefault((one.plan, one.name), one)
        shown = []
        for line in all_lines(records):
            lot = newest.get((line.plan, line.lot))
            worst = [row for row in failures(records, [lot]) if row.count] if lot is not None else []
            shown.append(
                ShownLine(line, f"{worst[0].balloon} {worst[0].name}: {worst[0].count}" if worst else "")
            )
        return tuple(shown)
    except HemtraError as error:
        return error
    finally:
        records.close()


def _cells(one: ShownLine) -> tuple[str, ...]:
    line = one.line
    share = "–" if line.share is None else percent(line.share, 1)
    latency = f"{1000 * line.latency:.0f} ms" if line.parts else "–"
    counts = str(line.parts), share, one.worst, latency, str(line.waiting)
    return (line.name, line.host, line.shown, line.plan, line.lot, *counts)
