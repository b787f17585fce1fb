"""A view in a window of its own, on another monitor where there is one."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget


class OwnWindow(QWidget):
    """Holds views; Escape closes it, and it opens again as it was."""

    def __init__(self, title: str, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self._main = parent
        self.setObjectName("workspace")
        self.setWindowTitle(title)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, 0)

    def open(self, *, full: bool) -> None:
        """Show it on a monitor that the main window is not on; full: without a border, on all of it."""
        here = self._main.screen()
        there = next((screen for screen in QGuiApplication.screens() if screen is not here), here)
        if there is not here:
            self.setGeometry(there.availableGeometry())
        elif not self.isVisible():
            self.resize(here.availableSize() * 0.7)
        if full:
            self.showFullScreen()
        else:
            self.show()
        self.raise_()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape closes it."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)
