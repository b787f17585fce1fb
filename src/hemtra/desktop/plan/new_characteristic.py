"""New characteristic: what the drawing asks for, then clicks on the data; the rest is proposed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.core.plan.document import Plan
from hemtra.core.plan.proposals import Proposal, propose_height, propose_step
from hemtra.desktop.model.bench import Bench, Place
from hemtra.desktop.plan.top_view import TopView
from hemtra.desktop.tasks import Task, Tasks


@dataclass(frozen=True)
class Wish:
    """Something a drawing can ask for: its name and key, what to click, and who proposes the rest."""

    id: str
    name: str
    key: str
    meaning: str
    prompts: tuple[str, ...]
    propose: Callable[..., Proposal]


WISHES = (
    Wish(
        "height",
        "Height",
        "H",
        "of a spot above the datum plane",
        ("Height: click the spot on the part   ·   Esc leaves",),
        propose_height,
    ),
    Wish(
        "step",
        "Step",
        "S",
        "of one spot above another",
        (
            "Step: click the first spot   ·   Esc leaves",
            "Step: click the second spot   ·   Esc leaves",
        ),
        propose_step,
    ),
)


class Chooser(QFrame):
    """Asks what the drawing asks for."""

    chosen = Signal(str)
    left = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        heading = QLabel("What does the drawing ask for?")
        heading.setObjectName("heading")
        layout.addWidget(heading)
        self.buttons: dict[str, QPushButton] = {}
        for wish in WISHES:
            button = QPushButton(f"{wish.name} {wish.meaning}   {wish.key}")
            button.setObjectName("action")
            button.clicked.connect(lambda _=False, wanted=wish.id: self.chosen.emit(wanted))
            layout.addWidget(button)
            self.buttons[wish.id] = button
        self.hide()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """The letter of a wish chooses it, Escape leaves."""
        found = next((w.id for w in WISHES if event.text().upper() == w.key), None)
        if found is not None:
            self.chosen.emit(found)
        elif event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)


class NewCharacteristic(QObject):
    """Leads through the choice and the clicks."""

    def __init__(
        self, bench: Bench, stage: TopView, tasks: Tasks, add: Callable[[str, Plan, int], None]
    ) -> None:
        super().__init__(stage)
        self._bench, self._stage, self._tasks, self._add = bench, stage, tasks, add
        self._wish: Wish | None = None
        self._places: list[Place] = []
        self.chooser = Chooser(stage)
        self.chooser.chosen.connect(self.begin)
        self.chooser.left.connect(self.leave)
        stage.place_picked.connect(self._picked)
        stage.pick_left.connect(self.leave)

    def ask(self) -> None:
        """Show what can be chosen."""
        self.leave()
        self.chooser.adjustSize()
        self.chooser.move((self._stage.width() - self.chooser.width()) // 2, 60)
        self.chooser.show()
        self.chooser.raise_()
        self.chooser.setFocus()

    def begin(self, wish_id: str) -> None:
        """Start clicking."""
        self.chooser.hide()
        self._wish = next(w for w in WISHES if w.id == wish_id)
        self._places = []
        self._stage.pick(self._wish.prompts[0])

    def leave(self) -> None:
        """Forget about it."""
        self.chooser.hide()
        self._wish, self._places = None, []
        self._stage.picked = []
        self._stage.pick("")

    def _picked(self, x: float, y: float) -> None:
        part, wish = self._bench.tray.current, self._wish
        if part is None or wish is None:
            return
        self._places.append((x, y))
        self._stage.picked = list(self._places)
        if len(self._places) < len(wish.prompts):
            self._stage.pick(wish.prompts[len(self._places)])
            return
        plan, engine, places = self._bench.document.plan, part.engine, tuple(self._places)
        self.leave()

        def work(task: Task) -> Any:
            return wish.propose(plan, engine, *places)

        def done(proposal: Proposal) -> None:
            self._add(f"New {wish.name.lower()}", proposal.plan, proposal.balloon)

        self._tasks.start(f"New {wish.name.lower()}", work, done)
