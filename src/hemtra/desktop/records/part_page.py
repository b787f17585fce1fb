"""A part opened from the records: its sheet as it was, and its scan with the evidence of that day."""

from __future__ import annotations

import time
from collections.abc import Iterator
from functools import partial

import numpy as np
from PySide6.QtCore import Qt, Signal, Slot
from PySide6.QtGui import QKeyEvent, QKeySequence, QShortcut
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

from hemtra.core.plan.limits import Verdict
from hemtra.core.plan.series import beyond
from hemtra.desktop.background.evaluation import ShowRequest, show
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.models.bench import Shown, WorkspaceModel
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.records.record_sheet import RecordSheet
from hemtra.desktop.widgets import theme
from hemtra.runtime.reevaluation import ReevaluatedPart, reevaluate_part
from hemtra.storage.records import Records


class PartPage(QWidget):
    """Read only: nothing here changes the record, the plan or the scan."""

    left = Signal()
    """Back to the lots."""
    step_wanted = Signal(int)
    """The part after or before in the list."""
    report_wanted, first_article_wanted, tray_wanted = Signal(object), Signal(object), Signal(object)
    failed = Signal(object)

    def __init__(self) -> None:
        super().__init__()
        self.bench = WorkspaceModel()
        self.bench.read_only = True
        self.seen: ReevaluatedPart | None = None
        self.title, self.facts = QLabel(), QLabel()
        self.notes, self.missing = QLabel(), QLabel()
        self.sheet, self.stage, self.section = RecordSheet(), TopView(self.bench), SectionView(self.bench)
        self._open_lane, self._show_lane = (
            LatestTaskWorker(_open, "part of the records", self),
            LatestTaskWorker(show, "evidence", self),
        )
        self._open_lane.responded.connect(self._on_opened)
        self._show_lane.responded.connect(self._on_shown)
        for lane in (self._open_lane, self._show_lane):
            lane.failed.connect(self._on_failed)
        self._lay_out()
        for key, by in ((Qt.Key.Key_PageUp, -1), (Qt.Key.Key_PageDown, 1)):
            # before the list gets it, which has no pages worth turning
            shortcut = QShortcut(QKeySequence(key), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(partial(self.step_wanted.emit, by))
        self.sheet.chosen.connect(self.bench.select)
        self.stage.balloon_clicked.connect(self.sheet.choose_balloon)
        self.stage.line_moved.connect(self.bench.set_line)
        self.stage.distance_picked.connect(self.bench.set_distance)
        self.stage.recoloured.connect(self._evaluate)
        self.section.hovered.connect(self.stage.link)
        self.bench.selection_changed.connect(self._on_selection)
        self.bench.line_changed.connect(self._evaluate)

    def _lay_out(self) -> None:
        self.back = QPushButton("Back to the lots   Esc")
        self.earlier, self.later = QPushButton("Newer   PgUp"), QPushButton("Older   PgDn")
        self.report, self.to_tray = QPushButton("Report…"), QPushButton("To the tray")
        self.first_article = QPushButton("First article…")
        self.first_article.setToolTip("Every requirement with its result, U and verdict, as PDF or workbook.")
        for button in (self.back, self.earlier, self.later, self.report, self.first_article, self.to_tray):
            button.setObjectName("action")
        self.back.clicked.connect(self.left)
        self.earlier.clicked.connect(lambda: self.step_wanted.emit(-1))
        self.later.clicked.connect(lambda: self.step_wanted.emit(1))
        self.report.clicked.connect(lambda: self.report_wanted.emit(self.seen))
        self.first_article.clicked.connect(lambda: self.first_article_wanted.emit(self.seen))
        self.to_tray.clicked.connect(lambda: self.tray_wanted.emit(self.seen))
        self.to_tray.setToolTip("Try the present plan on its scan, in the Plan workspace.")
        bar = QFrame()
        bar.setObjectName("panel")
        row = QHBoxLayout(bar)
        row.setContentsMargins(10, 4, 10, 4)
        self.title.setObjectName("heading")
        for widget in (self.back, self.title):
            row.addWidget(widget)
        row.addStretch(1)
        for widget in (self.earlier, self.later, self.to_tray, self.first_article, self.report):
            row.addWidget(widget)
        side = QFrame()
        side.setObjectName("panel")
        column = QVBoxLayout(side)
        column.setContentsMargins(2, 8, 2, 6)
        for label in (self.facts, self.notes):
            label.setWordWrap(True)
            label.setContentsMargins(10, 0, 10, 0)
            column.addWidget(label)
        self.facts.setObjectName("muted")
        column.addWidget(self.sheet, 1)
        self.missing.setWordWrap(True)
        self.missing.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.missing.setContentsMargins(60, 0, 60, 0)
        views = QSplitter(Qt.Orientation.Vertical)
        views.addWidget(self.stage)
        views.addWidget(self.section)
        views.setSizes([440, 190])
        self.pictures = QStackedWidget()
        self.pictures.addWidget(views)
        self.pictures.addWidget(self.missing)
        whole = QSplitter(Qt.Orientation.Horizontal)
        whole.addWidget(side)
        whole.addWidget(self.pictures)
        whole.setSizes([330, 930])
        whole.setStretchFactor(1, 1)
        for splitter in (views, whole):
            splitter.setHandleWidth(8)
            splitter.setChildrenCollapsible(False)
        for button in (self.stage.tools.prepare, self.stage.tools.space):
            button.hide()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        layout.addWidget(bar)
        layout.addWidget(whole, 1)

    @property
    def idle(self) -> bool:
        """Whether everything on screen is up to date."""
        return self._open_lane.idle and self._show_lane.idle

    def open(self, records: Records, key: int) -> None:
        """Show a part by its key; it comes when it comes."""
        self.title.setText("")  # what is still shown is another part
        self._open_lane.submit((records, key))

    def stop(self) -> None:
        """End the lanes."""
        for lane in (self._open_lane, self._show_lane, self.stage.offers.lane):
            lane.stop()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape goes back."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    @Slot(object, object)
    def _on_opened(self, request: object, seen: ReevaluatedPart) -> None:
        self.seen = seen
        sheet, part, again = seen.sheet, seen.sheet.part, seen.again
        when = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(part.scanned))
        self.title.setText(f"Part {part.number} of {sheet.lot.name} · {part.verdict}")
        colour = theme.verdict_colour(part.verdict).name()
        self.title.setStyleSheet(f"color: {colour};" if part.verdict is not Verdict.PASS else "")
        serial = f"{part.serial} · " if part.serial else ""
        self.facts.setText(f"{serial}{when} · {sheet.station} · plan {sheet.revision} · signals {part.signal}")
        notes = [f"Re-evaluation differs: {text}" for text in seen.differences]
        notes += [f"{e.kind}: {e.text}" for e in sheet.events if e.text not in seen.differences]
        self.notes.setText("\n".join(notes))
        self.notes.setStyleSheet(f"color: {theme.colour('copper').name()};")
        self.notes.setVisible(bool(notes))
        self.missing.setText(seen.missing)
        self.to_tray.setEnabled(again is not None)
        bench = self.bench
        bench.select(None)
        bench.tray.clear()
        if again is not None:
            bench.document.open(again.plan, None, None)
            held = TrayPart(again.scan)
            held.engine = again.engine
            bench.tray.add(held)
        self.pictures.setCurrentIndex(0 if again is not None else 1)
        self.sheet.show_part(sheet.rows)

    def _on_selection(self) -> None:
        self.bench.line = self.bench.distance = None
        self.bench.profile = self._worst_profile()
        self._evaluate()

    def _worst_profile(self) -> int | None:
        """Profile of a sequence where the chosen characteristic is farthest out."""
        seen, row = self.seen, self.bench.row
        again = None if seen is None else seen.again
        if again is None or row is None or again.plan.by_profile is None:
            return None
        series = again.result.series.get(row.balloon)
        if series is None or not series.measured.any():
            return None
        far = beyond(series.values, row.lower, row.upper)
        return int(np.nanargmax(np.where(series.measured, far, np.nan)))

    def _evaluate(self) -> None:
        bench, part = self.bench, self.bench.tray.current
        if part is None:
            self._show_lane.cancel()
            bench.show(None)
            return
        self._show_lane.submit(
            ShowRequest(
                part.engine,
                None,
                bench.document.plan,
                bench.balloon,
                bench.line,
                bench.section_width,
                bench.colour,
                bench.profile,
                bench.distance,
            )
        )

    @Slot(object, object)
    def _on_shown(self, request: ShowRequest, shown: Shown) -> None:
        part = self.bench.tray.current
        if part is not None and part.engine is request.engine:
            self.bench.show(shown)

    @Slot(object, object)
    def _on_failed(self, request: object, error: BaseException) -> None:
        self.failed.emit(error)


def _open(request: tuple[Records, int], superseded: Superseded) -> Iterator[ReevaluatedPart]:
    yield reevaluate_part(*request)
