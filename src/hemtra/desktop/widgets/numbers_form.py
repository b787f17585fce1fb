"""A few numbers to type over the stage, then one button."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFormLayout, QFrame, QLabel, QLineEdit, QWidget

from hemtra.core.plan.master_part import shifts_typed
from hemtra.desktop.widgets.dialogs import button_row

Field = tuple[str, str, str]
"""Name, label, and what stands in it at first."""
READ: Mapping[str, tuple[Callable[[str], Any], str]] = {
    **dict.fromkeys(("count", "columns", "rows"), (int, "a whole number")),
    "shifts": (shifts_typed, "times of the day, as 6:00 14:00"),
}
"""How fields are read by their name, and what they hold, where that is no number with decimals."""


def _decimal(text: str) -> float:
    number = float(text.replace(",", "."))
    if not math.isfinite(number):
        raise ValueError(text)
    return number


class NumbersForm(QFrame):
    """Prompts for numbers; Enter takes them, Escape leaves."""

    wanted = Signal(object)
    """The numbers by name."""
    left = Signal()

    def __init__(self, heading: str, fields: tuple[Field, ...], take: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        layout = QFormLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        title = QLabel(heading)
        title.setObjectName("heading")
        layout.addRow(title)
        self.fields: dict[str, QLineEdit] = {}
        for name, label, usual in fields:
            field = QLineEdit(usual)
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.setAccessibleName(label)
            field.returnPressed.connect(self._take)
            layout.addRow(label, field)
            self.fields[name] = field
        self.said = QLabel()
        self.said.setWordWrap(True)
        self.said.hide()
        layout.addRow(self.said)
        layout.addRow(button_row(take, self._take, lambda: self.left.emit()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def _take(self) -> None:
        """Hand the numbers over; a field that holds none keeps the focus and says what it takes."""
        numbers: dict[str, Any] = {}
        for name, field in self.fields.items():
            read, what = READ.get(name, (_decimal, "a number"))
            try:
                numbers[name] = read(field.text().strip())
            except ValueError:
                self.said.setText(f"{field.accessibleName()}: write {what}.")
                self.said.show()
                self.adjustSize()
                field.setFocus()
                field.selectAll()
                return
        self.wanted.emit(numbers)


class NumbersAsked:
    """Shows one form at a time over the stage."""

    def __init__(self, stage: QWidget) -> None:
        self._stage = stage
        self.form: NumbersForm | None = None

    def ask(
        self, heading: str, fields: tuple[Field, ...], take: str, wanted: Callable[[dict[str, Any]], bool]
    ) -> None:
        """Show a form; it goes once `wanted` says that its numbers were taken."""
        self.leave()
        self.form = NumbersForm(heading, fields, take, self._stage)

        def take_them(numbers: dict[str, Any]) -> None:
            if wanted(numbers):
                self.leave()

        self.form.wanted.connect(take_them)
        self.form.left.connect(self.leave)
        self.form.adjustSize()
        self.form.move((self._stage.width() - self.form.width()) // 2, 40)
        self.form.show()
        next(iter(self.form.fields.values())).setFocus()

    def leave(self) -> None:
        """Forget about it."""
        if self.form is not None:
            self.form.hide()
            self.form.deleteLater()
            self.form = None
