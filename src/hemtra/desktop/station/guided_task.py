"""Guided tasks: they take the place of the numbers, show before and after, and end in one change or none."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.desktop.model.station_bench import StationBench


class GuidedTask(QFrame):
    """What all guided tasks share: a heading, advice, what was found, and two ways out.

    Subclasses put their own rows into `steps`.
    """

    taken = Signal(str, object)
    """What was done, and the station with the result."""
    closed = Signal()

    def __init__(self, bench: StationBench, heading: str, advice: str, take: str) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAccessibleName(heading)
        self.bench = bench
        title, text = QLabel(heading), QLabel(advice)
        title.setObjectName("heading")
        text.setObjectName("muted")
        text.setWordWrap(True)
        self.told = QLabel()
        self.told.setWordWrap(True)
        self.take = QPushButton(take)
        self.take.setObjectName("primary")
        self.take.clicked.connect(self.take_result)
        leave = QPushButton("Leave")
        leave.setObjectName("secondary")
        leave.clicked.connect(self.closed)
        self.steps = QVBoxLayout()
        buttons = QHBoxLayout()
        buttons.addWidget(self.take)
        buttons.addWidget(leave)
        buttons.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 14, 10)
        layout.addWidget(title)
        layout.addWidget(text)
        layout.addLayout(self.steps)
        layout.addWidget(self.told)
        layout.addStretch()
        layout.addLayout(buttons)

    def begin(self) -> None:
        """Start from nothing."""

    def take_result(self) -> None:
        """Make the result part of the station."""


def in_a_row(*widgets: QWidget) -> QHBoxLayout:
    """Widgets beside each other, from the left."""
    row = QHBoxLayout()
    for widget in widgets:
        row.addWidget(widget)
    row.addStretch()
    return row
