"""The Station workspace: drawing, numbers, scan budget, live profile and trial scans."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import platformdirs
from PySide6.QtCore import Qt, Signal, Slot
from PySide6.QtWidgets import QFrame, QHBoxLayout, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from hemtra.core.errors import HemtraError
from hemtra.core.scan.heightmap import Profile
from hemtra.core.station.station import Station
from hemtra.desktop.lanes import Lane, Superseded
from hemtra.desktop.model.station_bench import StationBench, Trial
from hemtra.desktop.model.tray import TrayPart
from hemtra.desktop.notifications import Notifications
from hemtra.desktop.station.budget_panel import BudgetPanel
from hemtra.desktop.station.drawing import StationDrawing
from hemtra.desktop.station.encoder_task import EncoderTask
from hemtra.desktop.station.fields import StationFields
from hemtra.desktop.station.guided_task import GuidedTask
from hemtra.desktop.station.level_task import LevelTask
from hemtra.desktop.station.live_view import LiveView
from hemtra.desktop.station.trial_view import TrialPanel
from hemtra.desktop.tasks import Task, Tasks
from hemtra.runtime.level import LevelFound, try_levelling
from hemtra.storage.files import make_folder
from hemtra.storage.scans import save_scan
from hemtra.virtual.cover import make_cover
from hemtra.virtual.sensor import CoverUnderSensor, live_profile

FIRST_BELT_SEED = 100_000
"""Apart from those of trial scans, so that no noise is seen twice."""
PIECES = 40
"""Pieces in which a trial scan is shown growing."""


STARTED = datetime.now().strftime("%Y-%m-%d %H-%M-%S")
"""Names the folder of this run's trial scans, so that none replaces an older one."""


def trial_folder() -> Path:
    """Where the trial scans of this run are kept."""
    return Path(platformdirs.user_data_dir("hemtra")) / "trials" / STARTED


@dataclass(frozen=True)
class LiveRequest:
    """Look at the part once, with this station."""

    station: Station
    y: float


def look(request: LiveRequest, superseded: Superseded) -> Iterator[Profile]:
    """The profile that the sensor sees."""
    yield live_profile(make_cover(1), request.station, request.y, seed=1)


class StationWorkspace(QWidget):
    """Lays the views out, looks through the sensor beside the window, and turns intents into edits."""

    scanned = Signal(object)
    """A trial scan, as a part for the tray."""

    def __init__(self, bench: StationBench, notifications: Notifications, tasks: Tasks) -> None:
        super().__init__()
        self.setObjectName("workspace")
        self.bench, self._notifications, self._tasks = bench, notifications, tasks
        self.drawing, self.fields = StationDrawing(bench), StationFields(bench)
        self.budget, self.live = BudgetPanel(bench), LiveView(bench)
        self.trial = TrialPanel(bench)
        self.encoder_task, self.level_task = EncoderTask(bench), LevelTask(bench)
        self._lane = Lane(look, "live profile", self)
        self._asked: LiveRequest | None = None
        self._belt_scans = 0
        self._lay_out()
        bench.document.changed.connect(self.look)
        self._lane.responded.connect(self._on_seen)
        self._lane.failed.connect(self._on_failed)
        self.drawing.dragged.connect(bench.document.preview)
        self.drawing.dropped.connect(self._edit)
        self.fields.edited.connect(self._edit)
        self.fields.refused.connect(notifications.error)
        self.budget.fix_chosen.connect(self._edit)
        self.trial.start.clicked.connect(self.scan_trial)
        self.fields.measure_requested.connect(lambda: self.begin(self.encoder_task))
        self.fields.level_requested.connect(lambda: self.begin(self.level_task))
        self.level_task.scan_requested.connect(self._scan_belt)
        for task in (self.encoder_task, self.level_task):
            task.taken.connect(self._edit)
            task.closed.connect(lambda: self.places.setCurrentWidget(self.fields))

    def _lay_out(self) -> None:
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(self.drawing)
        upper.addWidget(self.budget)
        upper.setSizes([830, 410])
        lower = QSplitter(Qt.Orientation.Horizontal)
        trial_frame = QFrame()
        trial_frame.setObjectName("panel")
        inner = QHBoxLayout(trial_frame)
        inner.setContentsMargins(10, 10, 14, 10)
        inner.addWidget(self.trial)
        self.places = QStackedWidget()
        self.places.addWidget(self.fields)
        self.places.addWidget(self.encoder_task)
        self.places.addWidget(self.level_task)
        for view in (self.places, self.live, trial_frame):
            lower.addWidget(view)
        lower.setSizes([640, 350, 260])
        whole = QSplitter(Qt.Orientation.Vertical)
        whole.addWidget(upper)
        whole.addWidget(lower)
        whole.setSizes([440, 290])
        for splitter in (upper, lower, whole):
            splitter.setHandleWidth(8)
            splitter.setChildrenCollapsible(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        layout.addWidget(whole)

    def begin(self, task: GuidedTask) -> None:
        """Open a guided task in the place of the numbers."""
        self.places.setCurrentWidget(task)
        task.begin()

    def _scan_belt(self) -> None:
        station = self.bench.document.value
        self._belt_scans += 1
        seed = FIRST_BELT_SEED + self._belt_scans

        def done(found: LevelFound | str) -> None:
            if isinstance(found, str):
                self.level_task.show_found(None, found)
            else:
                self.level_task.show_found(found)

        self._tasks.start("Levelling", lambda task: try_levelling(station, seed), done)

    @property
    def idle(self) -> bool:
        """Whether the live profile is up to date."""
        return self._asked is None and self._lane.idle

    def stop(self) -> None:
        """End the lane."""
        self._lane.stop()

    def look(self) -> None:
        """Bring the live profile up to date, when somebody sees it."""
        if self.isVisible():
            self._asked = LiveRequest(self.bench.station, self.bench.live_at)
            self._lane.submit(self._asked)

    def showEvent(self, event: object) -> None:
        """Somebody sees it."""
        self.look()
        self.budget.refresh()

    @Slot(object, object)
    def _on_seen(self, request: LiveRequest, profile: Profile) -> None:
        if request is self._asked:
            self._asked = None
        self.bench.show_live(profile)

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

    def scan_trial(self) -> None:
        """Let a part pass; its map grows on screen, and its scan goes to the tray."""
        bench, station = self.bench, self.bench.document.value
        number, defect = bench.trials + 1, str(self.trial.defect.currentData())
        bench.trials = number
        name, folder = f"trial-{number:02d}.x3p", trial_folder()

        def work(task: Task) -> TrayPart | None:
            part = CoverUnderSensor(
                make_cover(100 + number, {defect: None} if defect else None), station, number
            )
            piece = max(1, -(-part.ys.size // PIECES))
            while part.taken < part.ys.size:
                part.take(piece)
                if not task.tell(part.taken, part.ys.size, f"{part.taken} of {part.ys.size} profiles"):
                    return None
                task.produce(Trial(part.scan(name=name).data, part.taken, part.ys.size, part.missed))
            path = folder / name
            make_folder(folder)
            save_scan(part.scan(name=name), path)
            return TrayPart(part.scan(name=name), path, "bad" if defect else "good")

        def done(part: TrayPart | None) -> None:
            if part is None:
                bench.show_trial(None)
            else:
                self.scanned.emit(part)

        self._tasks.start(f"Trial scan {number}", work, done, bench.show_trial)
