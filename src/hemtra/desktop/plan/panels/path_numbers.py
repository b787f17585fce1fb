"""The nodes of a path as numbers to type, and what can be done with the path, on its card."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QWidget

from hemtra.core.typed import number_typed
from hemtra.core.zones.path_edits import changed_node, placed_node
from hemtra.core.zones.zone import AnyZone, PathZone
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.plan.commands.paths import NODE_EDITS
from hemtra.desktop.widgets import units

Change = Callable[[PathZone], PathZone]
TURNS = {"corner": "corner", "arc": "arc through it", "curve": "curve"}
FIELDS = (
    ("x", "x", "Across, in mm, where the path is drawn."),
    ("y", "y", "Along travel, in mm, where the path is drawn."),
    ("corner", "radius", "mm with which the corner is rounded; 0 leaves it sharp."),
    (
        "nominal",
        "nominal",
        "What is asked for at this node, where that differs along the path; empty for none.",
    ),
)


class PathNumbers(QWidget):
    """Show one node; a field being edited is left alone while the path is dragged."""

    changed = Signal(str, object)
    """A title, and the change from one `PathZone` to another."""

    def __init__(self, bench: WorkspaceModel, step_name: str) -> None:
        super().__init__()
        self._bench = bench
        self._zone: PathZone | None = None
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        lines = [QHBoxLayout() for _ in range(3)]
        self.node, self.turn, self.across = QComboBox(), QComboBox(), QLineEdit()
        self.node.setAccessibleName(f"{step_name}, node")
        self.node.setToolTip("The node whose numbers are shown; a click on it does the same.")
        self.node.activated.connect(bench.select_node)
        for turn, name in TURNS.items():
            self.turn.addItem(name, turn)
        self.turn.setToolTip("How the path goes through the node.")
        self.turn.setAccessibleName(f"{step_name}, how it goes through the node")
        self.turn.activated.connect(lambda _: self._edit("node type", turn=self.turn.currentData()))
        self.node.setFixedSize(56, 22)
        self.turn.setFixedSize(130, 22)
        lines[0].addWidget(QLabel("node"))
        lines[0].addWidget(self.node)
        self.fields: dict[str, QLineEdit] = {}
        for name, sign, help_text in FIELDS:
            edit = QLineEdit()
            edit.setFixedSize(58 if name in ("x", "y") else 44, 22)
            edit.setAlignment(Qt.AlignmentFlag.AlignRight)
            edit.setToolTip(help_text)
            edit.setAccessibleName(f"{step_name}, node {sign}")
            edit.editingFinished.connect(partial(self._typed, name))
            line = lines[0] if name in ("x", "y") else lines[1]
            line.addWidget(QLabel(sign))
            line.addWidget(edit)
            self.fields[name] = edit
        lines[0].addWidget(self.turn)
        self.buttons: dict[str, QPushButton] = {}
        for name, (title, help_text, change) in NODE_EDITS.items():
            button = QPushButton(title.lower())
            button.setObjectName("action")
            button.setProperty("small", True)
            button.setToolTip(help_text)
            button.clicked.connect(partial(self._do, title.lower(), change))
            lines[2].addWidget(button)
            self.buttons[name] = button
        self.across.setFixedSize(44, 22)
        self.across.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.across.setToolTip("Length in mm of the sections across the path.")
        self.across.setAccessibleName(f"{step_name}, length of the sections")
        self.across.editingFinished.connect(self._across_typed)
        for widget in (QLabel("sections"), self.across, QLabel("mm long")):
            lines[1].addWidget(widget)
        for number, line in enumerate(lines):
            line.addStretch()
            layout.addLayout(line, number, 0)
        for label in self.findChildren(QLabel):
            label.setObjectName("muted")

    def show_zone(self, zone: AnyZone) -> None:
        """Show the selected node's numbers."""
        if not isinstance(zone, PathZone):
            return
        self._zone = zone
        if self.node.count() != len(zone.nodes):
            self.node.clear()
            self.node.addItems([str(k + 1) for k in range(len(zone.nodes))])
        k = self._number
        self.node.setCurrentIndex(k)
        node, (x, y) = zone.nodes[k], zone.node_places()[k]
        self.turn.setCurrentIndex(self.turn.findData(node.turn))
        asked = "" if node.nominal is None else units.field(node.nominal)
        texts = {"x": units.field(x), "y": units.field(y), "corner": units.field(node.corner), "nominal": asked}
        for name, text in texts.items():
            if not self.fields[name].hasFocus():
                self.fields[name].setText(text)
        self.fields["corner"].setEnabled(node.turn == "corner")
        self.buttons["close"].setText("open it" if zone.closed else "close it")
        self.buttons["start"].setEnabled(zone.closed)
        if not self.across.hasFocus():
            self.across.setText(units.field(zone.across))

    @property
    def _number(self) -> int:
        return 0 if self._zone is None else min(self._bench.node, len(self._zone.nodes) - 1)

    def _on_node(self) -> None:
        if self._zone is not None:
            self.show_zone(self._zone)

    def _edit(self, label: str, **changes: object) -> None:
        number = self._number
        self.changed.emit(label, lambda zone: changed_node(zone, number, **changes))

    def _do(self, label: str, change: Callable[[PathZone, int], PathZone]) -> None:
        number = self._number
        self.changed.emit(label, lambda zone: change(zone, number))

    def _typed(self, name: str) -> None:
        if self._zone is None:
            return
        text = self.fields[name].text().strip()
        k = self._number
        node, place = self._zone.nodes[k], self._zone.node_places()[k]
        old = {"x": float(place[0]), "y": float(place[1]), "corner": node.corner, "nominal": node.nominal}[name]
        try:
            value = None if name == "nominal" and not text else number_typed(text)
        except ValueError:
            self._restore(name)
            return
        shown = "" if value is None else units.field(value)
        if shown != ("" if old is None else units.field(old)):
            if name in ("x", "y"):
                self.changed.emit(f"{name} of a node", lambda zone: placed_node(zone, k, **{name: value}))
            else:
                self._edit(f"{name} of a node", **{name: value})
        self._restore(name)

    def _restore(self, name: str) -> None:
        """A number that was refused does not stay."""
        self.fields[name].clearFocus()
        self._on_node()

    def _across_typed(self) -> None:
        try:
            value = number_typed(self.across.text())
        except ValueError:
            value = -1.0
        if self._zone is not None and value != self._zone.across and 0.0 < value <= 1000.0:
            self.changed.emit("length of the sections", lambda zone: zone.model_copy(update={"across": value}))
        self.across.clearFocus()
        self._on_node()
