"""A line of words with buttons beside it, or below it where there is no room beside."""

from __future__ import annotations

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QFrame, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QWidget

BESIDE = 760
"""Width from which on the buttons stand beside the words, pixels."""


class SaidBar(QFrame):
    """Words that may take several lines, and the buttons that answer them."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.text = QLabel()
        self.text.setWordWrap(True)
        self.text.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._line = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        self._line.setContentsMargins(12, 4, 12, 4)
        self._line.setSpacing(4)
        self._row = QHBoxLayout()
        self._row.setSpacing(10)
        self._line.addWidget(self.text, 1)
        self._line.addLayout(self._row)

    def add(self, button: QPushButton) -> None:
        """Add an answer."""
        button.setObjectName("action")
        self._row.addWidget(button)

    def remove(self, button: QPushButton) -> None:
        """An answer less."""
        self._row.removeWidget(button)
        button.hide()
        button.deleteLater()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Beside the words, or below them."""
        super().resizeEvent(event)
        way = QBoxLayout.Direction.LeftToRight if self.width() >= BESIDE else QBoxLayout.Direction.TopToBottom
        if self._line.direction() != way:
            self._line.setDirection(way)
