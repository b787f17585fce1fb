"""A few numbers to type over the stage, then one button."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFormLayout, QFrame, QLabel, QLineEdit, QWidget

from hemtra.core.plan.master_part import shifts_typed
from hemtra.desktop.widgets.dialogs import button_row

Field = tuple[str, str, str]
"""Name, label, and what stands in it at first."""
READ: Mapping[str, Callable[[str], Any]] = {"count": int, "columns": int, "rows": int, "shifts": shifts_typed}
"""How fields are read by their name, where they hold something else than a number with decimals."""


def _decimal(text: str) -> float:
    return float(text.replace(",", "."))


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
        layout.addRow(button_row(take, self._take, lambda: self.left.emit()))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def _take(self) -> None:
        """Hand the numbers over; a field that holds none keeps the focus."""
        numbers: dict[str, Any] = {}
        for name, field in self.fields.items():
            try:
                numbers[name] = READ.get(name, _decimal)(field.text().strip())
            except ValueError:
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
