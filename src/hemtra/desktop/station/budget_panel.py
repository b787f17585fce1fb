"""The scan budget with its sums, and what to change with one click."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.station.budget import BudgetWarning
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.scrolled import scrolled


class BudgetPanel(QFrame):
    """Warnings with what puts them right; below them rows of label, sum and value."""

    fix_chosen = Signal(str, object)
    """Title of a fix, and the station with it applied."""

    def __init__(self, bench: StationBench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Scan budget")
        self.bench = bench
        self.fixes: list[QPushButton] = []
        heading, self._count = QLabel("Scan budget"), QLabel()
        heading.setObjectName("heading")
        top = QHBoxLayout()
        top.addWidget(heading)
        top.addStretch()
        top.addWidget(self._count)
        self._rows = QGridLayout()
        self._rows.setVerticalSpacing(3)
        self._rows.setColumnStretch(1, 1)
        self._warnings = QVBoxLayout()
        self._warnings.setSpacing(6)
        inner = QWidget()
        body = QVBoxLayout(inner)
        body.setContentsMargins(14, 2, 14, 4)
        body.addLayout(self._warnings)
        body.addSpacing(4)
        body.addLayout(self._rows)
        body.addStretch()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 8, 0, 4)
        top.setContentsMargins(14, 0, 14, 0)
        layout.addLayout(top)
        layout.addWidget(scrolled(inner))
        self._cells: list[tuple[QLabel, QLabel, QLabel]] = []
        bench.document.changed.connect(self.refresh)
        bench.unit_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Do the sums again."""
        budget = self.bench.budget()
        while len(self._cells) < len(budget.rows):
            self._add_cells()
        for cells, row in zip(self._cells, (*budget.rows, *[None] * len(self._cells)), strict=False):
            for cell, text in zip(cells, (row.label, row.sum, row.value) if row else ("", "", ""), strict=True):
                cell.setText(units.signed(text))
                cell.setVisible(row is not None)
        count = len(budget.warnings)
        self._count.setText("all in order" if not count else f"{count} warning{'s' if count > 1 else ''}")
        tint = theme.current().failed if count else theme.current().passed
        self._count.setStyleSheet(f"color: {tint};")
        while self._warnings.count():
            item = self._warnings.takeAt(0)
            widget = item.widget() if item else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.fixes = []
        for warning in budget.warnings:
            self._warnings.addWidget(self._card(warning))

    def _add_cells(self) -> None:
        line = len(self._cells)
        label, sums, value = QLabel(), QLabel(), QLabel()
        sums.setObjectName("muted")
        sums.setStyleSheet("font-size: 12px;")
        sums.setWordWrap(True)
        value.setStyleSheet("font-weight: bold;")
        for column, cell in enumerate((label, sums, value)):
            self._rows.addWidget(cell, line, column)
            if column:
                cell.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._cells.append((label, sums, value))

    def _card(self, warning: BudgetWarning) -> QWidget:
        card = QFrame()
        card.setObjectName("messageBar")
        layout = QVBoxLayout(card)
        layout.setContentsMargins(12, 6, 8, 6)
        layout.setSpacing(2)
        text, advice = QLabel(f"<b>{units.signed(warning.text)}</b>"), QLabel(units.signed(warning.advice))
        for label in (text, advice):
            label.setWordWrap(True)
            layout.addWidget(label)
        if warning.fixed is not None:
            button = QPushButton("Apply")
            button.setObjectName("action")
            button.setToolTip(advice.text())
            fixed = warning.fixed
            button.clicked.connect(lambda _=False: self.fix_chosen.emit(warning.advice, fixed))
            layout.addWidget(button, alignment=Qt.AlignmentFlag.AlignLeft)
            self.fixes.append(button)
        return card
