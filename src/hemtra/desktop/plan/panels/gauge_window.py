"""A gauge study in the window: where its parts come from, its grades, and the readings behind them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent, QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.gauge.chart import chart_of
from hemtra.core.gauge.marks import with_marks
from hemtra.core.gauge.study import RULES, Asked, Presented, StudiedRow, Study, studied
from hemtra.core.plan.document import Plan
from hemtra.core.text import percent
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.panels.gauge_chart import GaugeChartView
from hemtra.desktop.plan.panels.guided_study_window import GuidedStudyWindow, open_guided_study
from hemtra.desktop.plan.panels.shake_window import as_drawn
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.plain_table import plain_table
from hemtra.runtime.gauge import presented, presented_on_record, unread
from hemtra.storage.records import Records
from hemtra.storage.records.store import Lot
from hemtra.storage.study_lists import study_of

HEADS = ("", "characteristic", "unit", "EV", "AV", "GRR", "PV", "ndc", "% of tolerance", "grade")
WIDTHS = (36, 170, 50, 74, 74, 74, 74, 50, 104)
TITLES = {"aiag": "6 GRR of the tolerance (AIAG MSA)", "iso22514": "4 GRR of the tolerance (ISO 22514-7)"}
STEPS = (
    "Present about ten parts, each three times by two or three operators: a guided study says which part comes"
    " next. Or take scans you have, in a folder for each operator and named PART-TRIAL, or lots on record."
)


class GaugeWindow(QDialog):
    """Evaluates beside the window; its grades become one edit of the plan."""

    def __init__(
        self,
        bench: WorkspaceModel,
        tasks: Tasks,
        records: Callable[[], str],
        edit: Callable[[str, Callable[[], Plan]], bool],
        parent: QWidget,
    ) -> None:
        """records: where recorded parts are; '' where there are none."""
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Gauge study")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(min(1080, parent.width() - 60), min(700, parent.height() - 60))
        self._bench, self._tasks, self._records, self._edit = bench, tasks, records, edit
        self._alive = True
        """Whether it is still open when a result arrives."""
        self._studied: tuple[Plan, list[Presented]] | None = None
        self.study: Study | None = None
        self.lots, self.rule, self.message = QListWidget(), QComboBox(), QLabel(STEPS)
        self.lots.setAccessibleName("Lots on record, one an operator")
        self.rule.setAccessibleName("Rule that grades the gauge")
        for name in RULES:
            self.rule.addItem(TITLES[name], name)
        self.message.setWordWrap(True)
        self.table = plain_table(HEADS, WIDTHS, "Grades of the characteristics")
        self.chart = GaugeChartView()
        self.listed = _button("List of scans…", "A CSV with the columns scan, part, operator, trial, tag.")
        self.folder = _button("Folder of scans…", "A folder for each operator; files named PART-TRIAL.")
        self.guided = _button("Guided study…", "Says which part to present next, and keeps what comes.")
        self.recorded = _button("Study the ticked lots", "A lot for each operator; serials name the parts.")
        self.keep = _button("Keep the grades in the plan", "Each row then shows the rating of its gauge.")
        self.report = _button("Save report…", "As PDF.")
        self.keep.setObjectName("primary")
        self._connect()
        self._lay_out()
        self._tasks.start("Lots", lambda task: _lots(self._records()), self._fill_lots)
        self._show()

    def _connect(self) -> None:
        self.listed.clicked.connect(self._ask_list)
        self.folder.clicked.connect(self._ask_folder)
        self.recorded.clicked.connect(self.study_lots)
        self.guided.clicked.connect(self.open_guided)
        self.keep.clicked.connect(self._keep)
        self.report.clicked.connect(self._ask_report)
        self.rule.currentIndexChanged.connect(self._evaluate)
        self.table.itemSelectionChanged.connect(self._draw)
        self.lots.itemChanged.connect(self._offer)

    def _lay_out(self) -> None:
        panel = QFrame()
        panel.setObjectName("panel")
        inner = QVBoxLayout(panel)
        inner.setContentsMargins(12, 10, 12, 10)
        sources = QHBoxLayout()
        for button in (self.guided, self.listed, self.folder, self.recorded):
            sources.addWidget(button)
        sources.addStretch()
        sources.addWidget(QLabel("graded by"))
        sources.addWidget(self.rule)
        self.lots.setMaximumHeight(86)
        inner.addLayout(sources)
        inner.addWidget(self.lots)
        inner.addWidget(self.table, 3)
        inner.addWidget(self.chart, 2)
        foot = QHBoxLayout()
        foot.addWidget(self.message, 1)
        foot.addWidget(self.report)
        foot.addWidget(self.keep)
        inner.addLayout(foot)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(panel)

    # -- where the parts come from ----------------------------------------------------------------

    def _fill_lots(self, found: tuple[Lot, ...]) -> None:
        if not self._alive:
            return
        for lot in found:
            item = QListWidgetItem(lot.name)
            item.setData(Qt.ItemDataRole.UserRole, lot)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.lots.addItem(item)
        self.lots.setVisible(bool(found))
        self._offer()

    @property
    def ticked(self) -> dict[str, Lot]:
        """Studied lots by operator, which is the name of the lot."""
        items = [self.lots.item(k) for k in range(self.lots.count())]
        chosen = [item for item in items if item.checkState() == Qt.CheckState.Checked]
        return {item.text(): item.data(Qt.ItemDataRole.UserRole) for item in chosen}

    def _ask_list(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "List of the study", self._start, "Lists (*.csv)")
        if name:
            self.study_files(Path(name))

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Folder of the study", self._start)
        if name:
            self.study_files(Path(name))

    def open_guided(self) -> GuidedStudyWindow:
        """Present the parts of a study now; its grades are shown here."""
        plan = self._bench.document.plan
        return open_guided_study(plan, self._tasks, self._start, self, self.show_presented)

    @property
    def _start(self) -> str:
        path = self._bench.document.path
        return "" if path is None else str(path.parent)

    def study_files(self, path: Path) -> None:
        """Evaluate the scans of a list, or of a folder."""
        plan = self._bench.document.plan
        self._begin(plan, lambda task: presented(plan, study_of(path), task.report))

    def study_lots(self) -> None:
        """Evaluate what is on record of the ticked lots."""
        plan, url, lots = self._bench.document.plan, self._records(), self.ticked

        def work(task: Task) -> list[Presented]:
            records = Records(url, create=False)
            try:
                return presented_on_record(plan, records, lots, task.report)
            finally:
                records.close()

        self._begin(plan, work)

    def _begin(self, plan: Plan, work: Callable[[Task], list[Presented]]) -> None:
        def done(found: list[Presented]) -> None:
            if self._alive:
                self.show_presented(plan, found)

        self._tasks.start("Gauge study", work, done)

    def show_presented(self, plan: Plan, found: list[Presented]) -> None:
        """Grade what a plan found on parts that were presented."""
        self._studied = plan, found
        self._evaluate()

    # -- what comes of them -----------------------------------------------------------------------

    def _evaluate(self) -> None:
        """Grade what was presented by the rule that is chosen."""
        if self._studied is None:
            return
        plan, found = self._studied
        self.study = studied(plan, found, Asked(rule=RULES[self.rule.currentData()]))
        self._show()
        self.table.selectRow(0)

    def _show(self) -> None:
        study = self.study
        rows = () if study is None else study.rows
        self.table.setRowCount(len(rows))
        for line, row in enumerate(rows):
            for column, text in enumerate(_cells(row)):
                item = QTableWidgetItem(text)
                item.setToolTip(text)
                self.table.setItem(line, column, item)
        if study is not None and self._studied is not None:
            asked = f"{study.parts} parts, {study.operators} operators, {study.trials} trials"
            agree = "" if study.verdicts is None else f"; verdicts agree in {percent(study.verdicts.share, 1)}"
            lost = list(unread(self._studied[1]))
            wrong = f". {len(lost)} scans cannot be read: {lost[0]}" if lost else ""
            self.message.setText(asked + units.signed(agree) + wrong)
        self._offer()
        self._draw()

    def _offer(self) -> None:
        has_rows = self.study is not None and any(row.spread is not None for row in self.study.rows)
        self.keep.setEnabled(has_rows)
        self.report.setEnabled(self.study is not None)
        self.recorded.setEnabled(bool(self.ticked))
        self.recorded.setVisible(self.lots.count() > 0)

    def _draw(self) -> None:
        line = self.table.currentRow()
        rows = () if self.study is None else self.study.rows
        self.chart.show_chart(chart_of(rows[line]) if 0 <= line < len(rows) else None)

    def _keep(self) -> None:
        """Keep the grades, unless the plan measures otherwise since: their rows then say so."""
        study = self.study
        if study is None or self._studied is None:
            return
        plan = self._bench.document.plan
        if as_drawn(plan) != as_drawn(self._studied[0]):
            self.message.setText("The plan has changed since; study it again, then keep the grades.")
            return
        today, rule = datetime.now().date(), self.rule.currentData()
        made = with_marks(plan, study, rule, today)
        if self._edit("grades of the gauge", lambda: made):
            self._studied = self._bench.document.plan, self._studied[1]
            self.message.setText("The plan has the grades; its sheet shows them.")

    def _ask_report(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save report", f"{self._start}/gauge.pdf", "PDF (*.pdf)")
        if name:
            self.save_report(Path(name))

    def save_report(self, path: Path) -> None:
        """Write it beside the window."""
        study, plan, rule = self.study, self._bench.document.plan.name, self.rule.currentData()
        if study is None:
            return

        def work(task: Task) -> None:
            from hemtra.storage.reports.gauge_report import save_gauge_report  # loads the PDF library

            save_gauge_report(plan, study, rule, datetime.now().date(), path)

        def done(_: object) -> None:
            if self._alive:
                self.message.setText(f"Saved as {path}.")

        self._tasks.start(f"Writing {path.name}", work, done)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it; Enter does nothing of its own."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        """Drop answers that arrive after closing."""
        self._alive = False
        super().closeEvent(event)


def _lots(url: str) -> tuple[Lot, ...]:
    if not url:
        return ()
    records = Records(url, create=False)
    try:
        return tuple(records.all_lots())
    finally:
        records.close()


def _cells(row: StudiedRow) -> tuple[str, ...]:
    head = str(row.balloon), row.name, row.unit
    share = "" if row.share is None else units.signed(f"{row.share:.1f}")
    last = row.reason or row.grade
    if row.spread is not None:
        found = row.spread
        shown = found.repeatability, found.reproducibility, found.gauge, found.parts
        numbers = (*(units.signed(f"{one.deviation:.4f}") for one in shown), str(min(found.categories, 999)))
        return (*head, *numbers, share, last)
    return (*head, "", "", "", "", "", share, last)


def _button(text: str, help_text: str) -> QPushButton:
    button = QPushButton(text)
    button.setObjectName("action")
    button.setToolTip(help_text)
    return button
