"""Base of all cards: a header with title, note and a button to close, and a body below."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.desktop.widgets import theme

LONGEST_LABEL = 104
"""Width of a label before it is broken into lines, pixels."""


class CardHeader(QWidget):
    """Glyph, title, a note beside it, and what stands at the right."""

    closed = Signal()

    def __init__(self, title: str, glyph: str, tint: str) -> None:
        super().__init__()
        self.tint = tint
        """Theme colour of the strip beside the card."""
        self.title, self.note, self.aside = QLabel(title), QLabel(), QLabel()
        self.title.setFont(theme.font(13, bold=True))
        self.title.setStyleSheet("font-weight: bold;")
        self.title.setWordWrap(True)
        for label in (self.note, self.aside):
            label.setObjectName("muted")
        icon = QLabel()
        icon.setPixmap(theme.glyph(glyph, theme.colour(tint).name()))
        self.close_button = QPushButton("×")
        self.close_button.setObjectName("action")
        self.close_button.setFixedSize(24, 22)
        self.close_button.setStyleSheet("padding: 0; text-align: center;")
        self.close_button.setToolTip("Close the card (Esc).")
        self.close_button.setAccessibleName("Close the card")
        self.close_button.clicked.connect(self.closed)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(icon)
        layout.addWidget(self.title, 1)
        for widget in (self.note, self.aside, self.close_button):
            layout.addWidget(widget)


class Card(QWidget):
    """Content with a header, which stands apart from it so that it stays while the content scrolls."""

    def __init__(self, title: str, glyph: str, tint: str) -> None:
        super().__init__()
        self.setObjectName("card")
        self.header = CardHeader(title, glyph, tint)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(4)


def form_layout() -> QGridLayout:
    """A grid of labels and fields as all cards have it."""
    form = QGridLayout()
    form.setHorizontalSpacing(8)
    form.setVerticalSpacing(3)
    form.setColumnStretch(1, 1)
    return form


def muted(text: str) -> QLabel:
    """A label of a field, broken into lines where it is long."""
    label = QLabel(text)
    label.setObjectName("muted")
    label.setWordWrap(True)
    label.setMinimumWidth(min(QFontMetrics(theme.font()).horizontalAdvance(text) + 2, LONGEST_LABEL))
    label.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    return label
