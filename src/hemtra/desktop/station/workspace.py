"""The Station workspace: drawing, numbers, scan budget, live profile and trial scans."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import platformdirs
from PySide6.QtCore import Qt, Signal, Slot
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.maps.heightmap import Profile
from hemtra.core.station.findings import Finding
from hemtra.core.station.station import Station
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.background.tasks import Tasks
from hemtra.desktop.models.station_bench import StationBench, Trial
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.station.align_task import AlignTask
from hemtra.desktop.station.budget_panel import BudgetPanel
from hemtra.desktop.station.correct_task import CorrectTask
from hemtra.desktop.station.drawing import StationDrawing
from hemtra.desktop.station.encoder_task import EncoderTask
from hemtra.desktop.station.exposure_task import ExposureTask
from hemtra.desktop.station.fields import TASK_TITLES, StationFields
from hemtra.desktop.station.guided_task import GuidedTask
from hemtra.desktop.station.level_task import LevelTask
from hemtra.desktop.station.live_view import LiveView
from hemtra.desktop.station.trial_run import Passing, TrialRequest, TrialRun
from hemtra.desktop.station.trial_view import TrialPanel
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.virtual.on_belt import OnBelt
from hemtra.virtual.sensor import live_profile, tuned_exposure

WIDE = 1230
"""Widths of a guided task, the live profile and a trial, pixels."""
STARTED = datetime.now().strftime("%Y-%m-%d %H-%M-%S")
"""Names the folder of this run's trial scans, so that none replaces an older one."""


def trial_folder() -> Path:
    """Folder of the trial scans of this run."""
    return Path(platformdirs.user_data_dir("hemtra")) / "trials" / STARTED


@dataclass(frozen=True)
class LiveRequest:
    """Scan one profile of the part, with one sensor of this station."""

    station: Station
    sensor: int
    on_belt: OnBelt
    y: float


@dataclass(frozen=True)
class LiveProfile:
    """Live data, and the state of automatic exposure."""

    profile: Profile
    exposure: str


def look(request: LiveRequest, superseded: Superseded) -> Iterator[LiveProfile]:
    """The profile that the sensor sees."""
    part, station = request.on_belt.part(1), request.station
    message = ""
    if station.sensors[request.sensor].exposure.by == "automatic":
        tuned = tuned_exposure(part, station, request.sensor)
        message = f"exposure {tuned.message.partition(';')[0]}"
    yield LiveProfile(live_profile(part, station, request.y, seed=1, sensor=request.sensor), message)


