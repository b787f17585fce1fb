"""The revisions of the open plan: compared two at a time, tried on parts, and gone back to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFrame,
    QGridLayout,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.evaluation.engine import Engine
from hemtra.core.plan.comparison import Difference, differences
from hemtra.core.plan.document import Plan
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.panels.zones_overlay import ZonesOverlay
from hemtra.desktop.widgets.plain_table import plain_table
from hemtra.runtime.plan_comparison import VerdictChanges, on_lot, on_parts
from hemtra.storage.plans import load_plan
from hemtra.storage.records import Records
from hemtra.storage.records.store import Lot
from hemtra.storage.revisions import Revision, read_revisions

NOW = 0
"""Stands for the plan as it is open, saved or not."""
HEADS = ("", "of", "what", "before", "after")
WIDTHS = (40, 130, 100, 180)
PARTS, PART_WIDTHS = ("part", "before", "after", "why"), (170, 130, 130)
MOST_LISTED = 400
"""Changed parts that are listed; the count says how many there are."""


class RevisionsWindow(QDialog):
    """Two choices, what differs between them in words and on the part, and what that does."""

    gone_back = Signal(int, object)
    """The number of a revision that is wanted again, and its plan."""

    def __init__(
        self, bench: WorkspaceModel, tasks: Tasks, records: Callable[[], str], parent: QWidget
    ) -> None:
        """records: where recorded parts are; '' where there are none."""
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Revisions of the plan")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(min(1080, parent.width() - 60), min(700, parent.height() - 60))
        self._bench, self._tasks, self._records = bench, tasks, records
        self._plans: dict[int, Plan] = {}
        self._alive = True
        """Whether it is still open when a result arrives."""
        self._listed: tuple[Difference, ...] = ()
        self.before, self.after, self.lots = QComboBox(), QComboBox(), QComboBox()
        self.before.setAccessibleName("Revision before")
        self.after.setAccessibleName("Revision after")
        self.lots.setAccessibleName("Lot whose recorded parts both are tried on")
        self.changes = plain_table(HEADS, WIDTHS, "What differs between the two")
        self.verdicts = plain_table(PARTS, PART_WIDTHS, "Parts whose verdict changes")
        self.overlay, self.message, self.trouble = ZonesOverlay(), QLabel(), QLabel()
        self.back = QPushButton("Go back to the one before")
        self.back.setObjectName("primary")
        self.back.clicked.connect(self._go_back)
        self.changes.itemSelectionChanged.connect(self._mark)
        for box in (self.before, self.after):
            box.currentIndexChanged.connect(self._compare)
        self.lots.activated.connect(self._try_lot)
        self._lay_out()
        self._load()

    def _lay_out(self) -> None:
        choices = QGridLayout()
        choices.setHorizontalSpacing(10)
        for line, (words, box) in enumerate((("before", self.before), ("after", self.after))):
            label = QLabel(words)
            label.setBuddy(box)
            choices.addWidget(label, line, 0)
            choices.addWidget(box, line, 1)
        choices.addWidget(self.back, 0, 2)
        choices.setColumnStretch(1, 1)
        panel = QFrame()
        panel.setObjectName("panel")
        inner = QGridLayout(panel)
        inner.setContentsMargins(12, 10, 12, 10)
        inner.addLayout(choices, 0, 0, 1, 2)
        inner.addWidget(self.trouble, 1, 0, 1, 2)
        inner.addWidget(self.changes, 2, 0)
        inner.addWidget(self.overlay, 2, 1)
        inner.addWidget(self.message, 3, 0)
        inner.addWidget(self.lots, 3, 1)
        inner.addWidget(self.verdicts, 4, 0, 1, 2)
        inner.setColumnStretch(0, 3)
        inner.setColumnStretch(1, 2)
        inner.setRowStretch(2, 3)
        inner.setRowStretch(4, 2)
        for label in (self.trouble, self.message):
            label.setWordWrap(True)
        self.trouble.hide()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(panel)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter does nothing of its own."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    # -- what there is ----------------------------------------------------------------------------

    def _load(self) -> None:
        """Read the revisions beside the window."""
        path = self._bench.document.path
        self._tasks.start("Revisions", lambda task: _read(path, self._records()), self._fill)

    def _fill(self, found: tuple[tuple[Revision, ...], tuple[Lot, ...]]) -> None:
        if not self._alive:
            return
        revisions, lots = found
        now = "as it is open" + (", not saved" if self._bench.document.unsaved else "")
        for box in (self.before, self.after):
            box.blockSignals(True)
            box.clear()
            box.addItem(now, NOW)
            for one in reversed(revisions):
                box.addItem(_words(one), one.number)
            box.blockSignals(False)
        # what the last save changed, or what has not been saved yet
        unsaved = self._bench.document.unsaved
        self.after.setCurrentIndex(0 if unsaved or not revisions else 1)
        self.before.setCurrentIndex(min(1 if unsaved else 2, self.before.count() - 1))
        self.lots.clear()
        self.lots.addItem("try both on a recorded lot…", None)
        for lot in lots:
            self.lots.addItem(lot.name, lot)
        self.lots.setVisible(bool(lots))
        if not revisions:
            self._say("This plan has no revisions yet: each save makes one.")
        self._compare()

    # -- two of them ------------------------------------------------------------------------------

    def _compare(self) -> None:
        """Read the two that are chosen, and try both on the tray."""
        path, wanted = self._bench.document.path, (self.before.currentData(), self.after.currentData())
        if None in wanted:
            return
        now, parts = self._bench.document.plan, [(p.name, p.engine) for p in self._bench.tray.parts]

        def work(task: Task) -> tuple[Plan, Plan, tuple[Difference, ...], VerdictChanges]:
            plans = [now if number == NOW else self._plan(path, number) for number in wanted]
            tried = _on_tray(plans[0], plans[1], parts, task)
            return plans[0], plans[1], differences(plans[0], plans[1]), tried

        self._tasks.start("Comparing", work, partial(self._show, wanted))

    def _plan(self, path: Path | None, number: int) -> Plan:
        if number not in self._plans and path is not None:
            self._plans[number] = load_plan(path, number)
        return self._plans[number]

    def _show(
        self, wanted: tuple[int, int], found: tuple[Plan, Plan, tuple[Difference, ...], VerdictChanges]
    ) -> None:
        if not self._alive or wanted != (self.before.currentData(), self.after.currentData()):
            return
        before, after, self._listed, tried = found
        reference = self._bench.document.reference
        self.overlay.show_plans(None if reference is None else reference.data, before, after)
        rows = [
            (one.id if one.of == "row" else "", one.name, one.what, one.before, one.after)
            for one in self._listed
        ]
        _fill(self.changes, rows or [("", "", "", "the two are the same", "")])
        self.back.setEnabled(wanted[0] != NOW)
        self.lots.setCurrentIndex(0)
        self._show_verdicts("Tray", tried)

    def _show_verdicts(self, where: str, found: VerdictChanges) -> None:
        self.message.setText(f"{where}: {found.words}")
        rows = [(one.part, str(one.before), str(one.after), "; ".join(one.rows)) for one in found.changes]
        rows += [(part, "", "unknown", why) for part, why in found.undecided]
        _fill(self.verdicts, rows[:MOST_LISTED])

    def _mark(self) -> None:
        """Mark on the part what a line speaks of."""
        line = self.changes.currentRow()
        chosen = self._listed[line] if 0 <= line < len(self._listed) else None
        self.overlay.choose(chosen.id if chosen is not None and chosen.of == "step" else "")

    def _try_lot(self) -> None:
        """Try both on the recorded parts of a lot."""
        lot, wanted = self.lots.currentData(), (self.before.currentData(), self.after.currentData())
        if lot is None:
            self._compare()
            return
        path, now, url = self._bench.document.path, self._bench.document.plan, self._records()

        def work(task: Task) -> VerdictChanges | None:
            before, after = (now if number == NOW else self._plan(path, number) for number in wanted)
            records = Records(url, create=False)
            try:
                return on_lot(before, after, records, lot, task.report)
            finally:
                records.close()

        def done(found: VerdictChanges | None) -> None:
            if found is not None and self._alive:
                self._show_verdicts(f"Lot {lot.name}", found)

        self._tasks.start(f"Trying on {lot.name}", work, done)

    def _go_back(self) -> None:
        number = self.before.currentData()
        if number in self._plans:
            self.gone_back.emit(number, self._plans[number])
            self.close()

    def _say(self, words: str) -> None:
        self.trouble.setText(words)
        self.trouble.show()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Listen no more."""
        self._alive = False
        event.accept()

    def changeEvent(self, event: QEvent) -> None:
        """Repaint when the colours change."""
        super().changeEvent(event)
        if event.type() == QEvent.Type.StyleChange:
            self.overlay.update()


def _read(path: Path | None, url: str) -> tuple[tuple[Revision, ...], tuple[Lot, ...]]:
    """The revisions of a file, and the lots on record where there are any."""
    revisions = read_revisions(path) if path is not None and path.is_file() else ()
    if not url:
        return revisions, ()
    records = Records(url, create=False)
    try:
        return revisions, tuple(records.all_lots())
    finally:
        records.close()


def _on_tray(before: Plan, after: Plan, parts: list[tuple[str, Engine]], task: Task) -> VerdictChanges:
    if before == after:
        return VerdictChanges(len(parts), ())
    return on_parts(before, after, parts, task.report)


def _words(one: Revision) -> str:
    saved = datetime.fromtimestamp(one.saved).astimezone().strftime("%Y-%m-%d %H:%M")
    return "   ".join(part for part in (f"{one.number}", saved, one.author, one.comment) if part)


def _fill(table: QTableWidget, rows: Sequence[tuple[str, ...]]) -> None:
    table.clearContents()
    table.setRowCount(len(rows))
    for line, row in enumerate(rows):
        for column, text in enumerate(row):
            item = QTableWidgetItem(str(text))
            item.setToolTip(str(text))
            table.setItem(line, column, item)
    table.resizeRowsToContents()
