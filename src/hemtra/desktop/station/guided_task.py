"""Guided tasks: they take the place of the numbers, show before and after, and end in one change or none."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.station.station import Station
from hemtra.desktop.background.tasks import Task
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.scrolled import scrolled

Start = Callable[[str, Callable[[Task], Any], Callable[[Any], None]], object]
"""Does work beside the window: what it is called, the work, and who gets its result."""


class GuidedTask(QFrame):
    """Base of guided tasks: a heading, advice, the result, and two buttons.

    Subclasses put their own rows into `steps`.
    """

    taken = Signal(str, object)
    """Name of the change, and the station with the result."""
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
        self.message = QLabel()
        self.message.setWordWrap(True)
        self.take = QPushButton(take)
        self.take.setObjectName("primary")
        self.take.clicked.connect(self.take_result)
        leave = QPushButton("Cancel")
        leave.setObjectName("secondary")
        leave.clicked.connect(self.closed)
        self.steps = QVBoxLayout()
        self.buttons = QHBoxLayout()
        self.buttons.addWidget(self.take)
        self.buttons.addWidget(leave)
        self.buttons.addStretch()
        inner = QWidget()
        body = QVBoxLayout(inner)
        body.setContentsMargins(14, 0, 14, 0)
        body.addWidget(text)
        body.addLayout(self.steps)
        body.addWidget(self.message)
        body.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 8)
        for box in (title_row := QHBoxLayout(), self.buttons):
            box.setContentsMargins(14, 0, 14, 0)
        title_row.addWidget(title)
        layout.addLayout(title_row)
        layout.addWidget(scrolled(inner), 1)
        layout.addLayout(self.buttons)

    def begin(self) -> None:
        """Start from nothing."""

    def take_result(self) -> None:
        """Make the result part of the station."""

    def finish(self, label: str, change: Callable[[], Station]) -> None:
        """Hand the changed station over and close, or say why it cannot be."""
        try:
            station = change()
        except HemtraError as error:
            self.message.setText(sentence(str(error)))
            return
        self.taken.emit(label, station)
        self.closed.emit()


def in_a_row(*widgets: QWidget) -> QHBoxLayout:
    """Widgets beside each other, from the left; words that may wrap take what room there is."""
    row = QHBoxLayout()
    wraps = [isinstance(widget, QLabel) and widget.wordWrap() for widget in widgets]
    for widget, wrap in zip(widgets, wraps, strict=True):
        row.addWidget(widget, 1 if wrap else 0)
    if not any(wraps):
        row.addStretch()
    return row


def number_field(value: float, name: str, width: int = 70) -> QLineEdit:
    """A field for a number."""
    field = QLineEdit(units.field(value))
    field.setFixedWidth(width)
    field.setAlignment(Qt.AlignmentFlag.AlignRight)
    field.setAccessibleName(name)
    return field


def number_in(field: QLineEdit) -> float | None:
    """The number that was typed, None where it is none."""
    try:
        value = float(field.text().strip().replace(",", "."))
    except ValueError:
        return None
    return value if math.isfinite(value) else None


def fill_table(grid: QGridLayout, rows: list[tuple[str, ...]]) -> None:
    """Replace what a grid holds by rows of text, the first of them headings."""
    clear(grid)
    for line, row in enumerate(rows):
        for column, text in enumerate(row):
            cell = QLabel(text)
            cell.setAlignment(Qt.AlignmentFlag.AlignRight)
            cell.setObjectName("" if line else "muted")
            grid.addWidget(cell, line, column)
    grid.setColumnStretch(max((len(row) for row in rows), default=0), 1)


def clear(layout: QLayout) -> None:
    """Take everything out of a layout."""
    while layout.count():
        item = layout.takeAt(0)
        widget = item.widget() if item else None
        if widget is not None:
            widget.hide()
            widget.deleteLater()


def sentence(text: str) -> str:
    """A reason as a sentence of its own."""
    text = text.strip()
    return f"{text[:1].upper()}{text[1:]}{'' if text.endswith('.') else '.'}"
