"""The list of the stretches along a path that fail, with place and length."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QListWidget, QListWidgetItem

from hemtra.desktop.models.bench import WorkspaceModel
from hemtra.desktop.models.strips import FailingStretch, troubles
from hemtra.desktop.widgets import units

LIST_ROWS = 3
"""Stretches listed at once; more are scrolled to."""


class StretchList(QListWidget):
    """The failing stretches along a path; choosing one goes there."""

    stretch_chosen = Signal(object)
    """A `FailingStretch`."""

    def __init__(self, bench: WorkspaceModel) -> None:
        super().__init__()
        self._bench = bench
        self.troubles: list[FailingStretch] = []
        self._listed: object = None
        self.setAccessibleName("Stretches along the path that fail; Enter goes there")
        self.itemClicked.connect(self._chosen)
        self.itemActivated.connect(self._chosen)
        bench.shown_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """List what fails along the path that is shown."""
        shown = self._bench.shown
        found = troubles(shown, self._bench.document.shown) if shown is not None else []
        state = found, units.way()
        if state != self._listed:
            self._listed, self.troubles = state, found
            self.clear()
            for trouble in found:
                end = trouble.start + trouble.length
                where = f"{trouble.start:.1f} to {end:.1f} mm, {trouble.length:.1f} long"
                item = QListWidgetItem(f"◆ {trouble.balloon}   {units.text(f'{trouble.text}   ·   {where}')}")
                item.setData(Qt.ItemDataRole.UserRole, trouble)
                item.setToolTip("Goes there on the stage.")
                self.addItem(item)
        self.setVisible(bool(found))
        rows = min(len(found), LIST_ROWS)
        self.setFixedHeight(rows * max(self.sizeHintForRow(0), 18) + 6)

    def _chosen(self, item: QListWidgetItem) -> None:
        self.stretch_chosen.emit(item.data(Qt.ItemDataRole.UserRole))
