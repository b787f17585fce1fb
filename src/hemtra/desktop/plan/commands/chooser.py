"""The list of what can be requested, each chosen by a click or its letter."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import groupby

from PySide6.QtCore import QEvent, QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from hemtra.core.proposals.option import Option

COLUMNS = 3
LEAVE = "Esc: cancel"
FEATURES, FEATURES_KEY = "features", "="
"""Entry that leads to the list of constructed features."""


def prompts(wanted: Option) -> tuple[str, ...]:
    """Prompts on the stage before each click."""
    begin = [f"{wanted.name}: click {what}" for what in wanted.clicks]
    listed = "   ·   L: list" if wanted.wants else ""
    if wanted.more == "traced":
        return (f"{begin[0]}, then Enter traces it; or click its path node by node   ·   {LEAVE}",)
    if wanted.more:
        return (f"{begin[0]} in turn   ·   Enter: finish{listed}   ·   {LEAVE}",)
    return tuple(f"{words}{listed}   ·   {LEAVE}" for words in begin)


def _placed(options: tuple[Option, ...]) -> Iterator[tuple[tuple[int, int], tuple[str, list[Option]]]]:
    """Each group of options with the column and row of the grid where it begins; none goes over two columns."""
    groups = [(name, list(members)) for name, members in groupby(options, key=lambda o: o.group)]
    most = -(-(len(options) + len(groups)) // COLUMNS) + 1
    column = row = 0
    for name, members in groups:
        if row and row + len(members) >= most and column < COLUMNS - 1:
            column, row = column + 1, 0
        yield (column, row), (name, members)
        row += 1 + len(members)


class Chooser(QFrame):
    """Prompts for the kind of characteristic."""

    chosen = Signal(str)
    left = Signal()

    def __init__(self, options: tuple[Option, ...], title: str, parent: QWidget, *, leads_on: bool) -> None:
        super().__init__(parent)
        self.options, self._keys = options, {wanted.key: wanted.id for wanted in options}
        self.setObjectName("dialog")
        self.setAccessibleName(f"{title}; a letter chooses one, Escape leaves")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        heading = QLabel(title)
        heading.setObjectName("heading")
        layout.addWidget(heading)
        self.buttons: dict[str, QPushButton] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(4)
        grid.setVerticalSpacing(0)
        layout.addLayout(grid)
        for place, (group, members) in _placed(options):
            column, row = place
            name = QLabel(group)
            name.setObjectName("muted")
            grid.addWidget(name, row, column)
            for below, wanted in enumerate(members, 1):
                text = f"{wanted.key}   {wanted.name} {wanted.meaning}"
                grid.addWidget(self._button(wanted.id, text), row + below, column)
        if leads_on:
            self._keys[FEATURES_KEY] = FEATURES
            layout.addWidget(self._button(FEATURES, f"{FEATURES_KEY}   From other features…"))
        self.hide()

    def _button(self, chosen: str, text: str) -> QPushButton:
        button = self.buttons[chosen] = QPushButton(text)
        button.setObjectName("action")
        button.setStyleSheet("text-align: left; padding: 2px 6px;")
        button.clicked.connect(partial(self.chosen.emit, chosen))
        return button

    def show_over(self, view: QWidget) -> None:
        """Show it in the middle above a view, but within its window, now and when that is resized."""
        window = view.window()
        self.adjustSize()
        corner = view.mapTo(window, QPoint((view.width() - self.width()) // 2, 8))
        self.setParent(window)
        self.move(corner)
        self._keep_inside()
        window.installEventFilter(self)
        self.show()
        self.raise_()
        self.setFocus()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """The window has another size."""
        if event.type() == QEvent.Type.Resize and self.isVisible():
            self._keep_inside()
        return super().eventFilter(watched, event)

    def _keep_inside(self) -> None:
        window = self.window()
        x, y = window.width() - self.width(), window.height() - self.height()
        self.move(max(min(self.x(), x), 0), max(min(self.y(), y), 0))

    def event(self, event: QEvent) -> bool:
        """Its letters come before those of the window."""
        asked = event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent)
        if asked and event.text().upper() in self._keys:  # type: ignore[attr-defined]
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """The letter of an option chooses it, Escape leaves."""
        found = self._keys.get(event.text().upper())
        if found is not None:
            self.chosen.emit(found)
        elif event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)
