"""Position of the section and its averaging width, as fields above it."""

from __future__ import annotations

import math

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QLineEdit, QMenu, QPushButton, QWidget

from hemtra.core.plan.registry import kind_named
from hemtra.core.typed import number_typed
from hemtra.desktop.models.bench import Place, WorkspaceModel
from hemtra.desktop.widgets import units

WIDEST = 100.0
"""Widths over which a section can be averaged, mm."""
OVERSHOOT = 0.6
"""Part of its width by which a cut across a zone extends to either side of its middle."""


class SectionTools(QFrame):
    """Width, and lines to cut along."""

    zone_toggled = Signal(str)
    """The step on this section that is to look in a part of it only, or in all of it again."""

    def __init__(self, bench: WorkspaceModel, parent: QWidget) -> None:
        super().__init__(parent)
        self.bench = bench
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        self.buttons: dict[str, QPushButton] = {}
        for name, text, help_text in (
            (
                "zone",
                "limit to zone",
                "The selected step uses a rectangle of the section only, or all of it.",
            ),
            ("x", "along x", "Cut along x, through the middle of what is shown."),
            ("y", "along y", "Cut along travel, through the middle of what is shown."),
            ("across", "across", "Cut across the selected zone, along its width."),
            ("own", "as proposed", "Cut where the characteristic is measured."),
        ):
            button = QPushButton(text)
            button.setObjectName("action")
            button.setProperty("small", True)
            button.setToolTip(help_text)
            button.clicked.connect(lambda _=False, wanted=name: self._cut(wanted))
            layout.addWidget(button)
            self.buttons[name] = button
        self.menu_button = QPushButton("cut")
        self.menu_button.setObjectName("action")
        self.menu_button.setProperty("small", True)
        self.menu_button.setToolTip("Where to cut the part.")
        menu = QMenu(self.menu_button)
        menu.aboutToShow.connect(lambda: self._fill(menu))
        self.menu_button.setMenu(menu)
        layout.addWidget(self.menu_button)
        label = QLabel("mean over")
        label.setObjectName("muted")
        self.width_field = QLineEdit()
        self.width_field.setFixedSize(44, 20)
        self.width_field.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.width_field.setAccessibleName("Width over which the section is averaged, mm")
        self.width_field.setToolTip("Width in mm over which the section is averaged, square to it.")
        self.width_field.editingFinished.connect(self._typed)
        unit = QLabel("mm")
        unit.setObjectName("muted")
        self._averaging = (label, self.width_field, unit)
        for widget in self._averaging:
            layout.addWidget(widget)
        for changed in (bench.shown_changed, bench.selection_changed):
            changed.connect(self.refresh)
        self._room = 10_000
        self.refresh()

    def fit(self, room: int) -> None:
        """Take no more than so many pixels: the words beside the width go first, then buttons become a menu."""
        if room != self._room:
            self._room = room
            self.refresh()

    def _arrange(self) -> None:
        offered = [button for button in self.buttons.values() if not button.isHidden()]
        self.menu_button.hide()
        for leave_out in ((), self._averaging[::2], offered):
            for widget in leave_out:
                widget.hide()
            self.menu_button.setVisible(leave_out is offered and bool(offered))
            self.adjustSize()
            if self.sizeHint().width() <= self._room:
                return

    def _fill(self, menu: QMenu) -> None:
        menu.clear()
        for name, button in self.buttons.items():
            if name in self._offered:
                action = menu.addAction(button.text()[:1].upper() + button.text()[1:])
                action.triggered.connect(lambda _=False, wanted=name: self._cut(wanted))

    def refresh(self) -> None:
        """Offer what makes sense now."""
        shown, step_id = self.bench.shown, self.bench.selected_step
        across = shown is not None and shown.across_path
        whole = shown is not None and shown.index < 0 and not across
        self.setVisible(shown is not None and shown.line is not None)
        for part in (*(self.buttons[name] for name in ("x", "y")), *self._averaging):
            part.setVisible(whole)
        step = None if step_id is None else self.bench.document.shown.step(step_id)
        on_section = step is not None and bool(kind_named(step.kind).section_input)
        self.buttons["zone"].setVisible(on_section)
        cuts = step is not None and step.zone is not None and not on_section
        self.buttons["across"].setVisible(cuts and not across)
        self.buttons["own"].setVisible(self.bench.line is not None)
        self._offered = {name for name, button in self.buttons.items() if not button.isHidden()}
        if not self.width_field.hasFocus():
            self.width_field.setText(units.field(self.bench.section_width))
        self._arrange()

    def _typed(self) -> None:
        try:
            width = number_typed(self.width_field.text())
        except ValueError:
            width = -1.0
        if 0.0 < width <= WIDEST and width != self.bench.section_width:
            self.bench.section_width = width
            self.bench.line_changed.emit()
        self.width_field.setText(units.field(self.bench.section_width))

    def _cut(self, wanted: str) -> None:
        step_id = self.bench.selected_step
        if wanted == "zone" and step_id is not None:
            self.zone_toggled.emit(step_id)
        elif wanted == "own":
            self.bench.set_line(None)
        else:
            self.bench.set_line(self._across() if wanted == "across" else self._along(wanted))

    def _along(self, axis: str) -> tuple[Place, Place] | None:
        """From one end of the scan to the other, through the middle of the present line."""
        part, shown = self.bench.tray.current, self.bench.shown
        if part is None or shown is None or shown.line is None:
            return None
        (ax, ay), (bx, by) = shown.line
        x0, x1, y0, y1 = part.scan.data.extent
        x, y = (ax + bx) / 2, (ay + by) / 2
        return ((x0, y), (x1, y)) if axis == "x" else ((x, y0), (x, y1))

    def _across(self) -> tuple[Place, Place] | None:
        """Along the width of the selected zone and somewhat beyond."""
        step_id = self.bench.selected_step
        zone = None if step_id is None else self.bench.placed(self.bench.document.shown.step(step_id))
        if zone is None:
            return None
        reach, turn = zone.width * OVERSHOOT, math.radians(zone.rotation)
        dx, dy = reach * math.cos(turn), reach * math.sin(turn)
        return (zone.x - dx, zone.y - dy), (zone.x + dx, zone.y + dy)
