"""The main window: band, message bar, workspace, and the actions of the table."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QPoint, Slot
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QStackedWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.units import INCH, MM, UNITS
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.documents.plan_files import SCAN_SUFFIXES, PlanFiles
from hemtra.desktop.documents.station_files import StationFiles
from hemtra.desktop.documents.unsaved import UnsavedWork
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.edit_lock import LOCKED, EditLock, allowed
from hemtra.desktop.models.settings import Settings, load_settings
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.models.versioned import Versioned
from hemtra.desktop.plan.commands.new_characteristic import WISHES
from hemtra.desktop.plan.panels.empty_state import EmptyState
from hemtra.desktop.plan.workspace import PlanWorkspace
from hemtra.desktop.plan.zone_actions import path_handlers, zone_handlers
from hemtra.desktop.records.workspace import Prepare, RecordsWorkspace
from hemtra.desktop.run.workspace import RunWorkspace
from hemtra.desktop.shell.actions import ACTIONS
from hemtra.desktop.shell.command_search import CommandSearch, ShortcutsAndSymbols
from hemtra.desktop.shell.message_bar import MessageBar, ProgressStrip, stacked
from hemtra.desktop.shell.run_forms import RunForms
from hemtra.desktop.shell.top_bar import EDITING, TopBar
from hemtra.desktop.station.workspace import StationWorkspace
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.runtime.demo import PLAN_FILE, RUNNER_PLAN_FILE, RUNNER_STATION_FILE, STATION_FILE
from hemtra.runtime.demo_records import demo_db, records_of_demo
from hemtra.runtime.run_setup import default_db, records_folder
from hemtra.storage.files import read_text
from hemtra.storage.records import Records
from hemtra.storage.records.lock_note import is_noted, note
from hemtra.virtual.demo import DOOR_STATION

LOOKING = ("run", "records")
"""Workspaces in which nothing is edited."""
GUIDED = ("encoder", "level", "exposure", "align", "correct")
"""The guided tasks of the station."""
LARGEST_LIST = 4 * 1024**2
"""Bytes of a requirement list at most."""


class MainWindow(QMainWindow):
    """Hemtra's window."""

    def __init__(self, notifications: Notifications | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Hemtra")
        self.setMinimumSize(1180, 720)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.notifications = notifications or Notifications()
        self.bench = WorkspaceModel()
        self.settings: Settings = load_settings()
        self.tasks = Tasks(self.notifications.error, self)
        self.plan_workspace = PlanWorkspace(self.bench, self.notifications, self.tasks)
        self.station_bench = StationBench(self.bench.document)
        self.station_workspace = StationWorkspace(self.station_bench, self.notifications, self.tasks)
        self.station_workspace.scanned.connect(self._take_trial)
        self.station_workspace.reference_requested.connect(lambda: self.trigger("tray.reference"))
        self.station_bench.unit = UNITS.get(self.settings.unit, MM)
        self.run_workspace = RunWorkspace(self.bench, self.station_bench, self.notifications, self.tasks)
        self.run_workspace.block_wanted.connect(lambda: self.trigger("run.io-block"))
        self.run_workspace.signals_wanted.connect(lambda: self.trigger("plan.signals"))
        self.run_workspace.lock_wanted.connect(lambda: self.trigger("run.lock"))
        self.lock = EditLock(records_folder(), noted=lambda: is_noted(Path(default_db())), note=self._note_lock)
        for document in (self.bench.document, self.station_bench.document):
            document.refusal = self.lock.refusal
        self.forms = RunForms(self.bench, self.station_bench, self.plan_workspace.edit, self.lock, self)
        self.records_workspace = RecordsWorkspace(self.bench, self.notifications, self.tasks)
        self.runs_at_once = False
        """Whether the line starts when the Run workspace is shown first: in the demo, where nothing is real."""
        self._workspace = "plan"
        self.message_bar = MessageBar(self.trigger)
        self.notifications.told.connect(self.message_bar.told.emit)
        self._empty = EmptyState(self.trigger, self.settings.recent)
        self._pages = QStackedWidget()
        holder = QFrame()
        holder.setObjectName("workspace")
        inner = QHBoxLayout(holder)
        inner.setContentsMargins(8, 8, 8, 8)
        inner.addWidget(self._empty)
        self._pages.addWidget(holder)
        self._pages.addWidget(self.plan_workspace)
        self._pages.addWidget(self.station_workspace)
        self._pages.addWidget(self.run_workspace)
        self._pages.addWidget(self.records_workspace)
        self.plans = PlanFiles(self.bench, self.tasks, self.notifications, self.settings, self)
        self.plans.part_taken.connect(self.plan_workspace.try_all)
        self.records_workspace.deeds.scans_wanted.connect(self.plans.add_scans)
        self.stations = StationFiles(self.station_bench.document, self.tasks, self)
        self.unsaved = UnsavedWork(
            self.bench, self.station_bench, self.plans, self.tasks, self.notifications, self
        )
        for files in (self.plans, self.stations):
            files.leaving.connect(self.unsaved.set_aside)
        self.actions_by_id = self._make_actions()
        self.band = TopBar(self.trigger, self._fill_menu)
        self.band.workspace_chosen.connect(self.show_workspace)
        self.setCentralWidget(stacked(self.band, self.message_bar, ProgressStrip(self.tasks), self._pages))
        for changed in (
            self.bench.document.changed,
            self.bench.selection_changed,
            self.bench.tray.changed,
            self.bench.tray.current_changed,
            self.station_bench.document.changed,
            self.station_bench.live_changed,
        ):
            changed.connect(self._refresh)
        if self.lock.locked:
            self._workspace = "run"
        self._refresh()

    # -- band and actions -------------------------------------------------------------------------

    def show_workspace(self, name: str) -> None:
        """Go to “station”, “plan”, “run” or “records”."""
        if not (self.lock.locked and name in EDITING):
            self._workspace = name
        if name == "records":
            self.records_workspace.show_now()
        if name == "run" and self.runs_at_once:
            self.runs_at_once = False
            self.run_workspace.start_or_stop()
        self._refresh()

    @property
    def _versioned(self) -> Versioned[Any]:
        """The document that undo and save mean now."""
        return self.station_bench.document if self._workspace == "station" else self.bench.document

    def _ways(self, has_part: Callable[[], bool]) -> dict[str, tuple[Callable[[], Any], Callable[[], bool]]]:
        """How the plan as a whole judges."""
        ways = self.plan_workspace.ways
        return {
            "plan.by-profile": (ways.ask_by_profile, has_part),
            "plan.whole": (ways.whole, lambda: self.bench.document.plan.by_profile is not None),
            "plan.not-proven": (ways.show_not_proven, lambda: True),
        }

    def _handlers(self) -> dict[str, tuple[Callable[[], Any], Callable[[], bool]]]:
        """By action: what it does, and when it can be done."""
        bench, workspace = self.bench, self.plan_workspace
        document, tray = bench.document, bench.tray

        def always() -> bool:
            return True

        def has_part() -> bool:
            return tray.current is not None

        def has_row() -> bool:
            return bench.row is not None

        return {
            "plan.demo": (partial(self._open_demo, PLAN_FILE, STATION_FILE), always),
            "plan.demo-runner": (partial(self._open_demo, RUNNER_PLAN_FILE, RUNNER_STATION_FILE), always),
            "plan.open": (self.plans.ask_open, always),
            "plan.new": (self.plans.new, always),
            "station.show": (lambda: self.show_workspace("station"), always),
            "station.open": (self._ask_open_station, always),
            "station.save": (self.stations.save, always),
            "station.save-as": (lambda: self.stations.ask_save(self.plans.folder), always),
            "station.trial": (self._scan_trial, always),
            **{f"station.{name}": (partial(self._begin, name), always) for name in GUIDED},
            "station.reference": (
                self.station_workspace.keep_reference,
                lambda: self.station_bench.live is not None,
            ),
            "station.two": (self._open_door_station, always),
            "view.unit": (self._change_unit, lambda: self._workspace == "station"),
            "plan.show": (lambda: self.show_workspace("plan"), always),
            "plan.save": (
                self._save,
                lambda: self._workspace == "station" or has_part() or bool(document.plan.steps),
            ),
            "plan.save-as": (self.plans.ask_save, lambda: has_part() or bool(document.plan.steps)),
            "edit.undo": (lambda: self._versioned.undo(), lambda: bool(self._versioned.undo_label)),
            "edit.redo": (lambda: self._versioned.redo(), lambda: bool(self._versioned.redo_label)),
            "characteristic.new": (workspace.new.ask, has_part),
            **{
                f"characteristic.{wish.id}": (partial(workspace.new.begin, wish.id), has_part)
                for wish in WISHES
            },
            "sheet.import": (self._ask_requirements, always),
            **self._row_handlers(has_row),
            **self._run_handlers(),
            **self._records_handlers(),
            "anchor.outline": (workspace.anchors.add_outline, has_part),
            "anchor.delete": (workspace.anchors.delete_selected, lambda: bench.selected_step is not None),
            "anchor.rebind": (workspace.anchors.rebind, lambda: workspace.anchors.can_rebind),
            **zone_handlers(workspace, lambda: self._workspace == "plan"),
            **path_handlers(workspace, lambda: self.plans.folder, lambda: self._workspace == "plan"),
            "tray.add": (self.plans.ask_scans, always),
            "tray.folder": (self.plans.ask_folder, always),
            "tray.unflip": (workspace.undo_verdict_changes, lambda: bool(workspace.flips)),
            "tray.next": (lambda: self._step(1), has_part),
            "tray.previous": (lambda: self._step(-1), has_part),
            "tray.tag": (self._change_tag, has_part),
            "tray.reference": (self.plans.make_reference, has_part),
            **self._ways(has_part),
            "view.fit": (workspace.stage.fit, has_part),
            "view.stretch": (workspace.stage.stretch_colours, has_part),
            "view.cycle": (workspace.cycle_views, has_part),
            "view.intensity": (self._toggle_intensity, has_part),
            "view.pin": (workspace.stage.pin, has_part),
            "view.dark": (self._toggle_dark, always),
            "help.search": (self._search, always),
            "help.keys": (lambda: ShortcutsAndSymbols(self).show(), always),
            "help.quit": (self.close, always),
            "recover.restore": (self._restore, always),
            "recover.discard": (self.unsaved.discard, always),
        }

    def _row_handlers(
        self, has_row: Callable[[], bool]
    ) -> dict[str, tuple[Callable[[], Any], Callable[[], bool]]]:
        """What can be done with the selected row of the sheet."""
        rows, document = self.plan_workspace.rows, self.bench.document

        def can_learn() -> bool:
            return has_row() and document.teacher is not None

        return {
            "characteristic.duplicate": (rows.duplicate, has_row),
            "characteristic.delete": (rows.delete, has_row),
            "characteristic.earlier": (lambda: rows.move(-1), has_row),
            "characteristic.later": (lambda: rows.move(1), has_row),
            "characteristic.hide": (lambda: rows.toggle("hidden"), has_row),
            "characteristic.off": (lambda: rows.toggle("off"), has_row),
            "characteristic.nominal": (rows.take_nominal, can_learn),
            "characteristic.master": (rows.toggle_master, can_learn),
            "characteristic.correct": (rows.ask_correction, has_row),
            "sheet.find": (self.plan_workspace.sheet.search, lambda: bool(document.plan.sheet)),
            "sheet.renumber": (rows.renumber, lambda: bool(document.plan.sheet)),
        }

    def _run_handlers(self) -> dict[str, tuple[Callable[[], Any], Callable[[], bool]]]:
        """The running line, its signals, and the lock."""
        run = self.run_workspace
        return {
            "run.show": (lambda: self.show_workspace("run"), lambda: True),
            "run.start": (self._start_or_stop, lambda: True),
            "run.clear": (run.start_on_a_clear_belt, lambda: run.belt_in_doubt),
            "run.pause": (run.pause_or_resume, lambda: run.production is not None),
            "run.lot": (run.new_lot, lambda: run.production is not None),
            "run.io-block": (
                self.forms.show_io_window,
                lambda: bool(self.station_bench.document.value.io.host),
            ),
            "run.lock": (self._lock_or_unlock, lambda: True),
            "plan.signals": (self.forms.show_signals, lambda: True),
        }

    def _records_handlers(self) -> dict[str, tuple[Callable[[], Any], Callable[[], bool]]]:
        """Looking back."""
        records = self.records_workspace

        def here() -> bool:
            return self._workspace == "records"

        return {
            "records.show": (lambda: self.show_workspace("records"), lambda: True),
            "records.refresh": (records.show_now, here),
            "records.report": (records.deeds.ask_report, lambda: here() and records.report_button.isEnabled()),
            "records.export": (records.deeds.ask_export, lambda: here() and records.export_button.isEnabled()),
            "records.rejudge": (records.deeds.rejudge, lambda: here() and records.rejudge_button.isEnabled()),
            "records.failed": (records.failed_to_tray, lambda: here() and records.tray_button.isEnabled()),
            "records.open": (records.ask_open, here),
            "records.merge": (records.deeds.ask_merge, lambda: here() and records.merge_button.isEnabled()),
        }

    def _make_actions(self) -> dict[str, QAction]:
        self._by_id = self._handlers()
        made = {}
        for action in ACTIONS:
            item = QAction(action.title, self)
            if action.keys:
                item.setShortcut(QKeySequence(action.keys))
            item.setToolTip(action.help or action.title)
            item.triggered.connect(lambda _=False, wanted=action.id: self.trigger(wanted))
            self.addAction(item)
            made[action.id] = item
        return made

    def trigger(self, action_id: str) -> None:
        """Do an action by its id; “recent:PATH” opens a recent plan."""
        if action_id.startswith("recent:"):
            self.plans.open(Path(action_id.removeprefix("recent:")))
            return
        do, possible = self._by_id[action_id]
        if self.lock.locked and not allowed(action_id):
            self.notifications.tell(Notice(LOCKED))
        elif possible():
            do()

    def _fill_menu(self, menu: QMenu) -> None:
        menu.clear()
        groups: dict[str, QMenu] = {}
        for action in ACTIONS:
            if action.group not in groups:
                groups[action.group] = menu.addMenu(action.group)
            groups[action.group].addAction(self.actions_by_id[action.id])
            if action.id == "plan.open" and self.settings.recent:
                recent = groups[action.group].addMenu("Recent plans")
                for path in self.settings.recent:
                    recent.addAction(path, partial(self.plans.open, Path(path)))

    def _refresh(self) -> None:
        document, tray = self.bench.document, self.bench.tray
        empty = tray.current is None and not document.plan.steps
        at_station = self._workspace == "station"
        pages = {"station": 2, "run": 3, "records": 4}
        self._pages.setCurrentIndex(pages.get(self._workspace, 0 if empty else 1))
        self.band.lock(self.lock.locked)
        lock = self.run_workspace.lock_button
        lock.setText("Unlock editing…" if self.lock.locked else "Lock editing…")
        self.run_workspace.signals_button.setEnabled(not self.lock.locked)
        versioned = self._versioned
        plan_name = document.plan.name if document.path or not empty else ""
        name = self.station_bench.document.value.name if at_station else plan_name
        place = str(versioned.path or "not saved yet")
        self.band.show_open(self._workspace, name, place, unsaved=versioned.unsaved)
        self.band.show_unit(self.station_bench.unit.name if at_station else "mm", changes=at_station)
        undo, redo = self.actions_by_id["edit.undo"], self.actions_by_id["edit.redo"]
        undo.setText(f"Undo {versioned.undo_label}".strip())
        redo.setText(f"Redo {versioned.redo_label}".strip())
        self.records_workspace.locked = self.lock.locked
        self.records_workspace.refresh_buttons()
        for action_id, action in self.actions_by_id.items():
            action.setEnabled(self._by_id[action_id][1]() and not self._is_elsewhere(action_id, action))

    def _is_elsewhere(self, action_id: str, action: QAction) -> bool:
        """Whether it would change, by a plain letter or by undo, a plan that nobody sees now."""
        changes = action_id in ("edit.undo", "edit.redo") and self._workspace in LOOKING
        return changes or (self._workspace != "plan" and _is_plain(action.shortcut()))

    def _start_or_stop(self) -> None:
        self.show_workspace("run")
        self.run_workspace.start_or_stop()

    def _lock_or_unlock(self) -> None:
        """Ask for the PIN."""
        self.forms.ask_pin(self._lock, self._unlock)

    def _lock(self, pin: str) -> str:
        try:
            self.lock.lock(pin)
        except HemtraError as error:
            return str(error)
        # what stands open beside the window could be edited in
        self.forms.close()
        self.show_workspace("run")
        return ""

    def _unlock(self, pin: str) -> str:
        wrong = self.lock.unlock(pin)
        if not wrong:
            self.notifications.tell(Notice("Editing is unlocked.", "info"))
        self._refresh()
        return wrong

    def _note_lock(self, locked: bool) -> None:
        def work(task: Task) -> None:
            records = Records(default_db())
            try:
                note(records, locked=locked)
            finally:
                records.close()

        self.tasks.start("Noting the lock", work, lambda done: None)

    def _search(self) -> None:
        search = CommandSearch(self.trigger, lambda action_id: self._by_id[action_id][1](), self)
        corner = self.band.search.mapToGlobal(QPoint(0, self.band.search.height() + 4))
        right = self.mapToGlobal(QPoint(self.width() - search.width() - 12, 0)).x()
        search.move(min(corner.x(), right), corner.y())
        search.show()
        search.query.setFocus()

    # -- what the actions do ----------------------------------------------------------------------

    def use_records(self, db: str, prepare: Prepare | None = None) -> None:
        """Record the line's parts in a database, and look back at it.

        prepare: what is done to it, beside the window, before it is looked at first.
        """
        self.run_workspace.db = self.records_workspace.db = db
        self.records_workspace.prepare = prepare

    def _open_demo(self, plan: str, station: str) -> None:
        def done(folder: Path) -> None:
            self.show_workspace("plan")
            self.plans.open(folder / plan)
            self.stations.open(folder / station)
            self.use_records(demo_db(), partial(records_of_demo, folder))

        self.plans.open_demo(done)

    def _restore(self) -> None:
        workspace = self.unsaved.restore()
        if workspace:
            self.show_workspace(workspace)

    def _save(self) -> None:
        if self._workspace == "station":
            self.stations.save()
        else:
            self.plans.save()

    def _ask_open_station(self) -> None:
        self.show_workspace("station")
        self.stations.ask_open(self.plans.folder)

    def _ask_requirements(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "Import a requirement list", str(self.plans.folder), "Lists (*.csv *.tsv *.txt)"
        )
        if name:
            self.import_requirements(Path(name))

    def import_requirements(self, path: Path) -> None:
        """Read a requirement list beside the window, then take its rows into the sheet."""
        self.show_workspace("plan")
        read = partial(read_text, path, LARGEST_LIST)
        self.tasks.start(
            f"Reading {path.name}", lambda task: read(), self.plan_workspace.rows.import_requirements
        )

    def _scan_trial(self) -> None:
        self.show_workspace("station")
        self.station_workspace.scan_trial()

    def _begin(self, task: str) -> None:
        self.show_workspace("station")
        self.station_workspace.begin(task)

    def _open_door_station(self) -> None:
        self.unsaved.set_aside()
        self.station_bench.document.start_over(DOOR_STATION, None, DOOR_STATION)
        self.show_workspace("station")

    def _change_unit(self) -> None:
        unit = INCH if self.station_bench.unit is MM else MM
        self.settings.unit = unit.name
        self.plans.keep_settings()
        self.station_bench.use_unit(unit)
        self._refresh()

    @Slot(object)
    def _take_trial(self, part: TrayPart) -> None:
        self.plans.take_part(part)
        self.bench.tray.select(len(self.bench.tray.parts) - 1)

    def _step(self, by: int) -> None:
        """Another part; but where a button or a list has the focus, Space means that."""
        focused = QApplication.focusWidget()
        if isinstance(focused, QAbstractButton):
            focused.click()
        elif isinstance(focused, QComboBox):
            focused.showPopup()
        else:
            self.bench.tray.step(by)

    def _change_tag(self) -> None:
        part = self.bench.tray.current
        if part is not None:
            self.bench.next_tag(part)

    def _toggle_intensity(self) -> None:
        stage = self.plan_workspace.stage
        stage.colour_by("height" if self.bench.colour == "intensity" else "intensity")

    def _toggle_dark(self) -> None:
        self.settings.dark = theme.current() is not theme.DARK
        theme.use(theme.DARK if self.settings.dark else theme.LIGHT)
        self.plans.keep_settings()
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        application.setStyleSheet(theme.stylesheet())

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Plans and scans may be dropped."""
        if any(_is_ours(Path(url.toLocalFile())) for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open what was dropped."""
        if self.lock.locked:
            return
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        plans = [p for p in paths if p.suffix == ".hplan"]
        scans = [p for p in paths if p.suffix.lower() in SCAN_SUFFIXES]
        if plans:
            self.plans.open(plans[0])
        if scans:
            self.plans.add_scans(scans)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Nothing is asked: unsaved work is kept and offered at the next start."""
        self.unsaved.close()
        self.forms.close()
        self.run_workspace.stop()
        self.forms.stop_block()
        self.tasks.stop()
        self.plan_workspace.stop()
        self.station_workspace.stop()
        self.records_workspace.stop()
        event.accept()


def _is_plain(keys: QKeySequence) -> bool:
    """Whether a shortcut is a key without Ctrl or Alt, and no function key."""
    text = keys.toString()
    is_function = text.startswith("F") and text[1:].isdigit()
    return bool(text) and "Ctrl" not in text and "Alt" not in text and not is_function


def _is_ours(path: Path) -> bool:
    return path.suffix == ".hplan" or path.suffix.lower() in SCAN_SUFFIXES
