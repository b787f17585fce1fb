"""Guided gauge study: which part to present next, the readings so far, and runs to repeat."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.gauge.guided import GuidedStudy, Presentation
from hemtra.core.gauge.study import Presented
from hemtra.core.plan.document import Plan
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.widgets.dialogs import button_row
from hemtra.desktop.widgets.path_field import path_field
from hemtra.runtime.guided_study import IncomingScans, Presenter, Run, SimulatedCovers, StudyRun
from hemtra.storage.study_folders import begin_study, load_study
from hemtra.virtual.gauge_demo import POSES

SOURCES = {
    "simulated": ("simulated covers", "The line of the demo presents its own parts; operators are poses."),
    "folder": ("scans arriving in a folder", "Each new scan is that of the part that was asked for."),
}


class GuidedStudyWindow(QDialog):
    """First a form, then the task; what was taken is kept at once, so that a study can be continued."""

    finished_study = Signal(object, object)
    """The plan and what it found on all parts, once all were presented."""

    def __init__(self, plan: Plan, tasks: Tasks, start: str, parent: QWidget) -> None:
        """start: folder that is offered first."""
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Guided gauge study")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(min(620, parent.width()), min(480, parent.height()))
        self._plan, self._tasks, self._start = plan, tasks, start
        self._task: Task | None = None
        self._alive = True
        self.run: StudyRun | None = None
        self._last: Run | None = None
        self.parts, self.trials, self.operators = QSpinBox(), QSpinBox(), QLineEdit(", ".join(POSES))
        self.source, self.incoming, self.folder = QComboBox(), QLineEdit(), QLineEdit()
        self.asked, self.seen, self.message = QLabel(), QLabel(), QLabel()
        self.bar, self.log = QProgressBar(), QListWidget()
        self.repeat, self.leave = QPushButton("Repeat this run"), QPushButton("Leave; continue later")
        self.pages = QStackedWidget()
        self.pages.addWidget(self._form())
        self.pages.addWidget(self._task_page())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.addWidget(self.pages)
        self.message.setWordWrap(True)
        layout.addWidget(self.message)

    def _form(self) -> QWidget:
        self.parts.setRange(2, 500)
        self.parts.setValue(10)
        self.trials.setRange(2, 100)
        self.trials.setValue(3)
        for name, (title, _) in SOURCES.items():
            self.source.addItem(title, name)
        page = QWidget()
        form = self._form_layout = QFormLayout(page)
        form.setContentsMargins(0, 0, 0, 0)
        heading = QLabel("Each part is presented by each operator in each trial, in random order.")
        heading.setWordWrap(True)
        form.addRow(heading)
        for label, field, help_text in (
            ("parts", self.parts, "Number them 1, 2, 3 …; they should spread over the tolerance."),
            ("operators or poses", self.operators, "Names, separated by commas."),
            ("trials", self.trials, "How often each operator presents each part."),
            ("scans from", self.source, SOURCES["simulated"][1]),
        ):
            field.setToolTip(help_text)
            field.setAccessibleName(label)
            form.addRow(label, field)
        self._incoming_row = self._folder_row(self.incoming, "Folder for incoming scans")
        form.addRow("incoming scans", self._incoming_row)
        form.addRow("study folder", self._folder_row(self.folder, "New folder for the study"))
        self.folder.setToolTip("A new folder for the study and its scans, or one with a study to continue.")
        form.addRow(button_row("Start or continue", self.begin, self.close))
        self.source.currentIndexChanged.connect(self._show_source)
        self._show_source()
        return page

    def _folder_row(self, field: QLineEdit, title: str) -> QWidget:
        def ask() -> str:
            return QFileDialog.getExistingDirectory(self, title, field.text() or self._start)

        return path_field(field, title, ask)

    def _task_page(self) -> QWidget:
        page = QWidget()
        layout = QVBoxLayout(page)
        layout.setContentsMargins(0, 0, 0, 0)
        self.asked.setObjectName("asked")
        for label in (self.asked, self.seen):
            label.setWordWrap(True)
        self.bar.setTextVisible(False)
        self.log.setAccessibleName("Runs so far, the last one first")
        self.repeat.setObjectName("action")
        self.repeat.setToolTip("The part that is chosen in the list, or the last one, is asked for again.")
        self.repeat.clicked.connect(self._repeat)
        self.leave.setObjectName("action")
        self.leave.setToolTip("What was taken is kept in the study folder.")
        self.leave.clicked.connect(self.close)
        for widget in (self.asked, self.bar, self.seen):
            layout.addWidget(widget)
        layout.addWidget(self.log, 1)
        foot = QHBoxLayout()
        foot.addWidget(self.repeat)
        foot.addStretch()
        foot.addWidget(self.leave)
        layout.addLayout(foot)
        return page

    def _show_source(self) -> None:
        name = self.source.currentData()
        self.source.setToolTip(SOURCES[name][1])
        self._form_layout.setRowVisible(self._incoming_row, name == "folder")

    # -- the task ---------------------------------------------------------------------------------

    def begin(self) -> None:
        """Start a study in a new folder, or continue the one in it; says what is missing."""
        try:
            if not self.folder.text().strip():
                raise HemtraError("Choose a folder for the study.")
            folder = Path(self.folder.text().strip()).expanduser()
            if (folder / "study.json").is_file():
                study = load_study(folder)
            else:
                names = [name.strip() for name in self.operators.text().split(",") if name.strip()]
                parts = [str(k) for k in range(1, self.parts.value() + 1)]
                study = GuidedStudy.asked(parts, names, self.trials.value(), int(time.time()))
                begin_study(folder, study)
            presenter = self._presenter(study)
        except HemtraError as error:
            self.message.setText(str(error))
            return
        self.message.setText("")
        self.pages.setCurrentIndex(1)
        self.asked.setText("Reading what was taken before …")
        plan = self._plan

        def opened(run: StudyRun) -> None:
            if self._alive:
                self.run = run
                self._go_on()

        self._tasks.start("Gauge study", lambda task: StudyRun.of(plan, folder, presenter, task.report), opened)

    def _presenter(self, study: GuidedStudy) -> Presenter:
        if self.source.currentData() == "simulated":
            return SimulatedCovers(study.parts)
        if not self.incoming.text().strip():
            raise HemtraError("Choose the folder that the sensor's program saves scans in.")
        return IncomingScans(Path(self.incoming.text().strip()).expanduser())

    def _go_on(self) -> None:
        run = self.run
        assert run is not None
        if self._task is not None or run.study.next is None:
            self._ended(run.study.next is None)
            return

        def work(task: Task) -> bool:
            def said(what: Presentation | Run) -> None:
                task.produce(what)

            return run.work(lambda: task.report(len(run.study.taken), self._of, "runs"), said)

        self._task = self._tasks.start("Gauge study: presenting parts", work, self._ended, self._said)

    @property
    def _of(self) -> int:
        study = self.run.study if self.run is not None else None
        return 0 if study is None else len(study.taken) + study.left - len(study.again)

    def _said(self, what: Presentation | Run) -> None:
        if not self._alive or self.run is None:
            return
        study = self.run.study
        self.bar.setRange(0, max(self._of, 1))
        self.bar.setValue(len(study.taken))
        if isinstance(what, Presentation):
            again = " again" if what in study.taken else ""
            self.asked.setText(f"Present part {what.part}{again}: {what.operator}, trial {what.trial}")
            return
        self._last = what
        verdict = what.found.verdict if not what.found.error else "not read"
        self.seen.setText(f"{str(what.one).capitalize()}: {verdict}. {self._doubtful(what)}")
        mark = f"   –   {'; '.join(what.doubts)}" if what.doubts else ""
        self.log.insertItem(0, f"{what.one}: {verdict}{mark}")
        self.log.item(0).setData(Qt.ItemDataRole.UserRole, what.one)
        self.log.item(0).setToolTip(self.log.item(0).text())

    def _doubtful(self, what: Run) -> str:
        if not what.doubts:
            return ""
        assert self.run is not None
        done = "It is repeated." if what.one in self.run.study.again else "Check the part and repeat the run."
        return f"Doubtful: {'; '.join(what.doubts)}. {done}"

    def _repeat(self) -> None:
        chosen = self.log.currentItem()
        one = chosen.data(Qt.ItemDataRole.UserRole) if chosen is not None else None
        if one is None and self._last is not None:
            one = self._last.one
        if self.run is None or one is None:
            return
        self.run.repeat(one)
        self.log.setCurrentRow(-1)
        self.message.setText(f"Next: {one} again. Its previous scan is replaced.")
        if self._task is None:
            self._go_on()

    def _ended(self, whole: bool) -> None:
        self._task = None
        if not self._alive or self.run is None:
            return
        if self.run.study.next is not None and whole:
            self._go_on()  # something was requested again while the last one was kept
            return
        if whole:
            self.bar.setRange(0, 1)
            self.bar.setValue(1)
            self.asked.setText("All parts were presented; the grades are in the gauge study.")
            self.leave.setText("Close")
            self.finished_study.emit(self._plan, self.run.results)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter does nothing of its own."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Stop; what was taken is kept."""
        self._alive = False
        if self._task is not None:
            self._task.cancel()
        super().closeEvent(event)


def open_guided_study(
    plan: Plan, tasks: Tasks, start: str, parent: QWidget, done: Callable[[Plan, list[Presented]], None]
) -> GuidedStudyWindow:
    """Show the form of a guided study; `done` gets the result once all parts were presented."""
    window = GuidedStudyWindow(plan, tasks, start, parent)
    window.finished_study.connect(done)
    window.show()
    return window
