"""Bar of remedies below the section, for a selected characteristic that is not measured."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QWidget

from hemtra.core.plan.limits import Verdict
from hemtra.core.proposals.mends import Mend, mends
from hemtra.desktop.models.bench import Shown, WorkspaceModel
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.said_bar import SaidBar


class MendBar(SaidBar):
    """The reason, and the likeliest remedies as buttons; not shown with a value."""

    wanted = Signal(object)
    """A `Mend`."""

    def __init__(self, bench: WorkspaceModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("What may help where nothing was measured")
        self._bench = bench
        self._for: tuple[Shown | None, int | None] = (None, None)
        self._quiet = False
        self.buttons: list[QPushButton] = []
        for changed in (bench.shown_changed, bench.selection_changed):
            changed.connect(self.refresh)
        self.hide()

    def keep_quiet(self, quiet: bool) -> None:
        """Whether something else says what to do about the selected characteristic."""
        self._quiet, self._for = quiet, (None, None)
        self.refresh()

    def refresh(self) -> None:
        """Show the remedies for the selected characteristic."""
        bench, part = self._bench, self._bench.tray.current
        # the very same, since what is shown holds maps that do not compare
        same = bench.shown is self._for[0] and bench.balloon == self._for[1]
        if same and self.isVisibleTo(self):
            return
        self._for = (bench.shown, bench.balloon)
        row, shown = bench.row, bench.shown
        evaluated = None
        if row is not None and shown is not None:
            evaluated = next((c for c in shown.result.characteristics if c.balloon == row.balloon), None)
        measured = evaluated is None or evaluated.verdict is not Verdict.NOT_MEASURED
        if self._quiet or measured or evaluated is None or part is None or shown is None:
            self.hide()
            return
        found = mends(bench.document.plan, part.engine, shown.result, evaluated)
        self.text.setText(f"{evaluated.balloon} is not measured: {units.text(evaluated.reason)}.")
        for old in self.buttons:
            self.remove(old)
        self.buttons = [self._button(mend) for mend in found]
        self.show()

    def _button(self, mend: Mend) -> QPushButton:
        button = QPushButton(mend.words)
        button.setToolTip(mend.why or mend.words)
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        button.clicked.connect(partial(self.wanted.emit, mend))
        self.add(button)
        return button
