"""New characteristic: what the drawing asks for, then clicks on the data; the rest is proposed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.core.plan.document import Plan
from hemtra.core.proposals.paths import (
    propose_bead_break,
    propose_bead_height,
    propose_bead_offset,
    propose_bead_volume,
    propose_bead_width,
    propose_edge_offset,
    propose_seam_flush,
    propose_seam_gap,
)
from hemtra.core.proposals.profiles import (
    OnProfile,
    propose_arc_radius,
    propose_edge_distance,
    propose_groove_depth,
    propose_groove_width,
    propose_level_step,
    propose_line_angle,
    propose_profile_flush,
    propose_profile_gap,
)
from hemtra.core.proposals.proposing import Proposal, propose_height, propose_step
from hemtra.core.proposals.quantities import (
    propose_angle,
    propose_area,
    propose_code,
    propose_diameter,
    propose_distance,
    propose_flatness,
    propose_flush,
    propose_formula,
    propose_gap,
    propose_roundness,
    propose_straightness,
    propose_tilt,
    propose_true_position,
    propose_volume,
    propose_width,
)
from hemtra.core.proposals.surfaces import (
    propose_coplanarity,
    propose_count,
    propose_data_share,
    propose_depth,
    propose_deviation,
    propose_dome_radius,
    propose_fill,
    propose_match,
    propose_parallelism,
    propose_perpendicularity,
    propose_position,
    propose_slot_length,
    propose_slot_width,
)
from hemtra.core.proposals.trial import KnownPart, tried
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.stage.suggestions import Offer
from hemtra.desktop.plan.stage.top_view import TopView


@dataclass(frozen=True)
class CharacteristicOption:
    """Something a drawing can ask for: its name and key, what to click, and who proposes the rest."""

    id: str
    name: str
    key: str
    meaning: str
    prompts: tuple[str, ...]
    propose: Callable[..., Proposal]
    more: bool = False
    """Whether clicks go on, at the last prompt, until Enter."""
    path: bool = False
    """Whether the clicks are a path."""
    printed: bool = False
    """Whether it can be asked to take printed edges first."""


def _one(name: str, what: str) -> tuple[str, ...]:
    return (f"{name}: click {what}   ·   Esc: cancel",)


def _two(name: str, first: str, second: str) -> tuple[str, ...]:
    return (f"{name}: click {first}   ·   Esc: cancel", f"{name}: click {second}   ·   Esc: cancel")


def _many(name: str, what: str) -> tuple[str, ...]:
    return (f"{name}: click {what} in turn   ·   Enter: finish   ·   Esc: cancel",)


def _path(name: str, what: str) -> tuple[str, ...]:
    words = f"{name}: click {what}, then Enter traces it; or click its path node by node   ·   Esc: cancel"
    return (words,)


_EDGES = ("next to the first edge", "next to the other edge")
_OPEN = "inside the opening"
_ROUND = "inside the hole, or on the boss"
WISHES = (
    CharacteristicOption(
        "height", "Height", "H", "of a spot above the datum plane", _one("Height", "the spot"), propose_height
    ),
    CharacteristicOption(
        "step",
        "Step",
        "S",
        "of one spot above another",
        _two("Step", "the first spot", "the second spot"),
        propose_step,
    ),
    CharacteristicOption(
        "distance",
        "Distance",
        "D",
        "between holes, edges or spots",
        _two("Distance", "the first", "the second"),
        propose_distance,
        printed=True,
    ),
    CharacteristicOption("width", "Width", "W", "between two edges", _two("Width", *_EDGES), propose_width),
    CharacteristicOption(
        "gap", "Gap", "G", "between two sides", _two("Gap", "one side of it", "the other side"), propose_gap
    ),
    CharacteristicOption(
        "flush",
        "Flush",
        "U",
        "of two surfaces beside each other",
        _two("Flush", "one surface", "the other"),
        propose_flush,
    ),
    CharacteristicOption(
        "diameter", "Diameter", "O", "of a hole or boss", _one("Diameter", _ROUND), propose_diameter
    ),
    CharacteristicOption(
        "true-position",
        "Position",
        "P",
        "of a hole or boss",
        _one("Position", _ROUND),
        propose_true_position,
    ),
    CharacteristicOption(
        "roundness", "Roundness", "R", "of a hole or boss", _one("Roundness", _ROUND), propose_roundness
    ),
    CharacteristicOption("angle", "Angle", "A", "between two edges", _two("Angle", *_EDGES), propose_angle),
    CharacteristicOption(
        "tilt", "Tilt", "T", "of a surface against the datum", _one("Tilt", "the surface"), propose_tilt
    ),
    CharacteristicOption(
        "flatness", "Flatness", "F", "of a surface", _one("Flatness", "the surface"), propose_flatness
    ),
    CharacteristicOption(
        "straightness",
        "Straightness",
        "I",
        "of an edge",
        _one("Straightness", "next to the edge"),
        propose_straightness,
    ),
    CharacteristicOption(
        "area", "Area", "E", "of a raised region", _one("Area", "the raised region"), propose_area
    ),
    CharacteristicOption(
        "volume",
        "Volume",
        "V",
        "of a raised region",
        _one("Volume", "the raised region"),
        propose_volume,
    ),
    CharacteristicOption(
        "code", "Code", "C", "that must be readable", _one("Code", "the middle of the code"), propose_code
    ),
    CharacteristicOption("formula", "Formula", "X", "over other rows", (), propose_formula),
    CharacteristicOption(
        "depth", "Depth", "B", "of a floor below the datum", _one("Depth", "the floor"), propose_depth
    ),
    CharacteristicOption(
        "slot-length", "Slot length", "L", "of an opening", _one("Slot length", _OPEN), propose_slot_length
    ),
    CharacteristicOption(
        "slot-width", "Slot width", "K", "of an opening", _one("Slot width", _OPEN), propose_slot_width
    ),
    CharacteristicOption(
        "dome-radius", "Radius", "Y", "of a rounded top", _one("Radius", "the rounded top"), propose_dome_radius
    ),
    CharacteristicOption(
        "position",
        "Coordinate",
        "Q",
        "of a hole, edge or spot",
        _one("Coordinate", "the hole, edge or spot"),
        propose_position,
    ),
    CharacteristicOption(
        "parallelism",
        "Parallelism",
        "J",
        "of a surface to the datum",
        _one("Parallelism", "the surface"),
        propose_parallelism,
    ),
    CharacteristicOption(
        "count", "Count", "N", "of a raised region", _one("Count", "one that stands out"), propose_count
    ),
    CharacteristicOption(
        "deviation",
        "Deviation",
        "Z",
        "from the reference part",
        _one("Deviation", "the surface"),
        propose_deviation,
    ),
    CharacteristicOption(
        "data-share", "Data share", "M", "of a surface", _one("Data share", "the surface"), propose_data_share
    ),
    CharacteristicOption("match", "Match", "0", "of the part's outline", (), propose_match),
    CharacteristicOption(
        "coplanarity",
        "Coplanarity",
        "1",
        "of four spots or more",
        _many("Coplanarity", "the spots"),
        propose_coplanarity,
        more=True,
    ),
    CharacteristicOption(
        "perpendicularity",
        "Perpendicularity",
        "2",
        "of one edge to another",
        _two("Perpendicularity", "next to the edge to judge", "next to its datum edge"),
        propose_perpendicularity,
    ),
    CharacteristicOption(
        "fill", "Filled share", "3", "of a surface", _one("Filled share", "what fills it"), propose_fill
    ),
    *(
        CharacteristicOption(name, title, key, meaning, _path(title, what), propose, more=True, path=True)
        for name, title, key, meaning, what, propose in (
            ("bead-width", "Bead width", "4", "along a bead or weld", "the bead", propose_bead_width),
            ("bead-height", "Bead height", "5", "or depth of a groove", "the bead", propose_bead_height),
            ("bead-offset", "Bead offset", "6", "from its path", "the bead", propose_bead_offset),
            ("bead-break", "Longest break", "7", "of a bead", "the bead", propose_bead_break),
            ("bead-volume", "Bead volume", "8", "along its path", "the bead", propose_bead_volume),
            ("seam-gap", "Seam gap", "9", "along two panels", "the middle of the gap", propose_seam_gap),
            ("seam-flush", "Seam flush", "+", "of two panels", "the middle of the gap", propose_seam_flush),
        )
    ),
    CharacteristicOption(
        "edge-offset",
        "Trimmed edge",
        "-",
        "from its path",
        _many("Trimmed edge", "the nodes of its path"),
        propose_edge_offset,
        more=True,
        path=True,
    ),
)
WISHES_ON_PROFILES = (
    CharacteristicOption(
        "level-step",
        "Step",
        "S",
        "of one level above another",
        _two("Step", "one level", "the other level"),
        propose_level_step,
    ),
    CharacteristicOption(
        "edge-distance",
        "Distance",
        "D",
        "between two edges",
        _two("Distance", *_EDGES),
        propose_edge_distance,
    ),
    CharacteristicOption(
        "profile-gap",
        "Gap",
        "G",
        "between two edges, also rounded ones",
        _two("Gap", "one side of it", "the other side"),
        propose_profile_gap,
    ),
    CharacteristicOption(
        "profile-flush",
        "Flush",
        "U",
        "of the two sides of a gap",
        _two("Flush", "one side of the gap", "the other side"),
        propose_profile_flush,
    ),
    CharacteristicOption(
        "line-angle",
        "Angle",
        "A",
        "between two straight stretches",
        _two("Angle", "one stretch", "the other stretch"),
        propose_line_angle,
    ),
    CharacteristicOption(
        "arc-radius", "Radius", "R", "of an arc", _one("Radius", "the arc"), propose_arc_radius
    ),
    CharacteristicOption(
        "groove-depth",
        "Groove depth",
        "H",
        "or height of a ridge",
        _one("Groove depth", "the middle of it"),
        propose_groove_depth,
    ),
    CharacteristicOption(
        "groove-width",
        "Groove width",
        "W",
        "or width of a ridge",
        _one("Groove width", "the middle of it"),
        propose_groove_width,
    ),
    CharacteristicOption("formula", "Formula", "X", "over other rows", (), propose_formula),
)
"""What is asked for on profiles; clicks are then made on the section."""
COLUMNS = 2


class Chooser(QFrame):
    """Asks what the drawing asks for."""

    chosen = Signal(str)
    left = Signal()

    def __init__(self, wishes: tuple[CharacteristicOption, ...], parent: QWidget) -> None:
        super().__init__(parent)
        self.wishes = wishes
        self.setObjectName("dialog")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        heading = QLabel("New characteristic")
        heading.setObjectName("heading")
        layout.addWidget(heading)
        self.buttons: dict[str, QPushButton] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(4)
        grid.setVerticalSpacing(0)
        layout.addLayout(grid)
        lines = -(-len(wishes) // COLUMNS)
        for place, wish in enumerate(wishes):
            button = QPushButton(f"{wish.key}   {wish.name} {wish.meaning}")
            button.setObjectName("action")
            button.setStyleSheet("text-align: left; padding: 3px 6px;")
            button.clicked.connect(lambda _=False, wanted=wish.id: self.chosen.emit(wanted))
            grid.addWidget(button, place % lines, place // lines)
            self.buttons[wish.id] = button
        self.hide()

    def event(self, event: QEvent) -> bool:
        """Its letters come before those of the window."""
        asked = event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent)
        if asked and any(event.text().upper() == wish.key for wish in self.wishes):  # type: ignore[attr-defined]
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """The letter of a wish chooses it, Escape leaves."""
        found = next((w.id for w in self.wishes if event.text().upper() == w.key), None)
        if found is not None:
            self.chosen.emit(found)
        elif event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)


class NewCharacteristic(QObject):
    """Leads through the choice and the clicks."""

    def __init__(
        self,
        bench: WorkspaceModel,
        stage: TopView,
        section: SectionView,
        tasks: Tasks,
        add: Callable[[str, Plan, int], None],
        doubt: Callable[[str], None],
    ) -> None:
        super().__init__(stage)
        self._bench, self._stage, self._section = bench, stage, section
        self._tasks, self._add, self._doubt = tasks, add, doubt
        self._wish: CharacteristicOption | None = None
        self._places: list[Place] = []
        self._choosers = (Chooser(WISHES, stage), Chooser(WISHES_ON_PROFILES, section))
        for chooser in self._choosers:
            chooser.chosen.connect(self.begin)
            chooser.left.connect(self.leave)
        for view in (stage, section):
            view.place_picked.connect(self._picked)
            view.pick_left.connect(self.leave)
        stage.pick_done.connect(self._enough)

    @property
    def chooser(self) -> Chooser:
        """What can be asked for: of whole parts, or of profiles."""
        return self._choosers[self._bench.document.plan.by_profile is not None]

    @property
    def _view(self) -> TopView | SectionView:
        """Where is clicked."""
        return self._stage if self._bench.document.plan.by_profile is None else self._section

    def ask(self) -> None:
        """Show what can be chosen."""
        self.leave()
        self.chooser.adjustSize()
        # over the whole window, since the stage may be lower than the list is long
        window, middle = self._view.window(), self._view.width() // 2
        corner = self._view.mapTo(window, QPoint(middle - self.chooser.width() // 2, 8))
        self.chooser.setParent(window)
        self.chooser.move(max(corner.x(), 0), min(corner.y(), window.height() - self.chooser.height()))
        self.chooser.show()
        self.chooser.raise_()
        self.chooser.setFocus()

    def begin(self, wish_id: str) -> None:
        """Start clicking."""
        self.chooser.hide()
        self._wish = next((w for w in self.chooser.wishes if w.id == wish_id), None)
        self._places = []
        if self._wish is None:
            # asked for by name where it makes no sense: offer what does
            self.ask()
            return
        if self._wish.prompts:
            self._stage.joins_picked = self._wish.path
            self._view.pick(self._wish.prompts[0])
        else:
            self._propose()

    def take(self, offer: Offer) -> None:
        """Begin with what was offered, as if its place had been clicked."""
        self.begin(offer.wish)
        self._picked(*offer.place)

    def leave(self) -> None:
        """Forget about it."""
        self.chooser.hide()
        self._wish, self._places = None, []
        self._stage.joins_picked = False
        for view in (self._stage, self._section):
            view.picked = []
            view.pick("")

    def _picked(self, x: float, y: float) -> None:
        part, wish = self._bench.tray.current, self._wish
        if part is None or wish is None:
            return
        self._places.append((x, y))
        self._view.picked = list(self._places)
        if wish.more or len(self._places) < len(wish.prompts):
            self._view.pick(wish.prompts[min(len(self._places), len(wish.prompts) - 1)])
        else:
            self._propose()

    def _enough(self) -> None:
        """No more places come."""
        if self._wish is not None and self._wish.more and self._places:
            self._propose()

    def _propose(self) -> None:
        """Let the rest be proposed, beside the window."""
        part, wish = self._bench.tray.current, self._wish
        if part is None or wish is None:
            return
        plan, engine, places = self._bench.document.plan, part.engine, tuple(self._places)
        shown = self._bench.shown
        index = shown.index if shown is not None else -1
        self.leave()

        parts = [KnownPart(p.name, p.engine, p.tag == "good") for p in self._bench.tray.parts]
        # where brightness is looked at, printed edges are meant
        printed = {"printed": True} if wish.printed and self._bench.colour == "intensity" else {}

        def work(task: Task) -> Any:
            if wish in WISHES_ON_PROFILES and wish.prompts:
                made = wish.propose(OnProfile(plan, engine, index), *places)
            else:
                made = wish.propose(plan, engine, *places, **printed)
            return tried(made, engine, parts)

        def done(proposal: Proposal) -> None:
            self._add(f"New {wish.name.lower()}", proposal.plan, proposal.balloon)
            if proposal.doubts:
                self._doubt(" ".join(proposal.doubts))

        self._tasks.start(f"New {wish.name.lower()}", work, done)
