"""Prompts for the PIN that locks editing or opens it again."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFormLayout, QFrame, QLabel, QLineEdit, QWidget

from hemtra.desktop.models.edit_lock import LEAST
from hemtra.desktop.widgets.dialogs import button_row


class PinForm(QFrame):
    """One field to unlock; two equal ones for a new PIN. `take` returns the problem, if any."""

    def __init__(self, parent: QWidget, *, is_new: bool, take: Callable[[str], str]) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self._take_pin, self._is_new = take, is_new
        layout = QFormLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        title = QLabel("Lock editing with a PIN" if is_new else "PIN, to edit again")
        title.setObjectName("heading")
        layout.addRow(title)
        self.pin, self.again = QLineEdit(), QLineEdit()
        for field, label in ((self.pin, "PIN"), (self.again, "repeat PIN")):
            field.setEchoMode(QLineEdit.EchoMode.Password)
            field.setAccessibleName(label)
            field.returnPressed.connect(self.agree)
            if field is self.pin or is_new:
                layout.addRow(label, field)
        self.wrong = QLabel()
        self.wrong.setWordWrap(True)
        layout.addRow(self.wrong)
        layout.addRow(button_row("Lock" if is_new else "Unlock", self.agree, self.leave))
        self.adjustSize()
        self.move((parent.width() - self.width()) // 2, 90)
        self.show()
        self.raise_()
        self.pin.setFocus()

    def agree(self) -> None:
        """Take what was typed."""
        pin = self.pin.text()
        wrong = ""
        if self._is_new and not (len(pin) >= LEAST and pin.isascii() and pin.isdigit()):
            wrong = f"A PIN is made of {LEAST} digits or more."
        elif self._is_new and pin != self.again.text():
            wrong = "The PINs differ. Enter both again."
        wrong = wrong or self._take_pin(pin)
        if wrong:
            self.wrong.setText(wrong)
            self.adjustSize()
            self.pin.selectAll()
            self.pin.setFocus()
        else:
            self.leave()

    def leave(self) -> None:
        """Go."""
        self.hide()
        self.deleteLater()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves."""
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
