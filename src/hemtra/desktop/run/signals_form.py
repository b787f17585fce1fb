"""The plan's signals, one row each, to type and to take out."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from pydantic import TypeAdapter, ValidationError
from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import PlanError
from hemtra.core.plan.document import Plan
from hemtra.core.plan.signals import (
    OF_PART,
    OF_ROW,
    Analogue,
    AnySignal,
    Digital,
    invalid_signal_references,
    read_aloud,
)
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.run_bench import RunBench
from hemtra.desktop.run.signal_timeline import SignalTimeline
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.scrolled import scrolled
from hemtra.desktop.widgets.word_completer import WordCompleter

FIELDS: dict[str, tuple[tuple[str, str, int, str], ...]] = {
    "digital": (
        ("name", "name", 150, "As on the wiring diagram."),
        ("line", "line", 40, "Number of the line on the I/O module, from 0."),
        ("pulse", "pulse, ms", 56, "How long it stays on; 0 until the next part."),
        ("delay", "delay, mm", 56, "Travel after the part's trigger at which it switches."),
    ),
    "analogue": (
        ("name", "name", 150, "As on the wiring diagram."),
        ("line", "output", 40, "Number of the output on the I/O module, from 0."),
        ("balloon", "of balloon", 48, "The characteristic that it gives."),
        ("low", "from", 60, "The value at 4 mA or 0 V."),
        ("high", "to", 60, "The value at 20 mA or 10 V."),
        ("full", "counts", 64, "Counts of the I/O module at 20 mA or 10 V."),
        ("fault", "fault", 52, "mA or V that say NOT MEASURED; empty for 3.6 mA (NAMUR NE 43), or 0 V."),
    ),
}
"""Field of the signal, its label, its width in pixels, and what it is. A condition has a line of its own."""
CONDITION = "An expression over the verdicts, as fails_7 or missing."
BOXES = (
    ("unknown", "on if not measured", "Also on if a value it uses was not measured."),
    ("inverted", "inverted", "Inverts the output."),
)
WHOLE = ("line", "full")
TEXT, OPTIONAL = ("name", "when", "balloon"), ("fault",)
_signal: TypeAdapter[AnySignal] = TypeAdapter(AnySignal)


class SignalsForm(QWidget):
    """Every change is an edit of the plan, which undo takes back."""

    def __init__(
        self,
        bench: WorkspaceModel,
        run: RunBench,
        edit: Callable[[str, Callable[[], Plan]], bool],
        parent: QWidget,
    ) -> None:
        """run: of whose parts the signals are shown; before the first run those of the tray."""
        super().__init__(parent, Qt.WindowType.Window)
        self.setProperty("manual", "signals.md")
        self.setWindowTitle("Signals")
        self.setObjectName("workspace")
        self._bench, self._run, self._edit = bench, run, edit
        self.rows: list[dict[str, QWidget]] = []
        self.states: list[tuple[QLabel, SignalTimeline]] = []
        """State of each signal for the last part, and for those before."""
        self.wrong: list[QLabel] = []
        """Problem of each condition as it is typed."""
        self._built: tuple[AnySignal, ...] | None = None
        layout = QVBoxLayout(self)
        inner = QWidget()
        self._list = QVBoxLayout(inner)
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.addStretch()
        layout.addWidget(scrolled(inner), 1)
        self.message = QLabel()
        self.message.setWordWrap(True)
        layout.addWidget(self.message)
        foot = QHBoxLayout()
        for title, add in (("+ digital line", self.add_digital), ("+ analogue output", self.add_analogue)):
            button = QPushButton(title)
            button.setObjectName("action")
            button.clicked.connect(add)
            foot.addWidget(button)
        foot.addStretch()
        layout.addLayout(foot)
        words = QLabel(
            f"Variables: {', '.join(OF_PART)} of the part, and {', '.join(f'{n}_7' for n in OF_ROW)} of"
            " balloon 7, joined by and, or, <, >, =="
        )
        words.setObjectName("muted")
        words.setWordWrap(True)
        layout.addWidget(words)
        self.resize(860, 520)
        bench.document.changed.connect(self.refresh)
        for changed in (run.changed, bench.tray.changed):
            changed.connect(self._show_states)
        self._alive = True
        self.refresh()

    def refresh(self) -> None:
        """Show the signals as they stand."""
        plan = self._bench.document.plan
        signals = plan.signals
        if not self._alive:
            return
        self.message.setText(
            " ".join(invalid_signal_references(signals, [row.balloon for row in plan.sheet if not row.off]))
        )
        if signals == self._built:
            return
        self._built = signals
        while self._list.count() > 1:
            item = self._list.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self.rows, self.states, self.wrong = [], [], []
        for number, signal in enumerate(signals):
            self._add_row(number, signal)
        self._show_states()

    def _show_states(self) -> None:
        """States of the signals for the last parts: of the run, or of the tray before the first."""
        if not self._alive:
            return
        parts = [(done.found.verdict, done.found.rows) for done in self._run.parts]
        if not parts:
            evaluated = [part.result for part in self._bench.tray.parts if part.result is not None]
            parts = [(result.verdict, result.characteristics) for result in evaluated]
        for signal, (state, timeline) in zip(self._built or (), self.states, strict=True):
            state.setText(timeline.show_parts(signal, parts))

    def _add_row(self, number: int, signal: AnySignal) -> None:
        """The signal as a sentence with its state, and below it the fields that the sentence is made from."""
        holder = QFrame()
        holder.setObjectName("panel")
        column = QVBoxLayout(holder)
        column.setContentsMargins(12, 8, 12, 8)
        column.addLayout(self._said(signal))
        fields: dict[str, QWidget] = {}
        if isinstance(signal, Digital):
            column.addLayout(self._condition(number, signal, fields))
        else:
            self.wrong.append(QLabel())
        line = QHBoxLayout()
        for name, label, width, help_text in FIELDS[signal.kind]:
            value = getattr(signal, name)
            edit = QLineEdit(
                "" if value is None else units.field(value) if isinstance(value, float) else str(value)
            )
            edit.setFixedWidth(width)
            edit.setToolTip(units.signed(help_text))
            edit.setAccessibleName(f"{signal.name}, {label}")
            edit.editingFinished.connect(partial(self._typed, number, name, edit))
            line.addWidget(_muted(label))
            line.addWidget(edit)
            fields[name] = edit
        self._add_rest(line, number, signal, fields)
        column.addLayout(line)
        self._list.insertWidget(self._list.count() - 1, holder)
        self.rows.append(fields)

    def _said(self, signal: AnySignal) -> QHBoxLayout:
        words, state, timeline = QLabel(units.signed(read_aloud(signal))), QLabel(), SignalTimeline(signal.name)
        words.setWordWrap(True)
        words.setStyleSheet("font-weight: bold;")
        state.setMinimumWidth(64)
        state.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.states.append((state, timeline))
        line = QHBoxLayout()
        line.addWidget(words, 1)
        line.addWidget(timeline)
        line.addWidget(state)
        return line

    def _condition(self, number: int, signal: Digital, fields: dict[str, QWidget]) -> QVBoxLayout:
        """The expression, with the names that fit while it is typed, and what is wrong with it."""
        edit, wrong = QLineEdit(signal.when), QLabel()
        edit.setToolTip(CONDITION)
        edit.setAccessibleName(f"{signal.name}, condition")
        edit.setCompleter(WordCompleter(self._names(), edit))
        edit.textEdited.connect(lambda text: self._check(number, text))
        edit.editingFinished.connect(partial(self._typed, number, "when", edit))
        wrong.setWordWrap(True)
        wrong.setStyleSheet(f"color: {theme.current().failed}; font-size: 12px;")
        wrong.hide()
        self.wrong.append(wrong)
        fields["when"] = edit
        line, both = QHBoxLayout(), QVBoxLayout()
        line.addWidget(_muted("condition"))
        line.addWidget(edit, 1)
        both.addLayout(line)
        both.addWidget(wrong)
        return both

    def _names(self) -> list[str]:
        """Names that a condition may use."""
        balloons = [row.balloon for row in self._bench.document.plan.sheet if not row.off]
        return [
            *OF_PART,
            *(f"{what}_{balloon.name}" for balloon in balloons for what in OF_ROW),
            "and",
            "or",
            "not",
        ]

    def _check(self, number: int, text: str) -> None:
        """Say what is wrong with a condition that is being typed."""
        signal = self._bench.document.plan.signals[number]
        trouble = ""
        try:
            typed = _signal.validate_python({**signal.model_dump(), "when": text})
            sheet = self._bench.document.plan.sheet
            trouble = " ".join(
                invalid_signal_references([typed], [row.balloon for row in sheet if not row.off])
            )
        except ValidationError as error:
            trouble = _reason(error)
        field, wrong = self.rows[number]["when"], self.wrong[number]
        wrong.setText(trouble)
        wrong.setVisible(bool(trouble))
        field.setProperty("wrong", bool(trouble))
        field.style().polish(field)

    def _add_rest(self, line: QHBoxLayout, number: int, signal: AnySignal, fields: dict[str, QWidget]) -> None:
        """Apply a tick or a press."""
        if isinstance(signal, Digital):
            for name, title, help_text in BOXES:
                box = QCheckBox(title)
                box.setChecked(getattr(signal, name))
                box.setToolTip(units.signed(help_text))
                box.setAccessibleName(f"{signal.name}, {title}")
                box.toggled.connect(partial(self._change, number, name))
                line.addWidget(box)
                fields[name] = box
        else:
            other = QPushButton(signal.span)
            other.setObjectName("action")
            other.setToolTip("Current or voltage.")
            spans = {"4-20 mA": "0-10 V", "0-10 V": "4-20 mA"}
            other.clicked.connect(lambda _=False: self._change(number, "span", spans[signal.span]))
            line.addWidget(other)
        gone = QPushButton("remove")
        gone.setObjectName("action")
        gone.setAccessibleName(f"Remove {signal.name}")
        gone.clicked.connect(lambda _=False: self.remove(number))
        line.addStretch()
        line.addWidget(gone)

    def add_digital(self) -> None:
        """Add a line."""
        self._add(Digital(name="Reject", line=self._free("digital")))

    def add_analogue(self) -> None:
        """Add an output, of the first characteristic between its limits."""
        sheet = self._bench.document.plan.sheet
        if not sheet:
            self.message.setText("An analogue output needs a characteristic; add one to the sheet first.")
            return
        row = sheet[0]
        low = row.lower if row.lower is not None else (row.nominal or 0.0)
        high = row.upper if row.upper is not None else low + 1.0
        high = high if high != low else low + 1.0
        self._add(Analogue(name=row.name, line=self._free("analogue"), balloon=row.balloon, low=low, high=high))

    def remove(self, number: int) -> None:
        """Take one out."""
        plan = self._bench.document.plan
        kept = tuple(s for k, s in enumerate(plan.signals) if k != number)
        self._edit("signal taken out", lambda: plan.edited(signals=kept))

    def _add(self, signal: AnySignal) -> None:
        plan = self._bench.document.plan
        self._edit("new signal", lambda: plan.edited(signals=(*plan.signals, signal)))

    def _free(self, kind: str) -> int:
        used = {s.line for s in self._bench.document.plan.signals if s.kind == kind}
        return next(n for n in range(len(used) + 1) if n not in used)

    def _typed(self, number: int, name: str, edit: QLineEdit) -> None:
        text = edit.text().strip()
        value: Any = text
        if name in OPTIONAL and not text:
            value = None
        elif name not in TEXT:
            try:
                value = float(text.replace(",", "."))
                value = int(value) if name in WHOLE else value
            except ValueError:
                self.message.setText(f"“{text}” is not a number.")
                return
        self._change(number, name, value)

    def _change(self, number: int, name: str, value: Any) -> None:
        plan = self._bench.document.plan
        old = plan.signals[number]
        if getattr(old, name) == value:
            return
        try:
            new = _signal.validate_python({**old.model_dump(), name: value})
            signals = (*plan.signals[:number], new, *plan.signals[number + 1 :])
            changed = plan.edited(signals=signals)
        except ValidationError as error:
            self.message.setText(f"{old.name}: {_reason(error)}")
            return
        except PlanError as error:
            self.message.setText(str(error))
            return
        self._edit(f"signal {new.name}", lambda: changed)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Listen no more."""
        self._alive = False
        event.accept()


def _reason(error: ValidationError) -> str:
    return error.errors(include_url=False)[0]["msg"].removeprefix("Value error, ") + "."


def _muted(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("muted")
    return label
