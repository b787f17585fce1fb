"""The buttons on the stage: what colours the part, and how it is prepared."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QPushButton, QWidget

from hemtra.core.edits.preparation import preparing_kinds
from hemtra.core.plan.graph import preparation
from hemtra.core.plan.registry import kind_named
from hemtra.desktop.models.bench import COLOURS, WorkspaceModel

QUANTITIES = ("height", "intensity")
"""Colourings at one click; the rest is in a menu."""


class StageTools(QFrame):
    """Colour, preparation, and the scan before preparation."""

    colour_chosen = Signal(str)
    prepared = Signal(str, str)
    """“add” with a kind; “earlier”, “later” or “out” with a step."""
    before_toggled = Signal()
    space_toggled = Signal(bool)

    def __init__(self, bench: WorkspaceModel, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("stageTools")
        self.bench = bench
        self._layout = QHBoxLayout(self)
        self._layout.setContentsMargins(3, 3, 3, 3)
        self._layout.setSpacing(2)
        self.colours = {q: self._button(q, f"Colour the part by {q} (I).") for q in QUANTITIES}
        for quantity, button in self.colours.items():
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, wanted=quantity: self.colour_chosen.emit(wanted))
        self.more = self._button("more", "Other quantities to colour the part by.")
        choices = QMenu(self.more)
        for quantity, name in COLOURS.items():
            action = choices.addAction(f"{name[:1].upper()}{name[1:]}")
            action.triggered.connect(lambda _=False, wanted=quantity: self.colour_chosen.emit(wanted))
        self.more.setMenu(choices)
        self.prepare = self._button("prepare", "Preparation steps applied before measuring.")
        self.menu = QMenu(self.prepare)
        self.menu.aboutToShow.connect(self.fill_menu)
        self.prepare.setMenu(self.menu)
        self.space = self._button("3D", "Show the part in space beside the top view (X).")
        self.space.setCheckable(True)
        self.space.clicked.connect(self.space_toggled)
        self.before = self._button("before", "Show the scan as it was before preparation.")
        self.before.setCheckable(True)
        self.before.toggled.connect(lambda _: self.before_toggled.emit())
        self.move(8, 8)
        self.show_colour("height")
        self.refresh()

    def _button(self, text: str, help_text: str) -> QPushButton:
        button = QPushButton(text)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        button.setToolTip(help_text)
        self._layout.addWidget(button)
        return button

    def show_colour(self, quantity: str) -> None:
        """Mark what colours the part."""
        for name, button in self.colours.items():
            button.setChecked(name == quantity)
        self.more.setText("more" if quantity in QUANTITIES else quantity)
        self.adjustSize()

    def show_views(self, views: frozenset[str]) -> None:
        """Mark whether 3D is shown."""
        self.space.setChecked("3D" in views)

    def refresh(self) -> None:
        """“Before” makes sense only where something is prepared."""
        self.before.setVisible(self.bench.document.shown.prepared is not None)
        self.adjustSize()

    def fill_menu(self) -> None:
        """Each step of the preparation, to move or remove, with its time; and each kind to add."""
        self.menu.clear()
        chain, shown = preparation(self.bench.document.plan), self.bench.shown
        for number, step in enumerate(chain):
            took = ""
            if shown is not None and step.id in shown.result.steps:
                took = f"   {shown.result.steps[step.id].elapsed_ms:.0f} ms"
            held = self.menu.addMenu(f"{number + 1}  {step.name}{took}")
            for text, what, possible in (
                ("Earlier", "earlier", number > 0),
                ("Later", "later", number + 1 < len(chain)),
                ("Remove", "out", True),
            ):
                action = held.addAction(text)
                action.setEnabled(possible)
                action.triggered.connect(lambda _=False, w=what, s=step.id: self.prepared.emit(w, s))
        if chain:
            self.menu.addSeparator()
        for kind in preparing_kinds():
            action = self.menu.addAction(f"Add: {kind_named(kind).title}")
            action.triggered.connect(lambda _=False, k=kind: self.prepared.emit("add", k))
