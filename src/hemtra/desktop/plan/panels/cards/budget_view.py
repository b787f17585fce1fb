"""The uncertainty of a value: how large, what it is made of, and how the row is evaluated with it."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from hemtra.core.plan.budget import USUAL_COVERAGE, Budget
from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.text import percent
from hemtra.desktop.widgets import theme, units

LEAST_SHOWN = 0.005
"""Share of the variance below which a source is not drawn."""
LINE, LABEL = 17, 92
"""Height of a line, and width before its bar, pixels."""


class BudgetView(QWidget):
    """Says U, draws the shares, and offers to evaluate with it."""

    wanted = Signal(str, object)
    """Field of the row and its value: the uncertainty of all parts, or the factor of each part's own."""

    def __init__(self) -> None:
        super().__init__()
        self.text, self.bars = QLabel(), Bars()
        self._rounded = 0.0
        self.text.setObjectName("muted")
        self.text.setWordWrap(True)
        self.text.setToolTip(
            "Standard uncertainty of the value and, with coverage factor 2, U = 2u (JCGM 100)."
        )
        self.take = _button(
            "use U = 2u", "Evaluate all parts with this U: a value passes only if it surely conforms."
        )
        self.own = _button("U of each part", "Evaluate each part with the U = 2u of its own scan.")
        self.take.clicked.connect(lambda: self.wanted.emit("uncertainty", self._rounded))
        self.own.clicked.connect(lambda: self.wanted.emit("covers", USUAL_COVERAGE))
        buttons = QHBoxLayout()
        buttons.setSpacing(6)
        for button in (self.take, self.own):
            buttons.addWidget(button)
        buttons.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 2, 0, 2)
        layout.setSpacing(3)
        for widget in (self.text, self.bars):
            layout.addWidget(widget)
        layout.addLayout(buttons)
        self.hide()

    def show_budget(self, evaluated: CharacteristicResult, row: Characteristic) -> None:
        """Show the budget of a value in mm or its own unit; nothing without a budget."""
        self.setVisible(evaluated.budget is not None and evaluated.value is not None)
        if evaluated.budget is None or evaluated.u is None:
            return
        shown = units.result(evaluated)
        u = shown.u or 0.0
        self._rounded = rounded_up(USUAL_COVERAGE * evaluated.u)
        of_room = (
            f", {percent(USUAL_COVERAGE * evaluated.u / row.room, 0)} of the tolerance" if row.room else ""
        )
        words = f"U = {USUAL_COVERAGE * u:.3g} {shown.unit} (k = {USUAL_COVERAGE:g}){of_room}"
        self.text.setText(units.signed(words))
        self.take.setEnabled(self._rounded > 0.0 and (row.uncertainty, row.covers) != (self._rounded, None))
        self.own.setEnabled(row.covers != USUAL_COVERAGE)
        self.bars.show_shares(evaluated.budget)


class Bars(QWidget):
    """The shares of a budget, a bar each."""

    def __init__(self) -> None:
        super().__init__()
        self.shares: dict[str, float] = {}
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_shares(self, budget: Budget) -> None:
        """Take the sources that count."""
        found = budget.shares.items()
        self.shares = {Budget.TITLES[source]: share for source, share in found if share >= LEAST_SHOWN}
        said = ", ".join(f"{name} {percent(share, 0)}" for name, share in self.shares.items())
        self.setAccessibleName("What the uncertainty is made of")
        self.setAccessibleDescription(said)
        self.setToolTip(f"Shares of the variance: {said}." if said else "")
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """A line for each source."""
        return QSize(200, LINE * len(self.shares))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Name, bar and percent of each."""
        painter = QPainter(self)
        painter.setFont(theme.font(11))
        room = self.width() - LABEL - 44
        for line, (name, share) in enumerate(self.shares.items()):
            top = line * LINE
            painter.setPen(theme.colour("muted"))
            align = Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, top, LABEL, LINE), align | Qt.AlignmentFlag.AlignLeft, name)
            painter.fillRect(QRectF(LABEL, top + 5, room * share, LINE - 10), theme.colour("copper"))
            beside = QRectF(LABEL + room * share + 5, top, 40, LINE)
            painter.drawText(beside, align | Qt.AlignmentFlag.AlignLeft, percent(share, 0))
        painter.end()


def rounded_up(value: float) -> float:
    """To two digits, never less than it was."""
    if value <= 0.0:
        return 0.0
    text = f"{value:.1e}"
    digits, power = text.split("e")
    rounded = float(text)
    return rounded if rounded >= value else float(f"{float(digits) + 0.1:.1f}e{power}")


def _button(text: str, help_text: str) -> QPushButton:
    button = QPushButton(text)
    button.setObjectName("action")
    button.setProperty("small", True)
    button.setToolTip(help_text)
    return button
