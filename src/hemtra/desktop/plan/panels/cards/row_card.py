"""The card of the characteristic: name, tolerance, value, verdict, and how its number is made."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from PySide6.QtCore import QPoint, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton

from hemtra.core.coverage import format_coverage
from hemtra.core.evaluation.form_floor import floor_text
from hemtra.core.plan.balloon import Balloon
from hemtra.core.plan.document import Characteristic
from hemtra.core.plan.kind import Kind
from hemtra.core.plan.limits import CharacteristicResult
from hemtra.core.plan.tolerance import EXAMPLES
from hemtra.desktop.models.bench import Shown
from hemtra.desktop.plan.panels.cards.budget_view import BudgetView
from hemtra.desktop.plan.panels.cards.card import Card, form_layout, muted
from hemtra.desktop.plan.panels.cards.step_card import StepCard
from hemtra.desktop.widgets import theme, units

TINTS = {"PASS": "passed", "FAIL": "failed"}


class RowCard(Card):
    """Card of a row of the sheet, with the settings of the step that gives its number."""

    row_typed = Signal(int, str, object)
    """Balloon, field of the row and its value."""
    menu_wanted = Signal(int, QPoint)
    tolerance_typed = Signal(int, str)

    def __init__(self, row: Characteristic, kind: Kind, step_card: StepCard) -> None:
        super().__init__(kind.title, kind.glyph, "ink")
        self.row, self.step_card = row, step_card
        self._unit = kind.value_unit
        self.name, self.tolerance = QLineEdit(row.name), QLineEdit(units.tolerance(row, kind.value_unit))
        self.name.setToolTip(row.name)
        self.name.setAccessibleName("Name of the characteristic")
        self.tolerance.setToolTip(f"Nominal and limits as on the drawing: {units.signed(EXAMPLES)}")
        self.tolerance.setAccessibleName("Tolerance")
        self.name.editingFinished.connect(self._name_typed)
        self.tolerance.editingFinished.connect(self._tolerance_typed)
        self.group, self.number = QLineEdit(row.group), QLineEdit(str(row.balloon))
        self.group.setPlaceholderText("no group")
        self.group.setMinimumWidth(self.group.fontMetrics().horizontalAdvance("no group") + 24)
        self.group.setToolTip("Heading of the sheet that it stands under.")
        self.group.setAccessibleName("Group of the characteristic")
        self.group.editingFinished.connect(self._group_typed)
        self.number.setFixedWidth(52)
        self.number.setAccessibleName("Balloon")
        self.number.setToolTip("Its number on the drawing.")
        self.number.editingFinished.connect(self._number_typed)
        self.value, self.verdict, self.rests, self.note = QLabel(), QLabel(), QLabel(), QLabel()
        self.value.setStyleSheet("font-size: 16px; font-weight: bold;")
        self.rests.setToolTip(
            "How much of what the value answers for was seen, and between which values it lies if"
            " what was not seen is as bad as its surroundings allow."
        )
        self.note.setToolTip("What this row measures otherwise than when the plan was made.")
        for text in (self.verdict, self.rests, self.note):
            text.setWordWrap(True)
            self.body.addWidget(text)
        for text in (self.rests, self.note):
            text.setObjectName("muted")
            text.hide()
        self.budget = BudgetView()
        self.budget.wanted.connect(lambda name, value: self.row_typed.emit(self.row.balloon, name, value))
        self.body.addWidget(self.budget)
        self._add_form()
        self.body.addWidget(step_card)
        self.body.addStretch()

    def _add_form(self) -> None:
        more = QPushButton("more…")
        more.setObjectName("action")
        more.setProperty("small", True)
        more.setToolTip("What else can be done with this row.")
        more.clicked.connect(
            lambda: self.menu_wanted.emit(self.row.balloon, more.mapToGlobal(QPoint(0, more.height())))
        )
        evaluated, numbered = QHBoxLayout(), QHBoxLayout()
        evaluated.setSpacing(10)
        evaluated.addWidget(self.value)
        evaluated.addWidget(self.verdict, 1)
        for widget in (self.number, self.group, more):
            numbered.addWidget(widget)
        form = form_layout()
        form.addWidget(muted("value"), 0, 0)
        form.addLayout(evaluated, 0, 1)
        for line, (label, field) in enumerate((("name", self.name), ("tolerance", self.tolerance)), 1):
            form.addWidget(muted(label), line, 0)
            form.addWidget(field, line, 1)
        form.addWidget(muted("balloon"), 3, 0)
        form.addLayout(numbered, 3, 1)
        self.body.insertLayout(0, form)

    def show_evaluated(
        self,
        evaluated: CharacteristicResult | None,
        row: Characteristic,
        shown: Shown | None = None,
        weak: Sequence[str] = (),
    ) -> None:
        """Take the latest value and verdict, and what they rest on; weak: why they prove less than they say."""
        if row != self.row:
            self.row = row
            self.name.setText(row.name)
            self.tolerance.setText(units.tolerance(row, self._unit))
            self.group.setText(row.group)
            self.number.setText(str(row.balloon))
        self.header.note.setText("difference from the reference" if row.from_master else "")
        if evaluated is None:
            return
        self.budget.show_budget(evaluated, row)
        evaluated = units.result(evaluated)
        self.header.tint = TINTS.get(evaluated.verdict, "unmeasured")
        self.value.setText(units.value(evaluated, evaluated.decimals + 1))
        tint = theme.verdict_colour(evaluated.verdict).name()
        reason = f"<br>{evaluated.reason}" if evaluated.reason else ""
        self.verdict.setText(f"<b style='color:{tint}'>{evaluated.verdict}</b>{reason}")
        rests = [*(why[0].upper() + why[1:] for why in weak), *_rests_on(evaluated, row, shown)]
        self.rests.setText(units.signed("\n".join(rests)))
        self.rests.setVisible(bool(rests))
        self.note.setText(row.note)
        self.note.setVisible(bool(row.note))

    def _name_typed(self) -> None:
        if self.name.text().strip() not in ("", self.row.name):
            self.row_typed.emit(self.row.balloon, "name", self.name.text())

    def _group_typed(self) -> None:
        self.row_typed.emit(self.row.balloon, "group", self.group.text().strip())

    def _number_typed(self) -> None:
        with suppress(ValueError):
            self.row_typed.emit(self.row.balloon, "balloon", Balloon.parse(self.number.text()))
        # a number that was refused does not stay
        self.number.setText(str(self.row.balloon))

    def _tolerance_typed(self) -> None:
        if self.tolerance.text() != units.tolerance(self.row, self._unit):
            self.tolerance_typed.emit(self.row.balloon, self.tolerance.text())


def _rests_on(evaluated: CharacteristicResult, row: Characteristic, shown: Shown | None) -> list[str]:
    """Evidence of a value, a line each: its ends along the zone, its bounds, coverage and form floor."""
    found = []
    if evaluated.least is not None and evaluated.greatest is not None:
        places = evaluated.decimals
        found.append(
            f"min {evaluated.least:.{places}f}, max {evaluated.greatest:.{places}f} {evaluated.unit}".strip()
        )
    if evaluated.low is not None and evaluated.high is not None and evaluated.low < evaluated.high:
        places = evaluated.decimals + 1
        found.append(
            f"possible {evaluated.low:.{places}f} … {evaluated.high:.{places}f} {evaluated.unit}".strip()
        )
    if shown is not None and shown.coverage is not None:
        found.append(units.text(format_coverage(shown.coverage)))
    if shown is not None and shown.floor is not None:
        found.append(units.text(floor_text(shown.floor, row)))
    return found
