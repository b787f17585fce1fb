"""The Run workspace: one glance, start and stop, and nothing to edit."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal, Slot
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.events import Event
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.run_bench import RunBench, RunEnvironment
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.run.part_view import PartView
from hemtra.desktop.run.ribbon import Ribbon
from hemtra.desktop.run.status_panel import StatusPanel
from hemtra.desktop.run.trend_view import TrendView
from hemtra.desktop.run.verdict_view import VerdictView
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.runtime.belt_mark import BeltNotClear
from hemtra.runtime.production import Done, Listeners, Production
from hemtra.runtime.run_setup import RunRequest, begin
from hemtra.storage.settings import files_begin_at

LOOK = 250
"""Interval between checks of outputs and records, ms."""
JOBS = 2
SOURCES = {
    "tray": "parts of the tray on the belt",
    "line": "the station's line",
    "watch": "a folder being filled…",
    "replay": "a folder of scans…",
}
"""Sources of the parts of a run."""


class RunWorkspace(QWidget):
    """Starts and stops a line and shows what becomes of its parts."""

    _part, _event, _ended = Signal(object), Signal(object), Signal(str)
    monitor_wanted, signals_wanted, lock_wanted = Signal(), Signal(), Signal()

    def __init__(
        self, bench: WorkspaceModel, station_bench: StationBench, notifications: Notifications, tasks: Tasks
    ) -> None:
        super().__init__()
        self.setObjectName("workspace")
        self.bench = RunBench()
        self.db: str | None = None
        """Location of the records; None for the default."""
        self.jobs = JOBS
        self._plans, self._stations = bench, station_bench
        self._notifications, self._tasks = notifications, tasks
        self._last_asked: RunRequest | None = None
        self.belt_in_doubt = False
        self.production: Production | None = None
        self._folder: Path | None = None
        self._travelled: tuple[float, float] | None = None
        self.verdict, self.part = VerdictView(self.bench), PartView(self.bench)
        self.ribbon, self.trends = Ribbon(self.bench), TrendView(self.bench)
        self.status = StatusPanel(self.bench)
        self._lay_out()
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK)
        self._timer.timeout.connect(self._look)
        # from threads of the run to the one of the window
        self._part.connect(self._on_part, Qt.ConnectionType.QueuedConnection)
        self._event.connect(self._on_event, Qt.ConnectionType.QueuedConnection)
        self._ended.connect(self._on_ended, Qt.ConnectionType.QueuedConnection)
        self.bench.changed.connect(self.refresh)
        self.refresh()

    def _lay_out(self) -> None:
        self.source = QComboBox()
        for key, title in SOURCES.items():
            self.source.addItem(title, key)
        self.source.setAccessibleName("Part source")
        self.source.setToolTip("Where the parts of the run come from.")
        self.source.activated.connect(self._on_source)
        self.start_button, self.pause_button = QPushButton("Start the line"), QPushButton("Pause")
        self.lot_button = QPushButton("New lot")
        self.source.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.pause_button.setToolTip("Take no parts until it continues; those that were taken are finished.")
        self.lot_button.setToolTip("Parts that are finished from now on belong to a new lot.")
        self.start_button.setObjectName("primary")
        self.pause_button.setObjectName("secondary")
        self.lot_button.setObjectName("secondary")
        self.start_button.clicked.connect(self.start_or_stop)
        self.pause_button.clicked.connect(self.pause_or_resume)
        self.lot_button.clicked.connect(self.new_lot)
        self.signals_button, self.monitor_button = QPushButton("Signals…"), QPushButton("I/O monitor…")
        self.lock_button = QPushButton("Lock editing…")
        for button, wanted in (
            (self.signals_button, self.signals_wanted),
            (self.monitor_button, self.monitor_wanted),
            (self.lock_button, self.lock_wanted),
        ):
            button.setObjectName("action")
            button.clicked.connect(wanted)
        self.message = QLabel()
        self.message.setObjectName("muted")
        self.message.setWordWrap(True)
        bar = QFrame()
        bar.setObjectName("panel")
        row = QHBoxLayout(bar)
        row.setContentsMargins(12, 6, 12, 6)
        row.setSpacing(10)
        for widget in (self.start_button, self.pause_button, self.lot_button, self.source):
            row.addWidget(widget)
        row.addWidget(self.message, 1)
        for button in (self.signals_button, self.monitor_button, self.lock_button):
            row.addWidget(button)
        upper = QSplitter(Qt.Orientation.Horizontal)
        for view in (self.verdict, self.part, self.status):
            upper.addWidget(view)
        upper.setSizes([430, 560, 256])
        upper.setStretchFactor(1, 1)
        upper.setHandleWidth(8)
        upper.setChildrenCollapsible(False)
        self.ribbon.setFixedHeight(88)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.setSpacing(8)
        layout.addWidget(bar)
        layout.addWidget(upper, 3)
        layout.addWidget(self.ribbon)
        layout.addWidget(self.trends, 1)

    # -- what is requested ------------------------------------------------------------------------

    def start_or_stop(self) -> None:
        """Begin, or take no more parts."""
        if self.production is None and self.bench.state == "idle":
            self.start()
        elif self.production is not None:
            self.production.stop()
            self.bench.set_state("stopping")

    def start(self, asked: RunRequest | None = None) -> None:
        """Begin with the plan and station as they stand."""
        if self.bench.state != "idle":
            return
        if asked is None:
            found = self._asked()
            if found is None:
                return
            asked = found
        self._last_asked, self.belt_in_doubt = asked, False
        plan, station = self._plans.document.plan, self._stations.document.value
        sample = self._plans.document.reference
        listeners = Listeners(self._part.emit, self._event.emit, self._ended.emit)
        self.bench.set_state("starting")

        def work(task: Task) -> Production:
            production = begin(plan, station, asked, listeners, sample)
            production.start()
            return production

        def done(production: Production) -> None:
            self.production = production
            self.bench.begin(plan, production.lot.name, production.counts, time.time())
            self._timer.start()

        task = self._tasks.start("Getting the line ready", work, done)
        task.failed.connect(self._not_started)

    @Slot(object)
    def _not_started(self, error: BaseException) -> None:
        self.bench.ended(str(error))
        if isinstance(error, BeltNotClear):
            self.belt_in_doubt = True
            clear = (("The belt is clear: start", "run.clear"),)
            self._notifications.post(Notice(str(error), actions=clear))

    def start_on_a_clear_belt(self) -> None:
        """Somebody has looked, and nothing lies between the eye and a gate."""
        asked = self._last_asked or self._asked()
        if asked is not None:
            self.start(replace(asked, belt_clear=True))

    def pause_or_resume(self) -> None:
        """Take no parts for a while."""
        if self.production is None:
            return
        if self.production.paused:
            self.production.resume()
            self.bench.set_state("running")
        else:
            self.production.pause()
            self.bench.set_state("paused")

    def new_lot(self) -> None:
        """Parts belong to a new lot from now on."""
        if self.production is not None:
            self.production.begin_lot()

    def stop(self) -> None:
        """Finish what was taken, and wait; when the window closes."""
        self._timer.stop()
        if self.production is not None:
            self.production.stop()
            self.production.wait()
            self.production.records.close()
            self.production = None

    def _asked(self) -> RunRequest | None:
        """Set-up of the next run; None, with a notice, where it cannot run."""
        source = self.source.currentData()
        common = RunRequest(db=self.db, jobs=self.jobs, looked_at=True)
        if source == "tray":
            paths = tuple(p.path for p in self._plans.tray.parts if p.path is not None)
            if not paths:
                text = "There are no parts in the tray to put on the belt; add scans, or choose another source."
                self._notifications.post(Notice(text))
                return None
            return replace(common, belt=paths)
        if source == "line":
            return replace(common, line=True, parts=1000)
        if self._folder is None:
            self._on_source()
            if self._folder is None:
                return None
        if source == "watch":
            return replace(common, watch=self._folder)
        return replace(common, replay=self._folder)

    def _on_source(self) -> None:
        """Prompt for the folders."""
        if self.source.currentData() in ("watch", "replay"):
            name = QFileDialog.getExistingDirectory(
                self, "Folder of scans", str(self._folder or files_begin_at())
            )
            self._folder = Path(name) if name else None
        self.refresh()

    # -- what comes back --------------------------------------------------------------------------

    @Slot(object)
    def _on_part(self, done: Done) -> None:
        if self.production is not None:
            self.bench.take(done, self.production.lot.name, self.production.counts)

    @Slot(object)
    def _on_event(self, event: Event) -> None:
        self.bench.happened(event)
        if self.production is not None and event.kind == "new lot":
            self.bench.lot, self.bench.counts = self.production.lot.name, self.production.counts
            self.bench.changed.emit()

    @Slot(str)
    def _on_ended(self, trouble: str) -> None:
        self._timer.stop()
        self._look()
        if self.production is not None:
            self.production.wait()
            self.production.records.close()
            self.production = None
        self.bench.ended(trouble)
        if trouble:
            self._notifications.post(Notice(trouble))

    @Slot()
    def _look(self) -> None:
        """At the belt, the lines, the queue and the disk."""
        run = self.production
        if run is None:
            return
        travel, now = run.feed.travel(), time.monotonic()
        speed = None
        if travel is not None:
            before = self._travelled or (travel, now - LOOK / 1000)
            speed = max(0.0, (travel - before[0]) / max(now - before[1], 1e-3))
            self._travelled = travel, now
        signaller, station = run.signaller, run.setup.station
        cycle = None
        if run.feed.live and station is not None:
            cycle = max(station.line.part_spacing, station.length) / station.travel.speed
        self.bench.look(
            RunEnvironment(
                link=None if signaller is None else signaller.output.up,
                lines=() if signaller is None else signaller.states,
                speed=speed,
                waiting=run.waiting,
                in_flight=0 if signaller is None else signaller.in_flight,
                free=None if run.keeper is None else run.keeper.free,
                times=run.times.now,
                cycle=cycle,
                master=None if run.master is None else run.master.state(time.time()),
            )
        )

    def refresh(self) -> None:
        """Say what the buttons do now."""
        state = self.bench.state
        self.start_button.setText("Start the line" if state == "idle" else "Stop")
        self.start_button.setEnabled(state in ("idle", "running", "paused"))
        self.pause_button.setText("Resume" if state == "paused" else "Pause")
        self.pause_button.setEnabled(state in ("running", "paused"))
        self.lot_button.setEnabled(state in ("running", "paused"))
        self.source.setEnabled(state == "idle")
        words = ""
        if state == "idle" and self.source.currentData() in ("watch", "replay") and self._folder is not None:
            words = str(self._folder)
        if self.bench.events:
            last = self.bench.events[-1]
            number = f", part {last.number}" if last.number else ""
            words = f"{time.strftime('%H:%M:%S', time.localtime(last.time))} {last.kind}{number}: {last.text}"
        self.message.setText(self.message.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, 460))
        self.message.setToolTip(words)
