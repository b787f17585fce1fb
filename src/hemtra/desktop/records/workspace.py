"""The Records workspace: lots, parts, one characteristic over them; reports, exports, another plan tried."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Slot
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.desktop.background.latest_task import LatestTaskWorker
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.documents.session import Prepare
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.records_bench import CharacteristicTrend, Overview, RecordsBench
from hemtra.desktop.records.failure_list import FailureList
from hemtra.desktop.records.filter_bar import FilterBar
from hemtra.desktop.records.lot_list import LotList
from hemtra.desktop.records.part_page import PartPage
from hemtra.desktop.records.part_table import PartTable
from hemtra.desktop.records.queries import (
    LotsRequest,
    PartsRequest,
    TrendRequest,
    find_parts,
    follow,
    lot_overview,
)
from hemtra.desktop.records.record_actions import RecordActions
from hemtra.desktop.records.reevaluation_page import ReevaluationPage
from hemtra.desktop.records.trend_view import LotTrendView
from hemtra.desktop.widgets.notifications import Notifications
from hemtra.runtime.lot_reevaluation import LotReevaluation
from hemtra.runtime.run_setup import default_db
from hemtra.storage.records import Records
from hemtra.storage.records.pages import LotView, Page, lot_views

LOTS, FAILURES, TREND = 196, 230, 550
"""Widths of lots, failures, and a trend with its statistics, pixels."""


class RecordsWorkspace(QWidget):
    """The records of one database; long work runs beside the window."""

    def __init__(self, plans: WorkspaceModel, notifications: Notifications, tasks: Tasks) -> None:
        super().__init__()
        self.setObjectName("workspace")
        self.bench = RecordsBench()
        self.db: str | None = None
        """Location of the records; None for the default."""
        self.locked = False
        """Whether editing is: then nothing goes to the tray."""
        self.prepare: Prepare | None = None
        """Preparation of the records before the first look."""
        self.records: Records | None = None
        self._plans, self._notifications, self._tasks = plans, notifications, tasks
        self.record_actions = RecordActions(self.bench, plans, notifications, tasks, self)
        self.lots, self.filters = LotList(self.bench), FilterBar(self.bench)
        self.parts, self.failures = PartTable(self.bench), FailureList(self.bench)
        self.trend, self.part = LotTrendView(self.bench), PartPage()
        self.reevaluated = ReevaluationPage()
        self.page_lane = LatestTaskWorker(find_parts, "parts", self)
        self.overview_lane, self.trend_lane = (
            LatestTaskWorker(lot_overview, "lots", self),
            LatestTaskWorker(follow, "trend", self),
        )
        self._lay_out()
        self._connect()
        self.refresh_buttons()

    def _lay_out_bar(self) -> None:
        self.name, self.open_button, self.merge_button = (
            QLabel(),
            QPushButton("Open…"),
            QPushButton("Merge…"),
        )
        self.name.setObjectName("muted")
        self.report_button, self.export_button = QPushButton("Report…"), QPushButton("Export…")
        self.reevaluate_button = QPushButton("Re-evaluate with current plan")
        self.reevaluate_with_button = QPushButton("Re-evaluate with…")
        self.tray_button = QPushButton("Failed parts to the tray")
        self.report_button.setObjectName("primary")
        for button in (
            self.reevaluate_button,
            self.reevaluate_with_button,
            self.tray_button,
            self.export_button,
        ):
            button.setObjectName("secondary")
        for button in (self.open_button, self.merge_button):
            button.setObjectName("action")
        self.open_button.setToolTip("Opens the records of another file.")
        self.merge_button.setToolTip("Adds new parts from the records of another computer.")
        self.reevaluate_button.setToolTip("List what changes when the lot is evaluated with the open plan.")
        self.reevaluate_with_button.setToolTip("Any lots by any plan, here or on a cluster.")
        self.tray_button.setToolTip("Send failed parts with stored scans to the tray.")
        self.bar = QFrame()
        self.bar.setObjectName("panel")
        row = QHBoxLayout(self.bar)
        row.setContentsMargins(12, 6, 12, 6)
        row.setSpacing(10)
        for widget in (
            self.report_button,
            self.export_button,
            self.reevaluate_button,
            self.reevaluate_with_button,
            self.tray_button,
        ):
            row.addWidget(widget)
        row.addWidget(self.name, 1)
        for button in (self.open_button, self.merge_button):
            row.addWidget(button)

    def _lay_out(self) -> None:
        self._lay_out_bar()
        bar = self.bar
        self.empty = QLabel()
        self.empty.setWordWrap(True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        lots, failures = _panel("Lots", self.lots), _panel("Not passed", self.failures)
        below = QFrame()
        below.setObjectName("panel")
        column = QVBoxLayout(below)
        column.setContentsMargins(1, 0, 1, 4)
        column.setSpacing(0)
        column.addWidget(self.filters)
        column.addWidget(self.parts, 1)
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(failures)
        upper.addWidget(self.trend)
        lots.setMinimumWidth(LOTS)
        failures.setMinimumWidth(FAILURES)
        self.trend.setMinimumWidth(TREND)
        upper.setSizes([300, 720])
        upper.setStretchFactor(1, 1)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(upper)
        right.addWidget(below)
        right.setSizes([330, 310])
        whole = QSplitter(Qt.Orientation.Horizontal)
        whole.addWidget(lots)
        whole.addWidget(right)
        whole.setSizes([232, 1020])
        whole.setStretchFactor(1, 1)
        for splitter in (upper, right, whole):
            splitter.setHandleWidth(8)
            splitter.setChildrenCollapsible(False)
        self.pages = QStackedWidget()
        # what is done with a part, or a list of changes, stands on its own page
        self.pages.currentChanged.connect(lambda index: bar.setVisible(index in (0, 3)))
        for page_widget in (whole, self.part, self.reevaluated, self.empty):
            self.pages.addWidget(page_widget)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.setSpacing(8)
        layout.addWidget(bar)
        layout.addWidget(self.pages, 1)

    def _connect(self) -> None:
        bench = self.bench
        bench.parts_wanted.connect(self._ask_parts)
        bench.overview_wanted.connect(self._ask_overview)
        bench.trend_wanted.connect(self._ask_trend)
        bench.lots_changed.connect(self.refresh_buttons)
        self.page_lane.responded.connect(self._on_parts)
        self.overview_lane.responded.connect(self._on_overview)
        self.trend_lane.responded.connect(self._on_trend)
        for lane in (self.page_lane, self.overview_lane, self.trend_lane):
            lane.failed.connect(self._on_failed)
        self.parts.parts.more_wanted.connect(self._ask_more)
        self.parts.opened.connect(lambda part: self.open_part(part.id))
        self.failures.listed.connect(self.filters.show_failing)
        self.trend.part_wanted.connect(self.open_part)
        self.part.left.connect(self.show_lots)
        self.part.step_wanted.connect(self._step)
        record_actions = self.record_actions
        record_actions.reevaluated.connect(self._show_reevaluated)
        record_actions.merged.connect(self.show_now)
        self.part.report_wanted.connect(record_actions.ask_part_report)
        self.part.first_article_wanted.connect(record_actions.ask_first_article)
        self.part.tray_wanted.connect(lambda seen: record_actions.to_tray([seen.sheet.part]))
        self.part.failed.connect(self._notifications.error)
        self.reevaluated.left.connect(self.show_lots)
        self.reevaluated.part_wanted.connect(self.open_part)
        self.reevaluated.tray_wanted.connect(
            lambda found: record_actions.to_tray([change.part for change in found.changes if change.flips])
        )
        self.reevaluated.save_wanted.connect(record_actions.ask_save_changes)
        for button, do in (
            (self.report_button, record_actions.ask_report),
            (self.export_button, record_actions.ask_export),
            (self.reevaluate_button, record_actions.reevaluate),
            (self.reevaluate_with_button, lambda: record_actions.ask_reevaluate(self.window())),
            (self.tray_button, self.failed_to_tray),
            (self.open_button, self.ask_open),
            (self.merge_button, record_actions.ask_merge),
        ):
            button.clicked.connect(do)

    # -- the database -----------------------------------------------------------------------------

    def show_now(self) -> None:
        """Refresh the records; when the workspace is shown, and when asked."""
        db, known, prepare = self.db or default_db(), self.records, self.prepare
        self.prepare = None

        def work(task: Task) -> tuple[Records, list[LotView]]:
            if prepare is not None:
                prepare(task.report)
            records = known if known is not None and known.url == db else Records(db)
            return records, lot_views(records)

        task = self._tasks.start("Records", work, self._take)
        task.failed.connect(self._not_opened)

    def open(self, db: str) -> None:
        """Show another database."""
        self.db = db
        self.bench.chosen = ()
        self.show_lots()
        self.show_now()

    def _take(self, found: tuple[Records, list[LotView]]) -> None:
        records, views = found
        if records is not self.records and self.records is not None:
            self.records.close()
        self.records = self.record_actions.records = records
        self.name.setText(Path(records.name).name)
        self.name.setToolTip(records.name)
        self.bench.take_lots(views)
        if not views:
            self.empty.setText(
                "No records yet. Start a line in the Run workspace, open the demo, or the records"
                " of another computer."
            )
        if not views or self.pages.currentIndex() == 3:
            self.pages.setCurrentIndex(0 if views else 3)

    @Slot(object)
    def _not_opened(self, error: BaseException) -> None:
        """The records that were open stay; without any, the reason stands in their place."""
        if self.records is not None:
            self.db = self.records.url
            return
        self.empty.setText(str(error) if isinstance(error, HemtraError) else "The records cannot be opened.")
        self.pages.setCurrentIndex(3)

    def stop(self) -> None:
        """End the lanes and close the database."""
        for lane in (self.page_lane, self.overview_lane, self.trend_lane):
            lane.stop()
        self.part.stop()
        if self.records is not None:
            self.records.close()
            self.records = self.record_actions.records = None

    @property
    def idle(self) -> bool:
        """Whether everything on screen is up to date."""
        lanes = self.page_lane, self.overview_lane, self.trend_lane
        return all(lane.idle for lane in lanes) and self.part.idle

    # -- what is requested and comes back ---------------------------------------------------------

    def _ask_parts(self) -> None:
        if self.records is not None:
            self.page_lane.submit(PartsRequest(self.records, self.bench.filter))

    def _ask_more(self) -> None:
        if self.records is not None and self.bench.more is not None and self.page_lane.idle:
            self.page_lane.submit(PartsRequest(self.records, self.bench.filter, self.bench.more))

    def _ask_overview(self) -> None:
        if self.records is not None:
            self.overview_lane.submit(LotsRequest(self.records, tuple(self.bench.lots)))

    def _ask_trend(self) -> None:
        if self.records is not None and self.bench.balloon is not None:
            self.trend_lane.submit(TrendRequest(self.records, tuple(self.bench.lots), self.bench.balloon))

    @Slot(object, object)
    def _on_parts(self, request: PartsRequest, found: Page | int) -> None:
        if request.records is not self.records:
            return
        if isinstance(found, int):
            self.bench.take_total(request.wanted, found)
        else:
            self.bench.take_page(request.wanted, found, first=request.after is None)

    @Slot(object, object)
    def _on_overview(self, request: LotsRequest, found: Overview) -> None:
        if request.records is self.records:
            self.bench.take_overview(found)

    @Slot(object, object)
    def _on_trend(self, request: TrendRequest, found: CharacteristicTrend) -> None:
        if request.records is self.records and request.balloon == self.bench.balloon:
            self.bench.take_trend(found)

    @Slot(object, object)
    def _on_failed(self, request: object, error: BaseException) -> None:
        self._notifications.error(error)

    # -- pages ------------------------------------------------------------------------------------

    def show_lots(self) -> None:
        """Back to lots and parts."""
        self.pages.setCurrentIndex(0 if self.bench.groups else 3)
        self.parts.setFocus()

    def open_part(self, key: int) -> None:
        """Show a part with its evidence."""
        if self.records is not None:
            self.part.open(self.records, key)
            self.pages.setCurrentIndex(1)
            self.part.sheet.setFocus()

    def _step(self, by: int) -> None:
        """The part beside in the list that it was opened from."""
        seen, parts = self.part.seen, self.bench.parts
        at = next((k for k, part in enumerate(parts) if seen and part.id == seen.sheet.part.id), None)
        if at is not None and 0 <= at + by < len(parts):
            self.parts.selectRow(at + by)
            self.open_part(parts[at + by].id)

    def _show_reevaluated(self, found: LotReevaluation) -> None:
        self.reevaluated.show_found(found)
        self.pages.setCurrentIndex(2)
        self.reevaluated.table.setFocus()

    def ask_open(self) -> None:
        """Ask which database to show."""
        name = self.record_actions.asked_for("Open records")
        if name:
            self.open(name)

    def failed_to_tray(self) -> None:
        """Add failed parts to the tray, or only the selected ones of several."""
        self.record_actions.failed_to_tray(self.parts.selected())

    def refresh_buttons(self) -> None:
        """Update which actions are possible on the selection."""
        one, any_lot = self.bench.lot is not None, bool(self.bench.chosen)
        has_plan = bool(self._plans.document.plan.sheet)
        self.report_button.setEnabled(one)
        self.report_button.setToolTip(
            "A report of this lot as PDF." if one else "A report is of one lot; choose one in the list."
        )
        self.reevaluate_button.setEnabled(one and has_plan)
        self.reevaluate_button.setToolTip(
            "Re-evaluate this lot with the open plan."
            if one and has_plan
            else "Choose one lot, and open the plan to evaluate it with."
        )
        self.reevaluate_with_button.setEnabled(any_lot)
        self.export_button.setEnabled(any_lot)
        self.tray_button.setEnabled(any_lot and not self.locked)
        for button in (self.part.to_tray, self.reevaluated.tray_button):
            button.setVisible(not self.locked)
        self.merge_button.setEnabled(self.records is not None)


def _panel(title: str, inner: QWidget) -> QFrame:
    """A list under its heading."""
    panel, heading = QFrame(), QLabel(title)
    panel.setObjectName("panel")
    heading.setObjectName("heading")
    heading.setContentsMargins(12, 6, 8, 2)
    column = QVBoxLayout(panel)
    column.setContentsMargins(1, 0, 1, 4)
    column.setSpacing(2)
    column.addWidget(heading)
    column.addWidget(inner, 1)
    return panel
