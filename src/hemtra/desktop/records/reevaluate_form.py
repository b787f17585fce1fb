"""What a re-evaluation is to do: by which plan, of which lots, and where."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QWidget,
)

from hemtra.core.plan.document import Plan
from hemtra.desktop.models.records_bench import RecordsBench
from hemtra.desktop.records.filter_bar import day_of, next_day
from hemtra.desktop.widgets.path_field import path_field
from hemtra.runtime.lot_reevaluation import JOBS
from hemtra.runtime.reevaluation import ONE_LOT
from hemtra.storage.records.store import Lot
from hemtra.storage.remote import is_remote, shown_address
from hemtra.storage.settings import files_begin_at, load_settings


@dataclass(frozen=True)
class Choice:
    """What was chosen. plan: a file, or None for the open plan. on: a cluster, empty for this computer. scans:
    where they have been moved to, empty where they lie as on record.
    """

    plan: Path | None
    lots: tuple[Lot, ...]
    on: str
    jobs: int
    scans: str = ""


class ReevaluateForm(QDialog):
    """Enter starts it; Escape leaves it."""

    def __init__(
        self, bench: RecordsBench, plan: Plan, start: Callable[[Choice], None], parent: QWidget
    ) -> None:
        super().__init__(parent)
        self.setObjectName("workspace")
        self.setWindowTitle("Re-evaluate with…")
        self.setMinimumWidth(min(520, parent.width() - 40))
        self._bench, self._plan, self._start = bench, plan, start
        self.plan = QLineEdit()
        self.plan.setToolTip("The file of a plan; empty for the plan that is open.")
        self.plan.setPlaceholderText(f"the open plan, “{plan.name}”" if plan.sheet else "choose a plan")
        self.scans = QLineEdit()
        self.scans.setToolTip(
            "Folder or address that the scans have been moved to; empty where they lie as on record."
        )
        self.scans.setPlaceholderText("as on record")
        self.which = QComboBox()
        # as its label says, whatever is chosen in the list meanwhile
        self._chosen = chosen = _by_time(bench.lots)
        self.which.addItem(f"the {len(chosen)} chosen lots" if len(chosen) != 1 else f"{chosen[0].name} only")
        self.which.addItem("all lots begun on these days")
        self.which.setAccessibleName("lots")
        self.since, self.until = QLineEdit(), QLineEdit()
        for field, name, hint in ((self.since, "from day", "the first"), (self.until, "to day", "the last")):
            field.setAccessibleName(name)
            field.setPlaceholderText(hint)
            field.setToolTip(f"Like 2026-01-31; empty for {hint} there is.")
            field.textEdited.connect(self._offer)
        self.where = QComboBox()
        self.where.setAccessibleName("where")
        self.where.addItem(f"this computer, {JOBS} processes", ("", JOBS))
        self.where.addItem("this computer, 1 process", ("", 1))
        cluster = load_settings().cluster
        if cluster:
            self.where.addItem(f"cluster {cluster}", (cluster, JOBS))
        self.where.setToolTip(
            "Where scans are read; values on record are compared here." if cluster else NO_CLUSTER
        )
        self.message = QLabel()
        self.message.setWordWrap(True)
        self.go, leave = QPushButton("Start"), QPushButton("Cancel")
        self.go.setObjectName("primary")
        self.go.setDefault(True)
        leave.setObjectName("secondary")
        self.go.clicked.connect(self._begin)
        leave.clicked.connect(self.reject)
        self.which.activated.connect(self._offer)
        for field in (self.plan, self.scans):
            field.textChanged.connect(self._offer)
        self._lay_out(leave)
        self._offer()

    def _lay_out(self, leave: QPushButton) -> None:
        self._days = QWidget()
        days = QHBoxLayout(self._days)
        days.setContentsMargins(0, 0, 0, 0)
        for field in (self.since, self.until):
            days.addWidget(field)
        self._form = form = QFormLayout(self)
        form.setContentsMargins(18, 16, 18, 16)
        form.addRow("plan", path_field(self.plan, "plan", self._ask_plan))
        form.addRow("lots", self.which)
        form.addRow("days", self._days)
        form.addRow("scans", path_field(self.scans, "scans", self._ask_scans))
        form.addRow("where", self.where)
        form.addRow(self.message)
        foot = QHBoxLayout()
        foot.addStretch(1)
        foot.addWidget(leave)
        foot.addWidget(self.go)
        form.addRow(foot)

    def _ask_plan(self) -> str:
        start = self.plan.text() or str(files_begin_at())
        return QFileDialog.getOpenFileName(self, "Plan", start, "Plans (*.hplan)")[0]

    def _ask_scans(self) -> str:
        return QFileDialog.getExistingDirectory(self, "Scans", self.scans.text() or str(files_begin_at()))

    @property
    def lots(self) -> tuple[Lot, ...]:
        """Lots that are meant, the oldest first."""
        if self.which.currentIndex() == 0:
            return self._chosen
        since, until = day_of(self.since), day_of(self.until)
        first = -math.inf if since is None else since
        last = math.inf if until is None else next_day(until)
        views = (view for group in self._bench.groups for view in group.lots)
        return _by_time(view.lot for view in views if first <= view.lot.started < last)

    def _offer(self) -> None:
        """Say how much it is, or what is missing."""
        lots, file, scans = self.lots, self.plan.text().strip(), self.scans.text().strip()
        by_days = self.which.currentIndex() == 1
        self._form.setRowVisible(self._days, by_days)
        wanted = {lot.id for lot in lots}
        views = [view for group in self._bench.groups for view in group.lots if view.lot.id in wanted]
        trouble = ""
        if file and not Path(file).expanduser().is_file():
            trouble = f"There is no file {file}."
        elif not file and not self._plan.sheet:
            trouble = "Choose a plan, or open one in the Plan workspace."
        elif by_days and any(field.property("wrong") for field in (self.since, self.until)):
            trouble = "Write days like 2026-01-31."
        elif scans and shown_address(scans) != scans:
            trouble = "Leave user, password and keys out of the address; the manual says where they belong."
        elif scans and len(lots) > 1:
            trouble = ONE_LOT
        elif scans and not is_remote(scans) and not Path(scans).expanduser().is_dir():
            trouble = f"There is no folder {scans}."
        elif not lots:
            trouble = "No lot was begun on these days." if by_days else "Choose lots in the list."
        parts = sum(view.counts.all for view in views)
        count = f"{len(lots)} {'lot' if len(lots) == 1 else 'lots'}, {parts} parts."
        self.message.setText(trouble or f"{count} {PROMISE}")
        self.go.setEnabled(not trouble)
        self._form.activate()
        self.resize(self.width(), self._form.totalHeightForWidth(self.width()))

    def _begin(self) -> None:
        file = self.plan.text().strip()
        (on, jobs), scans = self.where.currentData(), self.scans.text().strip()
        if scans and not is_remote(scans):
            scans = str(Path(scans).expanduser().absolute())
        choice = Choice(Path(file).expanduser() if file else None, self.lots, on, jobs, scans)
        self.accept()
        self._start(choice)


NO_CLUSTER = "To evaluate on other computers, name a cluster in the settings."
PROMISE = "Nothing on record changes. It continues when this window is closed."


def _by_time(lots: Iterable[Lot]) -> tuple[Lot, ...]:
    return tuple(sorted(lots, key=lambda lot: lot.started))
