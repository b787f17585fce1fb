"""Unsaved work of this window: kept while it continues, offered when an earlier run left some."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace

from PySide6.QtCore import QObject, QTimer, Slot

from hemtra.core.errors import HemtraError
from hemtra.core.maps.scan import Scan
from hemtra.desktop.background.latest_task import LatestTaskWorker, Superseded
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.documents import recovery
from hemtra.desktop.documents.files import load_parts
from hemtra.desktop.documents.plan_files import PlanFiles
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.station_bench import NEW, StationBench
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.storage.plans import load_plan_file

KEEP_AFTER_MS = 1500
"""Delay between a change and keeping unsaved work."""


class UnsavedWork(QObject):
    """Watches the documents of a window."""

    def __init__(
        self,
        bench: WorkspaceModel,
        station: StationBench,
        plans: PlanFiles,
        tasks: Tasks,
        notifications: Notifications,
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self._bench, self._station, self._plans = bench, station, plans
        self._tasks, self._notifications = tasks, notifications
        self._found: recovery.UnsavedState | None = None
        self._number = 0
        self._lane = LatestTaskWorker(_keep, "unsaved work", self)
        self._lane.failed.connect(self._on_failed)
        self._timer = QTimer(self, singleShot=True, interval=KEEP_AFTER_MS)
        self._timer.timeout.connect(lambda: self._lane.submit(self._state()))
        bench.document.changed.connect(self._timer.start)
        station.document.changed.connect(self._timer.start)

    def set_aside(self) -> None:
        """Work that is left behind unsaved stays kept, under a number of its own."""
        if self._bench.document.unsaved or self._station.document.unsaved:
            self._lane.finish(self._state())
            self._number += 1

    def close(self) -> None:
        """Keep what is unsaved, and end."""
        self._timer.stop()
        self._lane.finish(self._state())
        self._lane.stop()

    def offer(self) -> None:
        """If an earlier run left unsaved work behind, offer it."""
        self._found = recovery.find()
        if self._found is not None:
            when = self._found.when.strftime("%H:%M on %d %B")
            text = f"Unsaved changes to {self._found.names} from {when} were kept."
            actions = (("Restore", "recover.restore"), ("Discard", "recover.discard"))
            self._notifications.post(Notice(text, "info", actions))

    def discard(self) -> None:
        """Forget what was offered, and offer the next."""
        kept, self._found = self._found, None
        if kept is not None:
            recovery.forget(kept.file)
            self.offer()

    def restore(self) -> str:
        """Bring back what was offered; answers with the workspace to see it in, or “”."""
        kept, self._found = self._found, None
        if kept is None:
            return ""
        if kept.station is not None:
            self._station.document.start_over(kept.station, kept.station_path, NEW)
        if kept.plan is None:
            recovery.forget(kept.file)
            return "station"
        self._plans.start_over(kept.plan, kept.path, None, saved=False)

        def work(task: Task) -> list[str]:
            if kept.path is not None:
                with suppress(HemtraError):  # the plan's own file may be gone; its reference is gone with it
                    task.produce(load_plan_file(kept.path).reference)
            return load_parts(task, list(kept.tray))

        def item(found: Scan | list[TrayPart] | None) -> None:
            if isinstance(found, list):
                self._plans.take_parts(found)
            else:
                self._bench.document.reference = found

        def done(troubles: list[str]) -> None:
            self._plans.select_first()
            self._plans.report_errors(troubles)
            recovery.forget(kept.file)

        self._tasks.start("Restoring", work, done, item)
        return "plan"

    def _state(self) -> recovery.State:
        document, station = self._bench.document, self._station.document
        state = recovery.State(recovery.own_file(self._number))
        if document.unsaved:
            tray = tuple(self._plans.entries())
            state = replace(state, plan=document.plan, path=document.path, tray=tray)
        if station.unsaved:
            state = replace(state, station=station.value, station_path=station.path)
        return state

    @Slot(object, object)
    def _on_failed(self, state: recovery.State, error: BaseException) -> None:
        self._notifications.error(error)


def _keep(state: recovery.State, superseded: Superseded) -> Iterator[None]:
    recovery.keep(state)
    yield None
