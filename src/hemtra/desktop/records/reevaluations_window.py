"""Re-evaluations on record and under way: who had which lot evaluated by which plan, and what came of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import partial

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QPushButton, QTableWidgetItem, QVBoxLayout, QWidget

from hemtra.core.errors import HemtraError
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.widgets.plain_table import plain_table
from hemtra.runtime.reevaluation_jobs import Job, all_jobs
from hemtra.storage.records import Records
from hemtra.storage.records.reevaluations import KeptReevaluation, kept

HEADS = ("when", "by", "lot", "plan", "state", "changes", "flips")
WIDTHS = (150, 100, 180, 190, 90, 70, 60)
EVERY_MS = 1000
EMPTY = "No lot was re-evaluated yet. “Re-evaluate with…” compares recorded lots with another plan."


@dataclass(frozen=True)
class Shown:
    """All that is listed; jobs: those under way."""

    kept: tuple[KeptReevaluation, ...] = ()
    jobs: tuple[Job, ...] = ()

    def state(self, one: KeptReevaluation) -> str:
        """State of a re-evaluation in a word."""
        if one.ended is not None:
            return "done"
        return "under way" if any(one.lot_id in job.order.lots for job in self.jobs) else "stopped"


class ReevaluationsWindow(QDialog):
    """Looks again by itself as long as it is open. Enter or a double click opens one that is done."""

    wanted = Signal(object)
    """A re-evaluation to open."""

    def __init__(self, records: Callable[[], str], tasks: Tasks, parent: QWidget) -> None:
        """records: where they are; '' where there are none."""
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Re-evaluations")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(min(920, parent.width() - 40), min(420, parent.height() - 80))
        self._records, self._tasks = records, tasks
        self._task: Task | None = None
        self._alive = True
        self.shown = Shown()
        self.table = plain_table(HEADS, WIDTHS, "Re-evaluations; Enter opens one")
        self.table.activated.connect(lambda _: self._open())
        self.table.itemSelectionChanged.connect(self._offer)
        self.message = QLabel(EMPTY)
        self.message.setWordWrap(True)
        self.open_button, self.stop_button = QPushButton("Open"), QPushButton("Stop")
        self.stop_button.setToolTip("What was found is kept; started again, it continues there.")
        for button in (self.open_button, self.stop_button):
            button.setObjectName("action")
        self.open_button.clicked.connect(self._open)
        self.stop_button.clicked.connect(self._stop)
        layout, foot = QVBoxLayout(self), QHBoxLayout()
        foot.addWidget(self.message, 1)
        foot.addWidget(self.stop_button)
        foot.addWidget(self.open_button)
        layout.addWidget(self.table, 1)
        layout.addLayout(foot)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)
        self._timer.start(EVERY_MS)
        self._offer()
        self.look()

    def look(self) -> None:
        """Read the records again, unless they are still being read."""
        if self._task is None:
            self._task = self._tasks.start(
                "Re-evaluations", partial(_read, self._records(), self.shown), self._take, background=True
            )

    def _take(self, found: Shown | HemtraError) -> None:
        self._task = None
        if not self._alive:
            return
        if isinstance(found, HemtraError):
            self.message.setText(str(found))
            return
        self.shown = found
        under_way = [job.state.what for job in found.jobs]
        self.message.setText("\n".join(filter(None, under_way)) or ("" if found.kept else EMPTY))
        self.table.setRowCount(len(found.kept))
        for row, one in enumerate(found.kept):
            for column, text in enumerate(_cells(one, found.state(one))):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.table.setItem(row, column, item)
        self._offer()

    @property
    def _chosen(self) -> KeptReevaluation | None:
        row = self.table.currentRow()
        return self.shown.kept[row] if 0 <= row < len(self.shown.kept) else None

    def _offer(self) -> None:
        chosen = self._chosen
        self.open_button.setEnabled(chosen is not None and chosen.ended is not None)
        self.stop_button.setEnabled(bool(self.shown.jobs))

    def _open(self) -> None:
        chosen = self._chosen
        if chosen is not None and chosen.ended is not None:
            self.wanted.emit(chosen)
            self.close()

    def _stop(self) -> None:
        for job in self.shown.jobs:
            job.stop()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter is for the table."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Look no more."""
        self._alive = False
        self._timer.stop()
        super().closeEvent(event)


def _read(url: str, shown: Shown, task: Task) -> Shown | HemtraError:
    if not url:
        return Shown()
    try:
        records = Records(url, create=False)
    except HemtraError as error:
        return error
    try:
        known = {one.id: one for one in shown.kept if one.ended is not None}
        return Shown(tuple(kept(records, known)), tuple(job for job in all_jobs() if job.is_running))
    except HemtraError as error:
        return error
    finally:
        records.close()


def _cells(one: KeptReevaluation, state: str) -> tuple[str, ...]:
    when = datetime.fromtimestamp(one.began).astimezone().strftime("%Y-%m-%d %H:%M")
    counts = ("", "") if one.result is None else (str(len(one.result["changes"])), str(one.result["flips"]))
    return (when, one.author, one.lot, one.plan, state, *counts)
