"""Going through what the rows of a list may mean: one line, Enter binds, arrows look further."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QPushButton, QWidget

from hemtra.core.proposals.row_matching import SURE, Match, RowMatches
from hemtra.core.text import percent
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.said_bar import SaidBar

NO_BREAK = "\u00a0"
KEYS = {
    Qt.Key.Key_Right: "other",
    Qt.Key.Key_Left: "back",
    Qt.Key.Key_Down: "next",
    Qt.Key.Key_Up: "previous",
    Qt.Key.Key_Return: "bind",
    Qt.Key.Key_Enter: "bind",
    Qt.Key.Key_Escape: "leave",
}


class MatchBar(SaidBar):
    """Shows one row with one of its matches; not shown without a list."""

    wanted = Signal(str)
    """“bind”, “all”, “other”, “back”, “next”, “previous” or “leave”."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("What a row of the list may mean; Enter binds, left and right show others")
        self.buttons: dict[str, QPushButton] = {}
        for name, words, text in (
            ("all", "", f"Binds every row whose first match is at least {percent(SURE)} sure."),
            ("bind", "Bind   Enter", "Binds the row to what is shown."),
            ("other", "Other   →", "Shows what else the row may mean."),
            ("next", "Skip   ↓", "Leaves the row and goes to the next."),
            ("leave", "End   Esc", "What is not bound keeps waiting in the sheet."),
        ):
            button = self.buttons[name] = QPushButton(words)
            button.setToolTip(text)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.clicked.connect(lambda _=False, wanted=name: self.wanted.emit(wanted))
            self.add(button)
        self.hide()

    def show_match(self, row: RowMatches, number: int, sure: int, waiting: int) -> None:
        """A match of a row; sure, waiting: number of sure rows, and of all that wait."""
        of = f"{row.row.balloon} {row.row.name}, {row.row.tolerance}".rstrip(", ")
        if row.matches:
            match = row.matches[number]
            which = f"{number + 1} of {len(row.matches)}" if len(row.matches) > 1 else "the only match"
            sure_by = percent(match.confidence).replace(" ", NO_BREAK)
            self.text.setText(f"{of}: {_words(match, row)}   {which}, {sure_by}{NO_BREAK}sure")
        else:
            self.text.setText(f"{of}: nothing on the reference scan fits. Press N and click what it measures.")
        self.buttons["all"].setText(f"Bind all that are sure: {sure}")
        self.buttons["all"].setVisible(sure > 0)
        self.buttons["bind"].setEnabled(bool(row.matches))
        self.buttons["other"].setEnabled(len(row.matches) > 1)
        self.buttons["next"].setEnabled(waiting > 1)
        self.show()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter binds, arrows move on, Escape ends it."""
        wanted = KEYS.get(Qt.Key(event.key()))
        if wanted is None:
            super().keyPressEvent(event)
        else:
            self.wanted.emit(wanted)


def _words(match: Match, row: RowMatches) -> str:
    """Describe the match."""
    if match.value is None:
        return match.words
    unit = row.row.unit or "mm"
    places = row.row.decimals + 1
    return units.text(f"{match.words}, {match.value:.{places}f} {unit}".rstrip())
