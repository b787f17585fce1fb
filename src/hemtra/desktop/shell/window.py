"""The main window: the band, messages, the workspaces, and the actions of all of them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import QDialog, QMenu, QStackedWidget, QVBoxLayout, QWidget

from hemtra.desktop.documents.action import Action
from hemtra.desktop.documents.plan_files import ALL_SUFFIXES
from hemtra.desktop.documents.session import Session
from hemtra.desktop.documents.workspace import Workspace
from hemtra.desktop.models.edit_lock import LOCKED
from hemtra.desktop.shell.command_search import CommandSearch
from hemtra.desktop.shell.common_actions import edit_actions, help_actions, recovery
from hemtra.desktop.shell.manual import Manual
from hemtra.desktop.shell.message_bar import MessageBar, ProgressStrip, stacked
from hemtra.desktop.shell.top_bar import TopBar
from hemtra.desktop.shell.tour import Tour
from hemtra.desktop.shell.workspaces import workspaces
from hemtra.desktop.widgets import theme
from hemtra.desktop.widgets.notifications import Notice, Notifications


class MainWindow(QWidget):
    """Hemtra's window.

    It is not a QMainWindow: the layout of one uses the style during destruction, so Qt keeps style rules for a
    destroyed widget and crashes at the next change of the style sheet.
    """

    def __init__(self, notifications: Notifications | None = None) -> None:
        super().__init__()
        self.setWindowTitle("Hemtra")
        self.setObjectName("mainWindow")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setMinimumSize(1024, 640)
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.session = session = Session(self, notifications or Notifications(), self.trigger)
        with theme.undressed():
            self.workspaces: dict[str, Workspace] = {made.name: made(session) for made in workspaces()}
            self.message_bar = MessageBar(self.trigger)
            session.notifications.notified.connect(self.message_bar.notice_wanted.emit)
            self.manual = Manual(self)
            self._recovery = recovery(session)
            self.actions_by_id = {action.id: action for action in self._all_actions()}
            self._items = {action.id: self._item(action) for action in self.actions_by_id.values()}
            self.band = TopBar(tuple(self.workspaces), self.trigger, self.fill_menu)
            self.band.workspace_chosen.connect(self.show_workspace)
            session.show_wanted.connect(self.show_workspace)
            session.unit_changed.connect(self._show_unit)
            self.pages = QStackedWidget()
            for workspace in self.workspaces.values():
                if workspace.is_made:  # a page that nobody looks at goes with the window too
                    self.pages.addWidget(workspace.page)
            self.tour = Tour(session, self.trigger)
            strip = ProgressStrip(session.tasks)
            layout = QVBoxLayout(self)
            layout.setContentsMargins(0, 0, 0, 0)
            layout.addWidget(stacked(self.band, self.tour, self.message_bar, strip, self.pages))
        bench, station = session.bench, session.station_bench
        for changed in (
            bench.document.changed,
            bench.selection_changed,
            bench.tray.changed,
            bench.tray.current_changed,
            station.document.changed,
            station.live_changed,
            station.unit_changed,
        ):
            changed.connect(self.refresh)
        if session.lock.locked:
            session.shown = "run"
        self.refresh()

    # -- workspaces -------------------------------------------------------------------------------

    @property
    def workspace(self) -> Workspace:
        """The one on screen."""
        return self.workspaces[self.session.shown]

    def show_workspace(self, name: str) -> None:
        """Go to a workspace, unless it is closed while editing is locked."""
        if not (self.session.lock.locked and self.workspaces[name].edits):
            self.session.shown = name
            self.workspace.entered()
        self.refresh()

    def _show_unit(self) -> None:
        for workspace in self.workspaces.values():
            workspace.unit_changed()
        for widget in self.findChildren(QWidget):
            widget.update()
        self.refresh()

    def refresh(self) -> None:
        """Bring the band, menus and buttons up to date."""
        workspace = self.workspace
        if self.pages.indexOf(workspace.page) < 0:
            self.pages.addWidget(workspace.page)
        self.pages.setCurrentWidget(workspace.page)
        locked = self.session.lock.locked
        self.band.lock({w.name for w in self.workspaces.values() if locked and w.edits}, searches=not locked)
        document = workspace.document
        place = str(document.path or "not saved yet")
        self.band.show_open(workspace.name, workspace.open_name, place, unsaved=document.unsaved)
        self.band.show_unit(workspace.unit)
        self._items["edit.undo"].setText(f"Undo {document.undo_label}".strip())
        self._items["edit.redo"].setText(f"Redo {document.redo_label}".strip())
        for each in self.workspaces.values():
            each.refresh()
        self.tour.check()
        for action in self.actions_by_id.values():
            # a plain letter means what is on screen: a plan that nobody sees is not changed by it
            seen = workspace.name == "plan" or not action.has_plain_key
            self._items[action.id].setEnabled(seen and action.enabled())

    # -- actions ----------------------------------------------------------------------------------

    def _all_actions(self) -> list[Action]:
        found: list[Action] = []
        for workspace in self.workspaces.values():
            show = partial(self.show_workspace, workspace.name)
            found.append(
                Action(
                    f"{workspace.name}.show",
                    f"{workspace.title} workspace",
                    workspace.title,
                    show,
                    keys=workspace.keys,
                    help=workspace.help,
                    while_locked=not workspace.edits,
                )
            )
            found += workspace.actions()
        return [*found, *edit_actions(self), *help_actions(self)]

    def _item(self, action: Action) -> QAction:
        item = QAction(action.title, self)
        if action.keys:
            item.setShortcut(QKeySequence(action.keys))
        item.setToolTip(action.help or action.title)
        item.triggered.connect(lambda _=False: self.trigger(action.id))
        self.addAction(item)
        return item

    def is_enabled(self, action_id: str) -> bool:
        """Whether an action can be done now."""
        return self.actions_by_id[action_id].enabled()

    def trigger(self, action_id: str) -> None:
        """Do an action by its id; “recent:PATH” opens a recent plan."""
        if self.session.lock.locked and not self._while_locked(action_id):
            self.session.notifications.post(Notice(LOCKED))
        elif action_id.startswith("recent:"):
            self.session.plans.open(Path(action_id.removeprefix("recent:")))
        elif action_id in self._recovery:
            self._recovery[action_id]()
        elif self.is_enabled(action_id):
            self.actions_by_id[action_id].do()

    def _while_locked(self, action_id: str) -> bool:
        return action_id in self.actions_by_id and self.actions_by_id[action_id].while_locked

    def fill_menu(self, menu: QMenu) -> None:
        """All actions by their groups."""
        menu.clear()
        groups: dict[str, QMenu] = {}
        for action in self.actions_by_id.values():
            if action.group not in groups:
                groups[action.group] = menu.addMenu(action.group)
            groups[action.group].addAction(self._items[action.id])
            if action.id == "plan.open" and self.session.settings.recent:
                recent = groups[action.group].addMenu("Recent plans")
                for path in self.session.settings.recent:
                    recent.addAction(path, partial(self.trigger, f"recent:{path}"))

    def search(self) -> None:
        """Prompt for a command by a few of its letters."""
        search = CommandSearch(tuple(self.actions_by_id.values()), self.trigger, self)
        corner = self.band.search.mapToGlobal(QPoint(0, self.band.search.height() + 4))
        right = self.mapToGlobal(QPoint(self.width() - search.width() - 12, 0)).x()
        search.move(min(corner.x(), right), corner.y())
        search.show()
        search.query.setFocus()

    # -- what comes from outside ------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        """Plans and scans may be dropped."""
        if any(_is_ours(Path(url.toLocalFile())) for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open what was dropped."""
        if self.session.lock.locked:
            return
        self.open_files([Path(url.toLocalFile()) for url in event.mimeData().urls()])

    def open_files(self, paths: Sequence[Path]) -> None:
        """Open a plan, a station, scans and folders of scans."""
        plans = [p for p in paths if p.suffix == ".hplan"]
        stations = [p for p in paths if p.suffix == ".hstation"]
        scans = [p for p in paths if p.suffix.lower() in ALL_SUFFIXES]
        folders = [p for p in paths if p.is_dir()]
        if plans:
            self.session.plans.open(plans[0])
        if stations:
            self.session.stations.open(stations[0])
            if not plans and not scans:
                self.session.show("station")
        if scans:
            self.session.plans.add_scans(scans)
        for folder in folders:
            self.session.plans.add_folder(folder)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Nothing is asked: unsaved work is kept and offered at the next start."""
        for dialog in self.findChildren(QDialog):
            dialog.close()  # they would stay on screen without their window
        self.session.unsaved.close()
        self.session.plans.keep_settings_now()
        # a line first, whose last parts are finished; then tasks, which may read what a workspace lets go of
        self.workspaces["run"].stop()
        self.session.tasks.stop()
        for workspace in self.workspaces.values():
            workspace.stop()
        event.accept()


def _is_ours(path: Path) -> bool:
    return path.suffix in (".hplan", ".hstation") or path.suffix.lower() in ALL_SUFFIXES or path.is_dir()
