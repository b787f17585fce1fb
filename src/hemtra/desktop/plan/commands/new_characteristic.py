"""New characteristic: what the drawing asks for, then clicks on the data; the rest is proposed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from itertools import groupby
from typing import Any

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.core.plan.document import Plan
from hemtra.core.proposals.option import Option, options
from hemtra.core.proposals.profiles import OnProfile
from hemtra.core.proposals.proposing import Proposal
from hemtra.core.proposals.trial import KnownPart, tried
from hemtra.desktop.background.tasks import Task, Tasks
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.plan.section.section_view import SectionView
from hemtra.desktop.plan.stage.suggestions import Offer
from hemtra.desktop.plan.stage.top_view import TopView

COLUMNS = 3
LEAVE = "Esc: cancel"


def prompts(wanted: Option) -> tuple[str, ...]:
    """What is said on the stage before each click."""
    begin = [f"{wanted.name}: click {what}" for what in wanted.clicks]
    if wanted.more == "traced":
        return (f"{begin[0]}, then Enter traces it; or click its path node by node   ·   {LEAVE}",)
    if wanted.more:
        return (f"{begin[0]} in turn   ·   Enter: finish   ·   {LEAVE}",)
    return tuple(f"{words}   ·   {LEAVE}" for words in begin)


def _placed(options: tuple[Option, ...]) -> Iterator[tuple[tuple[int, int], tuple[str, list[Option]]]]:
    """Each group of options with the column and row of the grid where it begins; none goes over two columns."""
    groups = [(name, list(members)) for name, members in groupby(options, key=lambda o: o.group)]
    most = -(-(len(options) + len(groups)) // COLUMNS) + 1
    column = row = 0
    for name, members in groups:
        if row and row + len(members) >= most and column < COLUMNS - 1:
            column, row = column + 1, 0
        yield (column, row), (name, members)
        row += 1 + len(members)


class Chooser(QFrame):
    """Asks what the drawing asks for."""

    chosen = Signal(str)
    left = Signal()

    def __init__(self, options: tuple[Option, ...], parent: QWidget) -> None:
        super().__init__(parent)
        self.options, self._keys = options, {wanted.key: wanted.id for wanted in options}
        self.setObjectName("dialog")
        self.setAccessibleName("New characteristic; a letter chooses one, Escape leaves")
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
        for place, (group, members) in _placed(options):
            column, row = place
            title = QLabel(group)
            title.setObjectName("muted")
            grid.addWidget(title, row, column)
            for below, wanted in enumerate(members, 1):
                button = QPushButton(f"{wanted.key}   {wanted.name} {wanted.meaning}")
                button.setObjectName("action")
                button.setStyleSheet("text-align: left; padding: 2px 6px;")
                button.clicked.connect(partial(self.chosen.emit, wanted.id))
                grid.addWidget(button, row + below, column)
                self.buttons[wanted.id] = button
        self.hide()

    def event(self, event: QEvent) -> bool:
        """Its letters come before those of the window."""
        asked = event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent)
        if asked and event.text().upper() in self._keys:  # type: ignore[attr-defined]
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """The letter of an option chooses it, Escape leaves."""
        found = self._keys.get(event.text().upper())
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
        self._wanted: Option | None = None
        self._prompts: tuple[str, ...] = ()
        self._places: list[Place] = []
        self._choosers = (Chooser(options("map"), stage), Chooser(options("profile"), section))
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

    def begin(self, option_id: str) -> None:
        """Start clicking."""
        self.chooser.hide()
        self._wanted = next((w for w in self.chooser.options if w.id == option_id), None)
        self._places = []
        if self._wanted is None:
            # asked for by name where it makes no sense: offer what does
            self.ask()
            return
        self._prompts = prompts(self._wanted)
        if self._prompts:
            self._stage.joins_picked = self._wanted.more in ("path", "traced")
            self._view.pick(self._prompts[0])
        else:
            self._propose()

    def take(self, offer: Offer) -> None:
        """Begin with what was offered, as if its place had been clicked."""
        self.begin(offer.option)
        self._picked(*offer.place)

    def leave(self) -> None:
        """Forget about it."""
        self.chooser.hide()
        self._wanted, self._places = None, []
        self._stage.joins_picked = False
        for view in (self._stage, self._section):
            view.picked = []
            view.pick("")

    def _picked(self, x: float, y: float) -> None:
        part, wanted = self._bench.tray.current, self._wanted
        if part is None or wanted is None:
            return
        self._places.append((x, y))
        self._view.picked = list(self._places)
        if wanted.more or len(self._places) < len(wanted.clicks):
            self._view.pick(self._prompts[min(len(self._places), len(self._prompts) - 1)])
        else:
            self._propose()

    def _enough(self) -> None:
        """No more places come."""
        if self._wanted is not None and self._wanted.more and self._places:
            self._propose()

    def _propose(self) -> None:
        """Let the rest be proposed, beside the window."""
        part, wanted = self._bench.tray.current, self._wanted
        if part is None or wanted is None:
            return
        plan, engine, places = self._bench.document.plan, part.engine, tuple(self._places)
        shown = self._bench.shown
        index = shown.index if shown is not None else -1
        self.leave()

        parts = [KnownPart(p.name, p.engine, p.tag == "good") for p in self._bench.tray.parts]
        # where brightness is looked at, printed edges are meant
        printed = {"printed": True} if wanted.printed and self._bench.colour == "intensity" else {}

        def work(task: Task) -> Any:
            if "map" not in wanted.on:
                made = wanted.propose(OnProfile(plan, engine, index), *places)
            else:
                made = wanted.propose(plan, engine, *places, **printed)
            return tried(made, engine, parts)

        def done(proposal: Proposal) -> None:
            self._add(f"New {wanted.name.lower()}", proposal.plan, proposal.balloon)
            if proposal.doubts:
                self._doubt(" ".join(proposal.doubts))

        self._tasks.start(f"New {wanted.name.lower()}", work, done)
