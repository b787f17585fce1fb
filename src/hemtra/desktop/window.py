"""The main window: band, message bar, workspace, and the actions of the table."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QPoint, QTimer, Slot
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QPushButton,
    QStackedWidget,
    QToolButton,
)

from hemtra.core.errors import HemtraError
from hemtra.core.plan.document import Plan
from hemtra.core.scan.scan import Scan
from hemtra.core.station.station import Station
from hemtra.desktop import recovery, theme
from hemtra.desktop.actions import ACTIONS
from hemtra.desktop.command_search import CommandSearch, KeysAndSigns
from hemtra.desktop.files import Opened, OpenPlan, SavePlan, load_parts, make_demo
from hemtra.desktop.lanes import Lane, Superseded
from hemtra.desktop.message_bar import MessageBar, ProgressStrip, stacked
from hemtra.desktop.model.bench import Bench
from hemtra.desktop.model.station_bench import NEW, StationBench
from hemtra.desktop.model.tray import TrayPart
from hemtra.desktop.model.versioned import Versioned
from hemtra.desktop.notifications import Notice, Notifications
from hemtra.desktop.plan.empty_state import EmptyState
from hemtra.desktop.plan.workspace import PlanWorkspace
from hemtra.desktop.settings import Settings, load_settings, save_settings
from hemtra.desktop.station.guided_task import GuidedTask
from hemtra.desktop.station.workspace import StationWorkspace
from hemtra.desktop.tasks import Task, Tasks
from hemtra.runtime.demo import STATION_FILE
from hemtra.storage.plans import load_plan_file
from hemtra.storage.scans import FORMATS
from hemtra.storage.stations import load_station, save_station
from hemtra.storage.trays import TrayEntry

KEEP_AFTER_MS = 1500
"""How soon after a change unsaved work is kept."""
SCAN_SUFFIXES = tuple(FORMATS)


class MainWindow(QMainWindow):
    """Hemtra's window."""

    def __init__(self, notifications: Notifications | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Hemtra")
        self.setMinimumSize(1180, 720)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.notifications = notifications or Notifications()
        self.bench = Bench()
        self.settings: Settings = load_settings()
        self.tasks = Tasks(self.notifications.error, self)
        self.plan_workspace = PlanWorkspace(self.bench, self.notifications, self.tasks)
        self.station_bench = StationBench(self.bench.document)
        self.station_workspace = StationWorkspace(self.station_bench, self.notifications, self.tasks)
        self.station_workspace.scanned.connect(self._take_trial)
        self._workspace = "plan"
        self.message_bar = MessageBar(self.trigger)
        self.notifications.told.connect(self.message_bar.told.emit)
        self._recovered: recovery.Kept | None = None
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
        self.actions_by_id = self._make_actions()
        band = self._make_band()
        self.setCentralWidget(stacked(band, self.message_bar, ProgressStrip(self.tasks), self._pages))
        self._opened = 0
        self._keep_lane = Lane(_keep_state, "unsaved work", self)
        self._keep_lane.failed.connect(self._on_not_kept)
        self._keep_timer = QTimer(self, singleShot=True, interval=KEEP_AFTER_MS)
        self._keep_timer.timeout.connect(self._keep)
        for changed in (
            self.bench.document.changed,
            self.bench.tray.changed,
            self.bench.tray.current_changed,
        ):
            changed.connect(self._refresh)
        self.station_bench.document.changed.connect(self._refresh)
        self.station_bench.live_changed.connect(self._refresh)
        self.bench.document.changed.connect(self._keep_timer.start)
        self.station_bench.document.changed.connect(self._keep_timer.start)
        self.bench.selection_changed.connect(self._refresh)
        self._refresh()

    # -- band and actions -------------------------------------------------------------------------

    def _make_band(self) -> QFrame:
        band = QFrame()
        band.setObjectName("band")
        band.setFixedHeight(44)
        brand = QToolButton()
        brand.setObjectName("brand")
        brand.setText("Hemtra")
        brand.setToolTip("All commands")
        brand.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._menu = QMenu(brand)
        self._menu.aboutToShow.connect(self._fill_menu)
        brand.setMenu(self._menu)
        self._tabs = {name: self._make_tab(name) for name in ("station", "plan")}
        self._title = QLabel()
        search = QPushButton("Find a command   Ctrl+K")
        search.setObjectName("search")
        search.clicked.connect(lambda: self.trigger("help.search"))
        self._search_button = search
        unit = QLabel("mm")
        unit.setToolTip("Lengths are in millimetres, angles in degrees.")
        help_button = QPushButton("?")
        help_button.setObjectName("help")
        help_button.setFixedWidth(28)
        help_button.setToolTip("Keys and signs")
        help_button.clicked.connect(lambda: self.trigger("help.keys"))
        layout = QHBoxLayout(band)
        layout.setContentsMargins(10, 0, 14, 0)
        layout.setSpacing(16)
        layout.addWidget(brand)
        for tab in self._tabs.values():
            layout.addWidget(tab)
        layout.addStretch(1)
        layout.addWidget(self._title)
        layout.addStretch(1)
        layout.addWidget(search)
        layout.addWidget(unit)
        layout.addWidget(help_button)
        return band

    def _make_tab(self, name: str) -> QPushButton:
        tab = QPushButton(name.capitalize())
        tab.setObjectName("workspaceTab")
        tab.setCheckable(True)
        tab.setFixedHeight(28)
        tab.clicked.connect(lambda: self.show_workspace(name))
        return tab

    def show_workspace(self, name: str) -> None:
        """Go to “station” or “plan”."""
        self._workspace = name
        self._refresh()

    @property
    def _versioned(self) -> Versioned[Any]:
        """The document that undo and save mean now."""
        return self.station_bench.document if self._workspace == "station" else self.bench.document

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
            "plan.demo": (self.open_demo, always),
            "plan.open": (self._ask_open, always),
            "plan.new": (self.new_plan, always),
            "station.show": (lambda: self.show_workspace("station"), always),
            "station.open": (self._ask_open_station, always),
            "station.save": (self.save_station, always),
            "station.save-as": (self._ask_save_station, always),
            "station.trial": (self._scan_trial, always),
            "station.encoder": (lambda: self._begin(self.station_workspace.encoder_task), always),
            "station.level": (lambda: self._begin(self.station_workspace.level_task), always),
            "station.reference": (
                self.station_bench.keep_reference,
                lambda: self.station_bench.live is not None,
            ),
            "plan.show": (lambda: self.show_workspace("plan"), always),
            "plan.save": (
                self.save,
                lambda: self._workspace == "station" or has_part() or bool(document.plan.steps),
            ),
            "plan.save-as": (self._ask_save, lambda: has_part() or bool(document.plan.steps)),
            "edit.undo": (lambda: self._versioned.undo(), lambda: bool(self._versioned.undo_label)),
            "edit.redo": (lambda: self._versioned.redo(), lambda: bool(self._versioned.redo_label)),
            "characteristic.new": (workspace.new.ask, has_part),
            "characteristic.height": (lambda: workspace.new.begin("height"), has_part),
            "characteristic.step": (lambda: workspace.new.begin("step"), has_part),
            "characteristic.delete": (workspace.delete_selected, has_row),
            "tray.add": (self._ask_scans, always),
            "tray.next": (lambda: self._step(1), has_part),
            "tray.previous": (lambda: self._step(-1), has_part),
            "tray.tag": (self._change_tag, has_part),
            "tray.reference": (self._set_reference, has_part),
            "view.fit": (workspace.stage.fit, has_part),
            "view.intensity": (self._toggle_intensity, has_part),
            "view.dark": (self._toggle_dark, always),
            "help.search": (self._search, always),
            "help.keys": (lambda: KeysAndSigns(self).exec(), always),
            "help.quit": (self.close, always),
            "recover.restore": (self._restore, always),
            "recover.discard": (self._discard, always),
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
            self.open_plan(Path(action_id.removeprefix("recent:")))
            return
        do, possible = self._by_id[action_id]
        if possible():
            do()

    def _fill_menu(self) -> None:
        self._menu.clear()
        group = ""
        for action in ACTIONS:
            if group and action.group != group:
                self._menu.addSeparator()
            group = action.group
            self._menu.addAction(self.actions_by_id[action.id])
            if action.id == "plan.open" and self.settings.recent:
                recent = self._menu.addMenu("Recent plans")
                for path in self.settings.recent:
                    recent.addAction(path, partial(self.open_plan, Path(path)))

    def _refresh(self) -> None:
        document, tray = self.bench.document, self.bench.tray
        empty = tray.current is None and not document.plan.steps
        at_station = self._workspace == "station"
        self._pages.setCurrentIndex(2 if at_station else (0 if empty else 1))
        for tab_name, tab in self._tabs.items():
            tab.setChecked(tab_name == self._workspace)
        versioned = self._versioned
        plan_name = document.plan.name if document.path or not empty else ""
        name = self.station_bench.document.value.name if at_station else plan_name
        self._title.setText(f"{name} {'•' if versioned.unsaved else ''}".strip())
        dot = ". The dot: there are unsaved changes." if versioned.unsaved else ""
        self._title.setToolTip(f"{versioned.path or 'not saved yet'}{dot}")
        undo, redo = self.actions_by_id["edit.undo"], self.actions_by_id["edit.redo"]
        undo.setText(f"Undo {versioned.undo_label}".strip())
        redo.setText(f"Redo {versioned.redo_label}".strip())
        for action_id, action in self.actions_by_id.items():
            action.setEnabled(self._by_id[action_id][1]())

    def _search(self) -> None:
        search = CommandSearch(self.trigger, lambda action_id: self._by_id[action_id][1](), self)
        corner = self._search_button.mapToGlobal(QPoint(0, self._search_button.height() + 4))
        right = self.mapToGlobal(QPoint(self.width() - search.width() - 12, 0)).x()
        search.move(min(corner.x(), right), corner.y())
        search.show()
        search.query.setFocus()

    # -- opening and saving -----------------------------------------------------------------------

    def open_demo(self) -> None:
        """Open the demo, making its files first where needed."""

        def done(path: Path | None) -> None:
            if path is not None:
                self.show_workspace("plan")
                self.open_plan(path)
                self.open_station(path.with_name(STATION_FILE))

        self.tasks.start("Demo", make_demo, done)

    def open_plan(self, path: Path) -> None:
        """Read a plan and its tray beside the window. Unsaved work is kept for the next start."""

        def item(found: Opened | TrayPart) -> None:
            if isinstance(found, TrayPart):
                self._take_part(found)
                return
            self._start_over(found.held.plan, path, found.held.reference)
            self._remember(path)

        def done(found: Opened) -> None:
            self.bench.select(min((c.balloon for c in found.held.plan.sheet), default=None))
            self._tell_troubles(found.troubles)

        self.tasks.start(f"Opening {path.name}", OpenPlan(path), done, item)

    def new_plan(self) -> None:
        """An empty plan on the parts of the tray."""
        self._set_aside()
        part = self.bench.tray.current
        self.bench.document.open(Plan(), None, part.scan if part else None)
        self.bench.select(None)

    def add_scans(self, paths: list[Path]) -> None:
        """Read scans into the tray."""
        entries = [TrayEntry(path) for path in paths]
        self.tasks.start(
            "Adding scans", lambda task: load_parts(task, entries), self._tell_troubles, self._take_part
        )

    def save(self) -> None:
        """Save where the plan lies, or ask; in the Station workspace the station."""
        if self._workspace == "station":
            self.save_station()
        elif self.bench.document.path is None:
            self._ask_save()
        else:
            self.save_to(self.bench.document.path)

    def save_to(self, path: Path) -> None:
        """Write plan, reference and tray beside the window."""
        document, tray = self.bench.document, self.bench.tray
        plan = document.plan
        if document.path is None and plan.name == Plan().name:
            plan = plan.edited(name=path.stem)
            document.edit("name of the plan", plan)
        reference = document.reference or (tray.current.scan if tray.current else None)

        def done(saved: SavePlan) -> None:
            document.reference = saved.reference
            document.mark_saved(saved.plan, saved.path)
            self._remember(saved.path)

        self.tasks.start(f"Saving {path.name}", SavePlan(path, plan, reference, tuple(self._entries())), done)

    def _set_aside(self) -> None:
        """Unsaved work of the plan that is left behind stays kept, under a number of its own."""
        if self.bench.document.unsaved or self.station_bench.document.unsaved:
            self._keep_lane.finish(self._unsaved_state())
            self._opened += 1

    def _remember(self, path: Path) -> None:
        self.settings.opened(path)
        settings = self.settings.model_copy(deep=True)
        self.tasks.start("Settings", lambda task: save_settings(settings))

    def _start_over(self, plan: Plan, path: Path | None, reference: Any, *, saved: bool = True) -> None:
        self._set_aside()
        self.bench.select(None)
        self.bench.tray.clear()
        self.bench.document.open(plan, path, reference, saved=saved)

    def _take_part(self, part: TrayPart) -> None:
        self.bench.tray.add(part)
        if self.bench.document.reference is None:
            self.bench.document.reference = part.scan
        self.plan_workspace.try_all()

    def _tell_troubles(self, troubles: tuple[str, ...] | list[str]) -> None:
        if troubles:
            more = f" ({len(troubles) - 1} more could not be read either.)" if len(troubles) > 1 else ""
            self.notifications.tell(Notice(troubles[0] + more))

    def _entries(self) -> list[TrayEntry]:
        return [TrayEntry(p.path, p.tag) for p in self.bench.tray.parts if p.path is not None]

    def _ask_open(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open plan", str(self._folder()), "Plans (*.hplan)")
        if name:
            self.open_plan(Path(name))

    def _ask_save(self) -> None:
        proposed = self._folder() / f"{self.bench.document.plan.name.replace(' ', '-')}.hplan"
        name, _ = QFileDialog.getSaveFileName(self, "Save plan", str(proposed), "Plans (*.hplan)")
        if name:
            self.save_to(Path(name).with_suffix(".hplan"))

    def _ask_scans(self) -> None:
        kinds = " ".join(f"*{suffix}" for suffix in SCAN_SUFFIXES)
        names, _ = QFileDialog.getOpenFileNames(self, "Add scans", str(self._folder()), f"Scans ({kinds})")
        if names:
            self.add_scans([Path(name) for name in names])

    def _folder(self) -> Path:
        path = self.bench.document.path
        return path.parent if path else Path.home()

    def _set_reference(self) -> None:
        part = self.bench.tray.current
        if part is not None:
            self.bench.document.reference = part.scan
            text = f"{part.scan.name} is the reference now and is saved inside the plan."
            self.notifications.tell(Notice(text, "info"))

    # -- the station --------------------------------------------------------------------------------

    def open_station(self, path: Path) -> None:
        """Read a station beside the window."""

        def done(station: Station) -> None:
            self._set_aside()
            self.station_bench.document.start_over(station, path, station)

        self.tasks.start(f"Opening {path.name}", lambda task: load_station(path), done)

    def save_station(self, path: Path | None = None) -> None:
        """Write the station where it lies, or to a path; ask when there is none."""
        document = self.station_bench.document
        target = path or document.path
        if target is None:
            self._ask_save_station()
            return
        station = document.value
        self.tasks.start(
            f"Saving {target.name}",
            lambda task: save_station(station, target),
            lambda _: document.mark_saved(station, target),
        )

    def _ask_open_station(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "Open station", str(self._folder()), "Stations (*.hstation)"
        )
        if name:
            self.open_station(Path(name))
            self.show_workspace("station")

    def _ask_save_station(self) -> None:
        proposed = self._folder() / f"{self.station_bench.document.value.name.replace(' ', '-')}.hstation"
        name, _ = QFileDialog.getSaveFileName(self, "Save station", str(proposed), "Stations (*.hstation)")
        if name:
            self.save_station(Path(name).with_suffix(".hstation"))

    def _scan_trial(self) -> None:
        self.show_workspace("station")
        self.station_workspace.scan_trial()

    def _begin(self, task: GuidedTask) -> None:
        self.show_workspace("station")
        self.station_workspace.begin(task)

    @Slot(object)
    def _take_trial(self, part: TrayPart) -> None:
        self._take_part(part)
        self.bench.tray.select(len(self.bench.tray.parts) - 1)

    # -- unsaved work -----------------------------------------------------------------------------

    def offer_recovery(self) -> None:
        """If an earlier run left unsaved work behind, offer it."""
        self._recovered = recovery.find()
        if self._recovered is not None:
            kept = self._recovered
            when = kept.when.strftime("%H:%M on %d %B")
            text = f"Unsaved changes to {kept.names} from {when} were kept."
            actions = (("Restore", "recover.restore"), ("Discard", "recover.discard"))
            self.notifications.tell(Notice(text, "info", actions))

    def _restore(self) -> None:
        kept, self._recovered = self._recovered, None
        if kept is None:
            return
        if kept.station is not None:
            self.station_bench.document.start_over(kept.station, kept.station_path, NEW)
        if kept.plan is None:
            self.show_workspace("station")
            recovery.forget(kept.file)
            return
        plan = kept.plan
        self._start_over(plan, kept.path, None, saved=False)

        def work(task: Task) -> list[str]:
            if kept.path is not None:
                with suppress(HemtraError):  # the plan's own file may be gone; its reference is gone with it
                    task.produce(load_plan_file(kept.path).reference)
            return load_parts(task, list(kept.tray))

        def item(found: Scan | TrayPart | None) -> None:
            if isinstance(found, TrayPart):
                self._take_part(found)
            else:
                self.bench.document.reference = found

        def done(troubles: list[str]) -> None:
            self.bench.select(min((c.balloon for c in plan.sheet), default=None))
            self._tell_troubles(troubles)
            recovery.forget(kept.file)

        self.tasks.start("Restoring", work, done, item)

    def _discard(self) -> None:
        kept, self._recovered = self._recovered, None
        if kept is not None:
            recovery.forget(kept.file)
            self.offer_recovery()

    def _unsaved_state(self) -> recovery.State:
        document, station = self.bench.document, self.station_bench.document
        state = recovery.State(recovery.own_file(self._opened))
        if document.unsaved:
            tray = tuple(self._entries())
            state = replace(state, plan=document.plan, path=document.path, tray=tray)
        if station.unsaved:
            state = replace(state, station=station.value, station_path=station.path)
        return state

    def _keep(self) -> None:
        """Keep unsaved work where the next start finds it."""
        self._keep_lane.submit(self._unsaved_state())

    @Slot(object, object)
    def _on_not_kept(self, state: recovery.State, error: BaseException) -> None:
        self.notifications.error(error)

    # -- small things -----------------------------------------------------------------------------

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
            self.bench.tray.next_tag(part)

    def _toggle_intensity(self) -> None:
        stage = self.plan_workspace.stage
        stage.colour_by("height" if stage.coloured_by == "intensity" else "intensity")

    def _toggle_dark(self) -> None:
        self.settings.dark = theme.current() is not theme.DARK
        theme.use(theme.DARK if self.settings.dark else theme.LIGHT)
        settings = self.settings.model_copy(deep=True)
        self.tasks.start("Settings", lambda task: save_settings(settings))
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        application.setStyleSheet(theme.stylesheet())

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Plans and scans may be dropped."""
        if any(_is_ours(Path(url.toLocalFile())) for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open what was dropped."""
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls()]
        plans = [p for p in paths if p.suffix == ".hplan"]
        scans = [p for p in paths if p.suffix.lower() in SCAN_SUFFIXES]
        if plans:
            self.open_plan(plans[0])
        if scans:
            self.add_scans(scans)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Nothing is asked: unsaved work is kept and offered at the next start."""
        self._keep_timer.stop()
        self._keep_lane.finish(self._unsaved_state())
        self._keep_lane.stop()
        self.tasks.stop()
        self.plan_workspace.stop()
        self.station_workspace.stop()
        event.accept()


def _keep_state(state: recovery.State, superseded: Superseded) -> Iterator[None]:
    recovery.keep(state)
    yield None


def _is_ours(path: Path) -> bool:
    return path.suffix == ".hplan" or path.suffix.lower() in SCAN_SUFFIXES
