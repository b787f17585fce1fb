"""Paths read from drawings and tables, laid on the part, and written to them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QFormLayout,
    QFrame,
    QLabel,
    QWidget,
)

from hemtra.core.edits.drawn_path import DrawnPath
from hemtra.core.errors import HemtraError
from hemtra.core.geometry.frames import Frame
from hemtra.core.plan.document import Plan, Step
from hemtra.core.proposals.paths import ACROSS, propose_bead_on
from hemtra.core.proposals.proposing import Proposal
from hemtra.core.zones.zone import PathZone
from hemtra.desktop.background.tasks import Tasks
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.plan.stage.top_view import TopView
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.dialogs import button_row
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.storage.drawings import FACTORS, Drawing, load_drawing, save_path

Edit = Callable[[str, Callable[[], Plan]], bool]
DRAWN, CLICKED = "drawn", "clicked"
"""Ways to lay a path on the part besides the frame of an anchor: as the scan lies, or by two clicks."""
KINDS = "Drawings and tables (*.dxf *.csv)"


class PathChooser(QFrame):
    """Choice of a path in a drawing, its unit, and its placing on the part."""

    taken = Signal()
    left = Signal()

    def __init__(self, drawing: Drawing, frames: tuple[Step, ...], parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self._drawing = drawing
        self.layer, self.path, self.unit, self.place = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        layout = QFormLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        title = QLabel("Which path, and where?")
        title.setObjectName("heading")
        layout.addRow(title)
        for note in drawing.notes:
            message = QLabel(note)
            message.setObjectName("muted")
            message.setWordWrap(True)
            layout.addRow(message)
        self.layer.addItem("all layers", None)
        for layer in drawing.layers:
            self.layer.addItem(layer or "no name", layer)
        for unit in FACTORS:
            self.unit.addItem(unit, unit)
        self.unit.setCurrentText(drawing.unit or "mm")
        said = "as the file says" if drawing.unit else "the file does not say"
        for frame in frames:
            self.place.addItem(f"in the frame of “{frame.name}”", frame.id)
        self.place.addItem("as the scan lies", DRAWN)
        self.place.addItem("by two clicks: its start, and its farthest point", CLICKED)
        for label, box in (
            ("layer", self.layer),
            ("path", self.path),
            (f"unit, {said}", self.unit),
            ("placed", self.place),
        ):
            box.setAccessibleName(label)
            layout.addRow(label, box)
        layout.addRow(button_row("Import", lambda: self.taken.emit(), lambda: self.left.emit()))
        self.layer.currentIndexChanged.connect(self._fill)
        self.unit.currentIndexChanged.connect(self._fill)
        self._fill()

    def _fill(self) -> None:
        """The paths of the chosen layer, longest first."""
        kept = max(self.path.currentIndex(), 0)
        self.path.clear()
        for number, path in enumerate(self._in_unit().paths):
            if self.layer.currentData() in (None, path.layer):
                shape = "closed" if path.closed else "open"
                layer = f"{path.layer} · " if path.layer else ""
                self.path.addItem(
                    f"{layer}{units.text(f'{path.length:.1f} mm')}, {shape}, {len(path.nodes)} nodes", number
                )
        self.path.setCurrentIndex(min(kept, self.path.count() - 1))

    def _in_unit(self) -> Drawing:
        return self._drawing.in_unit(self.unit.currentData() or "mm")

    @property
    def chosen(self) -> DrawnPath:
        """The path in mm of its drawing."""
        return self._in_unit().paths[self.path.currentData() or 0]

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves, Enter takes."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.taken.emit()
        else:
            super().keyPressEvent(event)


class PathFiles:
    """Leads from a file to a path on the part, and back."""

    def __init__(
        self, bench: WorkspaceModel, stage: TopView, tasks: Tasks, notifications: Notifications, edit: Edit
    ) -> None:
        self._bench, self._stage, self._tasks = bench, stage, tasks
        self._notifications, self._edit = notifications, edit
        self.chooser: PathChooser | None = None
        self._waiting: DrawnPath | None = None
        self._clicks: list[Place] = []
        stage.place_picked.connect(self._picked)
        stage.pick_left.connect(self._leave)

    # -- from a file ------------------------------------------------------------------------------

    def ask_import(self, folder: Path) -> None:
        """Ask which file."""
        name, _ = QFileDialog.getOpenFileName(self._stage, "Path from a drawing or table", str(folder), KINDS)
        if name:
            self.read(Path(name))

    def read(self, path: Path) -> None:
        """Read a file beside the window, then ask which of its paths."""
        self._tasks.start(f"Reading {path.name}", lambda task: load_drawing(path), self._choose)

    def _choose(self, drawing: Drawing) -> None:
        self._leave()
        shown = self._bench.shown
        results = {} if shown is None else shown.result.steps
        frames = tuple(
            s
            for s in self._bench.document.plan.steps
            if s.id in results and isinstance(results[s.id].value, Frame)
        )
        self.chooser = PathChooser(drawing, frames, self._stage)
        self.chooser.taken.connect(self._taken)
        self.chooser.left.connect(self._leave)
        self.chooser.adjustSize()
        self.chooser.move((self._stage.width() - self.chooser.width()) // 2, 8)
        self.chooser.show()
        self.chooser.raise_()
        self.chooser.path.setFocus()

    def _taken(self) -> None:
        assert self.chooser is not None
        path, place = self.chooser.chosen, self.chooser.place.currentData()
        self._leave()
        if place == CLICKED:
            self._waiting = path
            self._stage.pick("Path: click where it starts   ·   Esc: cancel")
            return
        if place == DRAWN:
            self._lay(path)
            return
        shown = self._bench.shown
        found = shown.result.steps.get(place) if shown is not None else None
        if found is None or not isinstance(found.value, Frame):
            self._notifications.post(
                Notice("The frame was not found on this part; choose another part or place.")
            )
            return
        self._lay(path.in_frame(found.value))

    def _picked(self, x: float, y: float) -> None:
        if self._waiting is None:
            return
        self._clicks.append((x, y))
        if len(self._clicks) == 1:
            self._stage.picked = list(self._clicks)
            self._stage.pick("Path: click where its point farthest from the start lies   ·   Esc: cancel")
            return
        path, (first, last) = self._waiting, self._clicks
        self._leave()
        try:
            self._lay(path.by_two_places(first, last))
        except HemtraError as error:
            self._notifications.error(error)

    def _leave(self) -> None:
        if self.chooser is not None:
            self.chooser.hide()
            self.chooser.deleteLater()
            self.chooser = None
        if self._waiting is not None:
            self._waiting, self._clicks = None, []
            self._stage.picked = []
            self._stage.pick("")

    def _lay(self, path: DrawnPath) -> None:
        """Instead of the selected path, or as a new one with a bead on it."""
        selected, part = self._bench.selected_step, self._bench.tray.current
        plan = self._bench.document.plan
        step = next((s for s in plan.steps if s.id == selected and isinstance(s.zone, PathZone)), None)
        across = step.zone.across if step is not None and isinstance(step.zone, PathZone) else ACROSS
        try:
            zone = path.zone(across)
            zone.curve()
            if step is not None:
                drawn = self._bench.drawn(step, zone)
                self._edit(f"path of {step.name}", lambda: plan.with_step(step.edited(zone=drawn)))
                return
        except HemtraError as error:
            self._notifications.error(error)
            return
        if part is None:
            return
        engine = part.engine

        def done(proposal: Proposal) -> None:
            if self._edit("path from a file", lambda: proposal.plan):
                self._bench.select(proposal.balloon)

        self._tasks.start("New path", lambda task: propose_bead_on(zone, plan, engine), done)

    # -- to a file --------------------------------------------------------------------------------

    def ask_export(self, folder: Path) -> None:
        """Ask where to write the selected path."""
        step = self._selected()
        if step is None:
            return
        proposed = str(folder / f"{step.name.replace(' ', '-')}.dxf")
        name, _ = QFileDialog.getSaveFileName(self._stage, "Save path", proposed, KINDS)
        if name:
            path = Path(name)
            self.write(path if path.suffix else path.with_suffix(".dxf"))

    def write(self, path: Path) -> None:
        """Write the selected path as it is drawn on the reference scan."""
        step = self._selected()
        if step is None or not isinstance(step.zone, PathZone):
            return
        zone = step.zone

        def done(_: object) -> None:
            self._notifications.post(
                Notice(f"The path was saved as {path.name}, in mm of the reference scan.", "info")
            )

        self._tasks.start(f"Saving {path.name}", lambda task: save_path(path, zone), done)

    def _selected(self) -> Step | None:
        step_id = self._bench.selected_step
        found = (s for s in self._bench.document.plan.steps if s.id == step_id)
        return next((s for s in found if isinstance(s.zone, PathZone)), None)
