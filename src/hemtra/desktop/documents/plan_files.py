"""Opening, starting and saving plans with their trays, beside the window."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QInputDialog, QWidget

from hemtra.core.edits.anchors import redrawn
from hemtra.core.errors import HemtraError
from hemtra.core.maps.importing import Foreign, ImportSettings, SeveralPages
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.documents.files import Opened, OpenPlan, SavePlan, load_parts, make_demo
from hemtra.desktop.documents.import_form import ImportForm
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.observe import Signal
from hemtra.desktop.models.tray import TrayPart
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.storage.scans import FOREIGN, FORMATS, keep_settings, read_foreign
from hemtra.storage.settings import Settings, files_begin_at, save_settings
from hemtra.storage.trays import TrayEntry

SCAN_SUFFIXES = tuple(FORMATS)
ALL_SUFFIXES = (*FORMATS, *FOREIGN)
"""Also those that other programs write, which are read when they are chosen one by one."""


class PlanFiles:
    """Plans on disk and the bench they come to."""

    def __init__(
        self,
        bench: WorkspaceModel,
        tasks: Tasks,
        notifications: Notifications,
        settings: Settings,
        parent: QWidget,
    ) -> None:
        self.leaving = Signal()
        """Emitted before the open plan is closed."""
        self.part_taken = Signal()
        self._bench, self._tasks, self._notifications = bench, tasks, notifications
        self._settings, self._parent = settings, parent
        self._writing, self._asked, self._written = threading.Lock(), 0, 0
        """Settings: the lock on their file, and how many saves were requested and done."""

    @property
    def folder(self) -> Path:
        """Folder in which dialogs begin."""
        path = self._bench.document.path
        return path.parent if path else files_begin_at()

    def entries(self) -> list[TrayEntry]:
        """The tray as its file would hold it."""
        return [TrayEntry(p.path, p.tag) for p in self._bench.tray.parts if p.path is not None]

    def open_demo(self, done: Callable[[Path], None]) -> None:
        """Make the demo files where needed, then say in which folder they lie."""
        self._tasks.start("Demo", make_demo, lambda folder: done(folder) if folder is not None else None)

    def open(self, path: Path) -> None:
        """Read a plan, then its tray part by part."""

        def item(found: Opened | list[TrayPart]) -> None:
            if not isinstance(found, Opened):
                self.take_parts(found)
                return
            self.start_over(found.held.plan, path, found.held.reference)
            self.select_first()
            self._remember(path)

        def done(found: Opened) -> None:
            self.report_errors(found.troubles)

        self._tasks.start(f"Opening {path.name}", OpenPlan(path), done, item)

    def new(self) -> None:
        """An empty plan on the parts of the tray."""
        self.leaving.emit()
        part = self._bench.tray.current
        self._bench.document.open(Plan(), None, part.scan if part else None)
        self._bench.select(None)

    def add_scans(self, paths: list[Path]) -> None:
        """Read scans into the tray."""
        entries = [TrayEntry(path) for path in paths]
        asked: list[Path] = []

        def done(troubles: list[str]) -> None:
            self.report_errors(troubles)
            if asked:
                self._ask_import(asked)

        self._tasks.start("Adding scans", lambda task: load_parts(task, entries, asked), done, self.take_parts)

    def _ask_import(self, paths: list[Path], page: int | None = None) -> None:
        """Ask what the first of some files does not say, first of all its page, then read them with that."""

        def work(task: Task) -> Scan | Foreign | SeveralPages:
            try:
                return read_foreign(paths[0], page)
            except SeveralPages as error:
                return error

        def show(found: Scan | Foreign | SeveralPages) -> None:
            if isinstance(found, SeveralPages):
                asked, taken = QInputDialog.getInt(
                    self._parent, "Page", f"{paths[0].name}: page that holds the heights", 1, 1, found.pages
                )
                if taken:
                    self._ask_import(paths, asked)
            elif isinstance(found, Scan):
                if page is not None:
                    self._import(paths, ImportSettings(page=page), True)
            else:
                form = ImportForm(found, paths[0], self._parent, page)
                form.wanted.connect(partial(self._import, paths))
                form.show()

        self._tasks.start(f"Reading {paths[0].name}", work, show)

    def _import(self, paths: list[Path], settings: ImportSettings, of_folder: bool) -> None:
        try:
            keep_settings(paths[0], settings, of_folder=of_folder)
        except HemtraError as error:
            self._notifications.error(error)
            return
        self.add_scans(paths)

    def save(self, comment: str = "") -> None:
        """Save where the plan lies, or ask."""
        if self._bench.document.path is None:
            self.ask_save(comment)
        else:
            self.save_to(self._bench.document.path, comment)

    def save_to(self, path: Path, comment: str = "") -> None:
        """Write plan, reference and tray; without a comment, what was done since is the revision's."""
        document, tray = self._bench.document, self._bench.tray
        plan = document.plan
        if document.path is None and plan.name == Plan().name:
            plan = plan.edited(name=path.stem)
            document.edit("name of the plan", plan)
        reference = document.reference or (tray.current.scan if tray.current else None)

        def done(saved: SavePlan) -> None:
            document.reference = saved.reference
            document.mark_saved(saved.plan, saved.path)
            self._remember(saved.path)

        comment = comment or "; ".join(document.labels_since_saved)
        work = SavePlan(path, plan, reference, tuple(self.entries()), comment, document.path)
        self._tasks.start(f"Saving {path.name}", work, done)

    def ask_open(self) -> None:
        """Ask which plan to open."""
        name, _ = QFileDialog.getOpenFileName(self._parent, "Open plan", str(self.folder), "Plans (*.hplan)")
        if name:
            self.open(Path(name))

    def ask_save(self, comment: str = "") -> None:
        """Ask where to save."""
        proposed = self.folder / f"{self._bench.document.plan.name.replace(' ', '-')}.hplan"
        name, _ = QFileDialog.getSaveFileName(self._parent, "Save plan", str(proposed), "Plans (*.hplan)")
        if name:
            self.save_to(Path(name).with_suffix(".hplan"), comment)

    def ask_scans(self) -> None:
        """Ask which scans to add."""
        kinds = f"Scans ({' '.join(f'*{suffix}' for suffix in ALL_SUFFIXES)})"
        names, _ = QFileDialog.getOpenFileNames(self._parent, "Add scans", str(self.folder), kinds)
        if names:
            self.add_scans([Path(name) for name in names])

    def ask_folder(self) -> None:
        """Prompt for a folder whose scans to add."""
        name = QFileDialog.getExistingDirectory(self._parent, "Add a folder of scans", str(self.folder))
        if name:
            self.add_folder(Path(name))

    def add_folder(self, folder: Path) -> None:
        """Add every scan of a folder, by name."""
        scans = sorted(p for p in folder.iterdir() if p.suffix.lower() in SCAN_SUFFIXES)
        if scans:
            self.add_scans(scans)
        else:
            kinds = ", ".join(SCAN_SUFFIXES)
            self._notifications.post(Notice(f"{folder.name} holds no scans; they end in {kinds}."))

    def start_over(self, plan: Plan, path: Path | None, reference: Scan | None, *, saved: bool = True) -> None:
        """Another plan on an empty tray."""
        self.leaving.emit()
        self._bench.select(None)
        self._bench.tray.clear()
        self._bench.document.open(plan, path, reference, saved=saved)

    def select_first(self) -> None:
        """Select the first row of the sheet."""
        self._bench.select(min((c.balloon for c in self._bench.document.plan.sheet), default=None))

    def take_parts(self, parts: Sequence[TrayPart]) -> None:
        """Add parts to the tray; the first one becomes the reference where there is none."""
        self._bench.tray.add(*parts)
        if self._bench.document.reference is None:
            self._bench.document.reference = parts[0].scan
        self.part_taken.emit()

    def make_reference(self) -> None:
        """The part on the stage becomes the reference."""
        part, document = self._bench.tray.current, self._bench.document
        if part is None:
            return
        scan, engine, before = part.scan, part.engine, document.plan

        def done(plan: Plan) -> None:
            if document.plan is not before:
                self._notifications.post(Notice("The plan has changed meanwhile; make the reference again."))
                return
            document.change_reference("reference", plan, scan)
            text = f"{scan.name} is the reference now and is saved inside the plan."
            if before.nominal is not None:
                text += " The nominal surface was left behind; place its mesh again."
            self._notifications.post(Notice(text, "info"))

        self._tasks.start("Reference", lambda task: redrawn(before, engine), done)

    def report_errors(self, troubles: tuple[str, ...] | list[str]) -> None:
        """Report the files that could not be read."""
        if troubles:
            more = f" ({len(troubles) - 1} more could not be read either.)" if len(troubles) > 1 else ""
            self._notifications.post(Notice(troubles[0] + more))

    def keep_settings(self) -> None:
        """Write the settings beside the window."""
        save = self._saving()
        self._tasks.start("Settings", lambda task: save())

    def keep_settings_now(self) -> None:
        """Write the settings before anything else happens, as when the window closes."""
        self._saving()()

    def _saving(self) -> Callable[[], None]:
        """Return a function that writes the settings as they are now."""
        settings, self._asked = self._settings.model_copy(deep=True), self._asked + 1
        number = self._asked

        def save() -> None:
            # of several at once the newest stays, in whichever order they come
            with self._writing:
                if number > self._written:
                    save_settings(settings)
                    self._written = number

        return save

    def _remember(self, path: Path) -> None:
        self._settings.opened(path)
        self.keep_settings()
