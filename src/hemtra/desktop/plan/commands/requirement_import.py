"""Requirement lists into the sheet; what their columns hold is asked once where their names do not say."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QComboBox, QFrame, QGridLayout, QLabel, QWidget

from hemtra.core.errors import PlanError
from hemtra.core.plan.document import Characteristic, Plan
from hemtra.core.plan.requirements import (
    FIELDS,
    RequirementTable,
    guessed_columns,
    lacking,
    rows_of,
    with_requirements,
)
from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.widgets.dialogs import button_row
from hemtra.desktop.widgets.notifications import Notice, Notifications
from hemtra.storage.settings import Settings

Edit = Callable[[str, Callable[[], Plan]], bool]
MOST_REMEMBERED = 20
NOTHING = "not in the list"


class ColumnsForm(QFrame):
    """Prompts for each field which column holds it, with what stands there."""

    taken = Signal(object)
    """Column index of each field."""
    left = Signal()

    def __init__(self, table: RequirementTable, known: Mapping[str, int], parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("dialog")
        self._table = table
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 12, 16, 12)
        grid.setHorizontalSpacing(12)
        title = QLabel("What do the columns of this list hold?")
        title.setObjectName("heading")
        grid.addWidget(title, 0, 0, 1, 3)
        self.fields: dict[str, QComboBox] = {}
        self._samples: dict[str, QLabel] = {}
        for line, (field, words) in enumerate(FIELDS.items(), 1):
            box, sample = QComboBox(), QLabel()
            box.addItem(NOTHING, -1)
            for at, name in enumerate(table.header):
                box.addItem(name or f"column {at + 1}", at)
            box.setCurrentIndex(known.get(field, -1) + 1)
            box.setAccessibleName(f"Column that holds the {words}")
            box.currentIndexChanged.connect(self._show)
            sample.setObjectName("muted")
            label = QLabel(words)
            label.setBuddy(box)
            for place, widget in enumerate((label, box, sample)):
                grid.addWidget(widget, line, place)
            self.fields[field], self._samples[field] = box, sample
        self.trouble = QLabel()
        self.trouble.setObjectName("muted")
        self.trouble.setWordWrap(True)
        grid.addWidget(self.trouble, len(FIELDS) + 1, 0, 1, 3)
        grid.addLayout(button_row("Import", self._take, lambda: self.left.emit()), len(FIELDS) + 2, 0, 1, 3)
        grid.setColumnMinimumWidth(2, 220)
        self._show()

    @property
    def columns(self) -> dict[str, int]:
        """Chosen columns."""
        chosen = {field: box.currentData() for field, box in self.fields.items()}
        return {field: at for field, at in chosen.items() if at >= 0}

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter takes what is chosen, Escape leaves."""
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._take()
        else:
            super().keyPressEvent(event)

    def say(self, trouble: str) -> None:
        """Problems of the chosen columns."""
        self.trouble.setText(trouble)

    def _show(self) -> None:
        for field, box in self.fields.items():
            at = box.currentData()
            text = self._table.sample(at) if at >= 0 else ""
            room = self._samples[field].fontMetrics()
            self._samples[field].setText(room.elidedText(text, Qt.TextElideMode.ElideRight, 216))
        self.trouble.setText("")

    def _take(self) -> None:
        lacks = lacking(self.columns)
        if lacks == "lower":
            self.say("Choose a column for a limit, a deviation or the tolerance.")
        elif lacks:
            self.say(f"Choose the column that holds the {FIELDS[lacks]}.")
        else:
            self.taken.emit(self.columns)


class RequirementImport:
    """Takes lists into the sheet of the plan."""

    def __init__(
        self,
        bench: WorkspaceModel,
        parent: QWidget,
        notifications: Notifications,
        edit: Edit,
        settings: Settings,
        keep: Callable[[], None],
    ) -> None:
        self._bench, self._parent, self._notifications, self._edit = bench, parent, notifications, edit
        self._settings, self._keep = settings, keep
        self.form: ColumnsForm | None = None

    def take(self, found: RequirementTable | tuple[Characteristic, ...]) -> None:
        """Rows of a list, waiting to be bound where their balloon is new."""
        if isinstance(found, tuple):
            self._take_rows(lambda: found)
            return
        names = self._settings.columns.get(found.signature, {})
        known = {field: at for field, at in names.items() if field in FIELDS and at < len(found.header)}
        columns = known or guessed_columns(found)
        if lacking(columns):
            self._ask(found, columns)
        else:
            self._take_rows(lambda: rows_of(found, columns))

    def _take_rows(self, rows: Callable[[], tuple[Characteristic, ...]]) -> bool:
        plan = self._bench.document.plan
        done = self._edit("requirement list", lambda: with_requirements(plan, rows()))
        waiting = sum(row.step is None for row in self._bench.document.plan.sheet)
        if done and waiting and self._bench.document.teacher is not None:
            words = f"{waiting} rows wait for what they measure. Select one and click the part, or let the list"
            words += " be measured automatically."
            self._notifications.post(Notice(words, "info", (("Measure the list   M", "sheet.match"),)))
        return done

    def _ask(self, table: RequirementTable, known: Mapping[str, int]) -> None:
        self.leave()
        self.form = form = ColumnsForm(table, known, self._parent.window())

        def take(columns: dict[str, int]) -> None:
            try:
                rows = rows_of(table, columns)
            except PlanError as error:
                form.say(str(error))
                return
            if self._take_rows(lambda: rows):
                self._remember(table.signature, columns)
                self.leave()

        form.taken.connect(take)
        form.left.connect(self.leave)
        form.adjustSize()
        form.move(max((self._parent.window().width() - form.width()) // 2, 0), 60)
        form.show()
        next(iter(form.fields.values())).setFocus()

    def _remember(self, signature: str, columns: dict[str, int]) -> None:
        known = {signature: columns, **self._settings.columns}
        self._settings.columns = dict(list(known.items())[:MOST_REMEMBERED]) | {signature: columns}
        self._keep()

    def leave(self) -> None:
        """Forget about a list that is asked about."""
        if self.form is not None:
            self.form.hide()
            self.form.deleteLater()
            self.form = None