class StationWorkspace(QWidget):
    """Lays the views out, looks through the sensor beside the window, and turns intents into edits."""

    scanned = Signal(object)
    """A trial scan, as a part for the tray."""
    reference_requested = Signal()

    def __init__(self, bench: StationBench, notifications: Notifications, tasks: Tasks) -> None:
        super().__init__()
        self.setObjectName("workspace")
        self.bench, self._notifications, self._tasks = bench, notifications, tasks
        self.drawing, self.fields = StationDrawing(bench), StationFields(bench)
        self.budget, self.live = BudgetPanel(bench), LiveView(bench)
        self.trial = TrialPanel(bench)
        self.encoder_task = EncoderTask(bench)
        self.level_task = LevelTask(bench, tasks.start)
        self.exposure_task = ExposureTask(bench, tasks.start)
        self.align_task, self.correct_task = AlignTask(bench, tasks.start), CorrectTask(bench, tasks.start)
        self.guided: dict[str, GuidedTask] = {
            "encoder": self.encoder_task,
            "level": self.level_task,
            "exposure": self.exposure_task,
            "align": self.align_task,
            "correct": self.correct_task,
        }
        self._lane = LatestTaskWorker(look, "live profile", self)
        self._asked: LiveRequest | None = None
        self._run: TrialRun | None = None
        for view, page in (
            *((task, "station.md#guided-tasks") for task in self.guided.values()),
            (self.budget, "station.md#read-the-scan-budget"),
            (self.trial, "station.md#scan-a-trial-part"),
        ):
            view.setProperty("manual", page)
        self._lay_out()
        bench.document.changed.connect(self.look)
        self._lane.responded.connect(self._on_seen)
        self._lane.failed.connect(self._on_failed)
        self.drawing.dragged.connect(bench.document.preview)
        self.drawing.dropped.connect(self._edit)
        self.fields.edited.connect(self._edit)
        self.fields.refused.connect(notifications.error)
        self.fields.task_requested.connect(self.begin)
        self.budget.fix_chosen.connect(self._edit)
        self.live.moved.connect(self._look_at)
        self.live.reference_requested.connect(self.keep_reference)
        self.trial.start_requested.connect(self.scan_trial)
        self.trial.stop_requested.connect(self._stop_line)
        self.trial.triggered.connect(self._trigger_by_hand)
        self.trial.reference_requested.connect(self.reference_requested)
        self.encoder_task.artefact_requested.connect(lambda: self.begin("correct"))
        for task in self.guided.values():
            task.taken.connect(self._edit)
            task.closed.connect(lambda: self.places.setCurrentWidget(self.fields))
        self.places.currentChanged.connect(self._make_room)
        self._make_room()

    def _lay_out(self) -> None:
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(self.drawing)
        upper.addWidget(self.budget)
        upper.setSizes([830, 410])
        lower = QSplitter(Qt.Orientation.Horizontal)
        trial_frame = QFrame()
        trial_frame.setObjectName("panel")
        inner = QHBoxLayout(trial_frame)
        inner.setContentsMargins(6, 8, 8, 8)
        inner.addWidget(self.trial)
        self.places = QStackedWidget()
        self.places.addWidget(self.fields)
        for task in self.guided.values():
            self.places.addWidget(task)
        for view in (self.places, self.live, trial_frame):
            lower.addWidget(view)
        lower.setSizes([660, 310, 280])
        whole = QSplitter(Qt.Orientation.Vertical)
        whole.addWidget(upper)
        whole.addWidget(lower)
        whole.setSizes([410, 322])
        for splitter in (upper, lower, whole):
            splitter.setHandleWidth(6)
            splitter.setChildrenCollapsible(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(6, 6, 6, 6)
        layout.addWidget(whole)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """There may be room for the live profile, or none."""
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        """A guided task takes the place of the live profile where there is none for both."""
        shown = self.places.currentWidget()
        for page in (self.fields, *self.guided.values()):
            # pages that are not seen need no room
            policy = QSizePolicy.Policy.Preferred if page is shown else QSizePolicy.Policy.Ignored
            page.setSizePolicy(policy, policy)
        self.live.setVisible(shown is self.fields or self.width() >= WIDE)

    def begin(self, name: str) -> None:
        """Open a guided task in the place of the numbers."""
        if name == "align" and len(self.bench.station.sensors) < 2:
            self._notifications.post(Notice("There is one sensor only; add another on its page, then align."))
            return
        task = self.guided[name]
        self.places.setCurrentWidget(task)
        task.begin()

    @property
    def idle(self) -> bool:
        """Whether the live profile is up to date."""
        return self._asked is None and self._lane.idle

    def stop(self) -> None:
        """End the lane."""
        self._lane.stop()

    def look(self) -> None:
        """Bring the live profile up to date, when somebody sees it."""
        bench = self.bench
        if self.isVisible() and self._run is None:
            self._asked = LiveRequest(bench.station, bench.sensor, bench.on_belt, bench.live_at)
            self._lane.submit(self._asked)

    def _look_at(self, y: float) -> None:
        self.bench.live_at = y
        self.look()

    def keep_reference(self) -> None:
        """Keep the current profile."""
        try:
            self.bench.keep_reference()
        except HemtraError as error:
            self._notifications.error(error)

    def showEvent(self, event: object) -> None:
        """Somebody sees it."""
        self.look()
        self.budget.refresh()

    @Slot(object, object)
    def _on_seen(self, request: LiveRequest, seen: LiveProfile) -> None:
        if request is self._asked:
            self._asked = None
        self.bench.exposure_message = seen.exposure
        self.bench.show_live(seen.profile)

    @Slot(object, object)
    def _on_failed(self, request: LiveRequest, error: BaseException) -> None:
        self._asked = None
        self._notifications.error(error)

    @Slot(str, object)
    def _edit(self, label: str, station: Station) -> None:
        try:
            self.bench.document.edit(label, station)
        except HemtraError as error:
            self.bench.document.preview(None)
            self._notifications.error(error)

    # -- trial scans ------------------------------------------------------------------------------

    def scan_trial(self) -> None:
        """Run parts through; their maps grow on screen, and their scans go to the tray."""
        if self._run is not None:
            return
        bench, panel = self.bench, self.trial
        count = int(panel.count.currentData())
        request = TrialRequest(
            bench.document.value,
            bench.on_belt,
            bench.trials + 1,
            count,
            str(panel.defect.currentData()),
            panel.mishap.currentData(),
            trial_folder(),
            bench.sensor,
        )
        self._run = TrialRun(request)
        task = self._tasks.start("Trial scans", self._run.work, self._on_run_finished, self._on_trial)
        task.finished.connect(self._on_run_over)
        panel.set_running(True)

    def _stop_line(self) -> None:
        for task in self._tasks.running:
            if task.label == "Trial scans":
                task.cancel()

    def _trigger_by_hand(self) -> None:
        if self._run is not None:
            self._run.trigger()

    def _on_trial(self, item: Trial | Passing | TrayPart) -> None:
        bench = self.bench
        if isinstance(item, Passing):
            bench.show_live(item.profile)
        elif isinstance(item, Trial):
            bench.show_trial(item)
        else:
            bench.trials += 1
            self.scanned.emit(item)

    def _on_run_finished(self, found: tuple[Finding, ...]) -> None:
        if found:
            text = " ".join(finding.text for finding in found)
            remedies = [finding.remedy for finding in found if finding.remedy]
            actions = tuple((TASK_TITLES[name][0], f"station.{name}") for name in remedies)
            self._notifications.post(Notice(text, actions=actions))

    @Slot()
    def _on_run_over(self) -> None:
        self._run = None
        trial = self.bench.trial
        if trial is not None and not trial.done:
            # what was growing when the line failed is no scan
            self.bench.show_trial(None)
        self.trial.set_running(False)
        self.look()
