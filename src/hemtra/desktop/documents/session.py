"""State shared by the workspaces of a window: open documents, settings, background work, the lock."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Literal

from PySide6.QtWidgets import QWidget

from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.progress import Progress
from hemtra.core.units import INCH, MM, UNITS, LengthUnit
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.documents.plan_files import PlanFiles
from hemtra.desktop.documents.station_files import StationFiles
from hemtra.desktop.documents.unsaved import UnsavedWork
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.edit_lock import EditLock
from hemtra.desktop.models.observe import Signal
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.notifications import Notifications
from hemtra.runtime.demo_records import demo_db, records_of_demo
from hemtra.runtime.run_setup import default_db, records_folder
from hemtra.storage.records import Records
from hemtra.storage.records.lock_note import is_noted, note
from hemtra.storage.settings import Settings, load_settings

Prepare = Callable[[Progress], object]
"""Work that is given a way to report its progress."""


class Session:
    """Session of a window."""

    def __init__(self, window: QWidget, notifications: Notifications, trigger: Callable[[str], None]) -> None:
        """trigger: does an action by its id."""
        self.window, self.notifications, self.trigger = window, notifications, trigger
        self.tasks = Tasks(notifications.error, window)
        self.settings: Settings = load_settings()
        self.bench = WorkspaceModel()
        self.station_bench = StationBench(self.bench.document)
        self.station_bench.unit = UNITS.get(self.settings.unit, MM)
        units.use(self.unit, self.settings.decimal_sign)
        self.unit_changed = Signal()
        self.plans = PlanFiles(self.bench, self.tasks, notifications, self.settings, window)
        self.stations = StationFiles(self.station_bench.document, self.tasks, window)
        self.unsaved = UnsavedWork(
            self.bench, self.station_bench, self.plans, self.tasks, notifications, window
        )
        for files in (self.plans, self.stations):
            files.leaving.connect(self.unsaved.set_aside)
        self.lock = EditLock(records_folder(), noted=lambda: is_noted(Path(default_db())), note=self._note_lock)
        for document in (self.bench.document, self.station_bench.document):
            document.refusal = self.lock.refusal
        self.shown = "plan"
        """Name of the workspace on screen."""
        self.show_wanted = Signal()
        """With the name of a workspace to go to."""
        self._records = ""
        self.records_changed = Signal()
        """Other records are used: with their database, and what is done to it before it is looked at first."""

    @property
    def unit(self) -> LengthUnit:
        """The unit that lengths are shown in."""
        return self.station_bench.unit

    def change_unit(self) -> None:
        """Show lengths in inches, or in millimetres again."""
        self.show_numbers(INCH if self.unit is MM else MM, self.settings.decimal_sign)

    def show_numbers(self, unit: LengthUnit, sign: Literal[".", ","]) -> None:
        """Show lengths in this unit, and numbers with this decimal sign."""
        self.settings.unit, self.settings.decimal_sign = unit.name, sign
        self.plans.keep_settings()
        units.use(unit, sign)
        self.station_bench.use_unit(unit)
        self.unit_changed.emit()

    def show(self, workspace: str) -> None:
        """Go to a workspace."""
        self.show_wanted.emit(workspace)

    def edit_plan(self, label: str, make: Callable[[], Plan]) -> bool:
        """An edit of the plan that undo takes back; whether it held. What is wrong with it is said."""
        try:
            self.bench.document.edit(label, make())
        except HemtraError as error:
            self.bench.document.preview(None)
            self.notifications.error(error)
            return False
        return True

    @property
    def records_at(self) -> str:
        """Location of the records shown; '' where there are none yet."""
        db = self._records or default_db()
        return db if "://" in db or Path(db).is_file() else ""

    def use_records(self, db: str, prepare: Prepare | None = None) -> None:
        """Record the line's parts in a database, and look back at it.

        prepare: what is done to it, beside the window, before it is looked at first.
        """
        self._records = db
        self.records_changed.emit(db, prepare)

    def use_demo(self, folder: Path, plan: str, station: str) -> None:
        """Open a plan and a station of the demo's folder, with the demo's records."""
        self.plans.open(folder / plan)
        self.stations.open(folder / station)
        self.use_records(demo_db(), partial(records_of_demo, folder))

    def _note_lock(self, locked: bool) -> None:
        def work(task: Task) -> None:
            records = Records(default_db())
            try:
                note(records, locked=locked)
            finally:
                records.close()

        self.tasks.start("Noting the lock", work)
