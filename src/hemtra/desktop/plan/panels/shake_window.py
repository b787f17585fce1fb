"""The shake test in the window: what breaks the plan first, at what amount, and what may help."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.plan.document import Plan
from hemtra.core.shake.disturbances import DISTURBANCES
from hemtra.core.shake.shaking import (
    Broken,
    Finding,
    Shaken,
    TriedPart,
    cases,
    findings,
    in_words,
    shaken,
    with_unit,
)
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.widgets.plain_table import plain_table
from hemtra.virtual.rescan import rescan_of

HEADS, WIDTHS = ("scans are", "holds to", "breaks at", "what breaks"), (170, 90, 90)


class ShakeWindow(QDialog):
    """Runs beside the window, fills its table as parts are through, and applies what may help."""

    def __init__(
        self,
        bench: WorkspaceModel,
        tasks: Tasks,
        edit: Callable[[str, Callable[[], Plan]], bool],
        parent: QWidget,
    ) -> None:
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Shake test")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(min(1000, parent.width() - 60), min(640, parent.height() - 60))
        self._bench, self._tasks, self._edit = bench, tasks, edit
        self._task: Task | None = None
        self._run = 0
        """Number of the run in progress, or of the last; what an earlier one still brings is dropped."""
        self._tried = bench.document.plan
        self._parts = 0
        """Number of copies done."""
        self._found: list[Shaken] = []
        self.findings: list[Finding] = []
        self.table = plain_table(HEADS, WIDTHS, "What each disturbance breaks")
        self.table.setWordWrap(True)
        self.table.itemSelectionChanged.connect(self._offer)
        self.message, self.mend, self.again = QLabel(), QPushButton(), QPushButton("Try again")
        self.message.setWordWrap(True)
        self.mend.setObjectName("action")
        self.again.setObjectName("primary")
        self.mend.clicked.connect(self._apply)
        self.again.clicked.connect(self.start)
        self._lay_out()
        self.start()

    def _lay_out(self) -> None:
        panel = QFrame()
        panel.setObjectName("panel")
        inner = QVBoxLayout(panel)
        inner.setContentsMargins(12, 10, 12, 10)
        inner.addWidget(self.table, 1)
        line = QHBoxLayout()
        line.addWidget(self.message, 1)
        line.addWidget(self.mend)
        line.addWidget(self.again)
        inner.addLayout(line)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(panel)

    def start(self) -> None:
        """Try the plan as it is now on copies of all parts of the tray, each by every amount once."""
        if self._task is not None:
            self._task.cancel()
        plan, tried = self._bench.document.plan, cases(1)
        parts = [(part.scan, part.tag) for part in self._bench.tray.parts]
        self._run, self._tried, self._parts = self._run + 1, plan, 0
        self._found, self.findings = [], []

        def work(task: Task) -> None:
            for done, (scan, tag) in enumerate(parts):
                good = {"good": True, "bad": False, "not measurable": False}.get(tag)
                found = []
                part = TriedPart(scan.name, scan.data, good, rescan_of(scan))
                for k, one in enumerate(shaken(plan, part, tried)):
                    found.append(one)
                    if not task.report(done * len(tried) + k, len(parts) * len(tried), scan.name):
                        return
                task.produce(found)

        ended, taken = partial(self._end, self._run), partial(self._take, self._run)
        self._task = self._tasks.start("Shake test", work, ended, taken)
        self.again.setEnabled(False)
        self._fill()

    def _take(self, run: int, found: list[Shaken]) -> None:
        if run == self._run:
            self._parts += 1
            self._found += found
            self.findings = findings(self._found)
            self._fill()

    def _end(self, run: int, _: object) -> None:
        if run == self._run:
            self._task = None
            self.again.setEnabled(True)
            self._fill()

    def _fill(self) -> None:
        self.table.setRowCount(len(self.findings))
        for line, one in enumerate(self.findings):
            for column, text in enumerate(_cells(one)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.table.setItem(line, column, item)
        self.table.resizeRowsToContents()
        state = "" if self._task is None else "; going on"
        of = len(self._bench.tray.parts)
        anew = sum(DISTURBANCES[one.case.disturbance].copied is None for one in self._found)
        simulated = f", {anew} of them simulated anew" if anew else ""
        self.message.setText(f"{len(self._found)} copies of {self._parts} of {of} parts{simulated}{state}")
        self._offer()

    @property
    def chosen(self) -> Broken | None:
        """The row that the selected disturbance breaks first."""
        line = self.table.currentRow()
        at = self.findings[line].breaks_at if 0 <= line < len(self.findings) else None
        return None if at is None else at.first

    def _offer(self) -> None:
        """Remedy for the selection, where there is one."""
        row = self.chosen
        self.mend.setVisible(row is not None and row.plan is not None)
        if row is not None:
            self.mend.setText(row.mend)
            self.mend.setToolTip(f"For {row.balloon} {row.name}; undo takes it back.")

    def _apply(self) -> None:
        """Change the plan and try again; not where the plan was changed since it was tried."""
        row = self.chosen
        changed = None if row is None else row.plan
        if row is None or changed is None:
            return
        if as_drawn(self._bench.document.plan) != as_drawn(self._tried):
            self.message.setText("The plan has changed since; try it again, then apply what helps.")
        elif self._edit(f"{row.mend[:1].lower()}{row.mend[1:]}", lambda: changed):
            self.start()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter does nothing of its own."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Closing ends it."""
        self._run += 1
        if self._task is not None:
            self._task.cancel()
        super().closeEvent(event)


def as_drawn(plan: Plan) -> Plan:
    """A plan without what follows from its reference scan, which may be filled in at any time."""
    steps = (step.model_copy(update={"home": None, "taught": None}) for step in plan.steps)
    rows = (row.model_copy(update={"master": None}) for row in plan.sheet)
    return plan.model_copy(update={"steps": tuple(steps), "sheet": tuple(rows)})


def _cells(one: Finding) -> tuple[str, str, str, str]:
    disturbance, held, broken = DISTURBANCES[one.disturbance], one.holds_to, one.breaks_at
    if disturbance.must_fail:
        words = "refused, as they must be" if broken is None else f"pass: {', '.join(broken.parts)}"
        return disturbance.title, "", "", words
    to = "–" if held is None else with_unit(held, disturbance)
    if broken is None:
        return disturbance.title, to, "", ""
    return disturbance.title, to, with_unit(broken.case.amount, disturbance), in_words(broken)
