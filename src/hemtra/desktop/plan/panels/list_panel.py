"""A panel with a heading, a note beside it, and a scrolling list below."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget


class ListPanel(QFrame):
    """The frame that sheet and tray share; `rows` takes the list's widgets, above a stretch at its end."""

    def __init__(self, heading: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        title, self.aside = QLabel(heading), QLabel()
        title.setObjectName("heading")
        self.aside.setObjectName("muted")
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 10, 2)
        top.addWidget(title)
        top.addStretch()
        top.addWidget(self.aside)
        self.rows = QVBoxLayout()
        self.rows.setContentsMargins(1, 0, 1, 0)
        self.rows.setSpacing(0)
        self.rows.addStretch()
        inner = QWidget()
        inner.setLayout(self.rows)
        self.scroll_area = QScrollArea()
        self.scroll_area.setWidget(inner)
        self.scroll_area.setWidgetResizable(True)
        self.scroll_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.scroll_area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(0, 0, 0, 6)
        self.body.setSpacing(2)
        self.body.addLayout(top)
        self.body.addWidget(self.scroll_area, 1)

    def drop(self, row: QWidget) -> None:
        """Take a widget out of the list for good."""
        self.rows.removeWidget(row)
        row.hide()
        row.deleteLater()
