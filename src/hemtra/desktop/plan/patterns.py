"""Asks for a pattern, a circle or a grid, in which the selected feature is to be repeated."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFormLayout, QFrame, QHBoxLayout, QLabel, QLineEdit, QPushButton, QWidget

from hemtra.core.plan.document import Plan
from hemtra.core.plan.pattern import Move, circular, grid, repeated
from hemtra.desktop.model.bench import Bench

Edit = Callable[[str, Callable[[], Plan]], bool]
FIELDS = {
    "circle": (
        ("count", "places in all", "4"),
        ("x", "centre x, mm", "0"),
        ("y", "centre y, mm", "0"),
        ("span", "over, °", "360"),
    ),
    "grid": (
        ("columns", "columns", "2"),
        ("rows", "rows", "2"),
        ("dx", "apart in x, mm", "10"),
        ("dy", "apart in y, mm", "10"),
    ),
}
WHOLE = ("count", "columns", "rows")


class PatternForm(QFrame):
    """The numbers of one pattern, to type over the stage."""

    wanted = Signal(str, object)
    """“circle” or “grid”, and its numbers by name."""
    left = Signal()

    def __init__(self, what: str, feature: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self.what = what
        layout = QFormLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        heading = QLabel(f"{feature}, repeated in a {what}")
        heading.setObjectName("heading")
        layout.addRow(heading)
        self.fields: dict[str, QLineEdit] = {}
        for name, label, usual in FIELDS[what]:
            field = QLineEdit(usual)
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.setAccessibleName(label)
            field.returnPressed.connect(self._take)
            layout.addRow(label, field)
            self.fields[name] = field
        take, leave = QPushButton("Repeat"), QPushButton("Leave   Esc")
        take.setObjectName("primary")
        leave.setObjectName("action")
        take.clicked.connect(self._take)
        leave.clicked.connect(self.left)
        buttons = QHBoxLayout()
        buttons.addWidget(take)
        buttons.addWidget(leave)
        layout.addRow(buttons)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def _take(self) -> None:
        """Hand the numbers over; a field that holds none keeps the focus."""
        numbers: dict[str, float] = {}
        for name, field in self.fields.items():
            try:
                text = field.text().strip().replace(",", ".")
                numbers[name] = int(text) if name in WHOLE else float(text)
            except ValueError:
                field.setFocus()
                field.selectAll()
                return
        self.wanted.emit(self.what, numbers)


class Patterns:
    """Asks over the stage, then repeats the selected feature."""

    def __init__(self, bench: Bench, stage: QWidget, edit: Edit) -> None:
        self._bench, self._stage, self._edit = bench, stage, edit
        self.form: PatternForm | None = None

    def ask(self, what: str) -> None:
        """Show the numbers of a “circle” or a “grid”."""
        self.leave()
        step_id = self._bench.selected_step
        if step_id is None:
            return
        name = self._bench.document.plan.step(step_id).name
        self.form = PatternForm(what, name, self._stage)
        self.form.wanted.connect(partial(self._repeat, step_id))
        self.form.left.connect(self.leave)
        self.form.adjustSize()
        self.form.move((self._stage.width() - self.form.width()) // 2, 60)
        self.form.show()
        next(iter(self.form.fields.values())).setFocus()

    def leave(self) -> None:
        """Forget about it."""
        if self.form is not None:
            self.form.hide()
            self.form.deleteLater()
            self.form = None

    def _repeat(self, step_id: str, what: str, numbers: dict[str, float]) -> None:
        plan = self._bench.document.plan
        if step_id not in {step.id for step in plan.steps}:
            self.leave()
            return

        def change() -> Plan:
            n = numbers
            moves: list[Move]
            if what == "circle":
                moves = circular(int(n["count"]), n["x"], n["y"], n["span"])
            else:
                moves = grid(int(n["columns"]), int(n["rows"]), n["dx"], n["dy"])
            return repeated(plan, step_id, moves)

        if self._edit(f"{what} of {plan.step(step_id).name}", change):
            self.leave()
