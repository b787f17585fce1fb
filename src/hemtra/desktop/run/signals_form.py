"""The plan's signals, one row each, to type and to take out."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from pydantic import TypeAdapter, ValidationError
from PySide6.QtCore import Qt
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from hemtra.core.errors import PlanError
from hemtra.core.plan.document import Plan
from hemtra.core.plan.signals import OF_PART, OF_ROW, Analogue, AnySignal, Digital, invalid_signal_references
from hemtra.desktop.models.bench import WorkspaceModel

FIELDS: dict[str, tuple[tuple[str, str, int, str], ...]] = {
    "digital": (
        ("name", "", 130, "As on the wiring diagram."),
        ("line", "line", 34, "Number of the line on the I/O module, from 0."),
        ("when", "condition", 230, "An expression over the verdicts, as fails_7 or missing."),
        ("pulse", "pulse, ms", 48, "How long it stays on; 0 until the next part."),
        ("delay", "delay, mm", 48, "Travel after the part's trigger at which it switches."),
    ),
    "analogue": (
        ("name", "", 130, "As on the wiring diagram."),
        ("line", "output", 34, "Number of the output on the I/O module, from 0."),
        ("balloon", "of balloon", 48, "The characteristic that it gives."),
        ("low", "from", 60, "The value at 4 mA or 0 V."),
        ("high", "to", 60, "The value at 20 mA or 10 V."),
        ("full", "counts", 60, "Counts of the I/O module at 20 mA or 10 V."),
        ("fault", "fault", 48, "mA or V that say NOT MEASURED; empty for 3.6 mA (NAMUR NE 43), or 0 V."),
    ),
}
BOXES = (
    ("unknown", "on if not measured", "Also on if a value it uses was not measured."),
    ("inverted", "inverted", "Inverts the output."),
)
WHOLE = ("line", "balloon", "full")
TEXT, OPTIONAL = ("name", "when"), ("fault",)
_signal: TypeAdapter[AnySignal] = TypeAdapter(AnySignal)


class SignalsForm(QWidget):
    """Every change is an edit of the plan, which undo takes back."""

    def __init__(
        self, bench: WorkspaceModel, edit: Callable[[str, Callable[[], Plan]], bool], parent: QWidget
    ) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setProperty("manual", "signals.md")
        self.setWindowTitle("Signals")
        self.setObjectName("workspace")
        self._bench, self._edit = bench, edit
        self.rows: list[dict[str, QWidget]] = []
        self._built: tuple[AnySignal, ...] | None = None
        layout = QVBoxLayout(self)
        self._list = QVBoxLayout()
        layout.addLayout(self._list)
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
        layout.addWidget(words)
        layout.addStretch()
        self.resize(960, 300)
        bench.document.changed.connect(self.refresh)
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
        while self._list.count():
            item = self._list.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self.rows = []
        for number, signal in enumerate(signals):
            self._add_row(number, signal)

    def _add_row(self, number: int, signal: AnySignal) -> None:
        holder = QWidget()
        line = QHBoxLayout(holder)
        line.setContentsMargins(0, 0, 0, 0)
        fields: dict[str, QWidget] = {}
        for name, label, width, help_text in FIELDS[signal.kind]:
            value = getattr(signal, name)
            edit = QLineEdit(value if isinstance(value, str) else "" if value is None else f"{value:g}")
            edit.setFixedWidth(width)
            edit.setToolTip(help_text)
            edit.setAccessibleName(f"{signal.name}, {label or 'name'}")
            edit.editingFinished.connect(partial(self._typed, number, name, edit))
            if label:
                line.addWidget(QLabel(label))
            line.addWidget(edit)
            fields[name] = edit
        if isinstance(signal, Digital):
            for name, title, help_text in BOXES:
                box = QCheckBox(title)
                box.setChecked(getattr(signal, name))
                box.setToolTip(help_text)
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
        gone.clicked.connect(lambda _=False: self.remove(number))
        line.addWidget(gone)
        line.addStretch()
        self._list.addWidget(holder)
        self.rows.append(fields)

    def add_digital(self) -> None:
        """One more line."""
        self._add(Digital(name="Reject", line=self._free("digital")))

    def add_analogue(self) -> None:
        """One more output, of the first characteristic between its limits."""
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
            message = error.errors(include_url=False)[0]["msg"].removeprefix("Value error, ")
            self.message.setText(f"{old.name}: {message}.")
            return
        except PlanError as error:
            self.message.setText(str(error))
            return
        self._edit(f"signal {new.name}", lambda: changed)

    def closeEvent(self, event: QCloseEvent) -> None:
        """Listen no more."""
        self._alive = False
        event.accept()
