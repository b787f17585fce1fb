"""A zone's place and size as numbers to type."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from hemtra.core.plan.document import Plan, Step
from hemtra.core.typed import number_typed
from hemtra.core.zones.zone import AnyZone
from hemtra.desktop.widgets import units

NUMBERS = (
    ("x", "x", "Centre across, in mm."),
    ("y", "y", "Centre along travel, in mm."),
    ("width", "w", "Width in mm."),
    ("height", "h", "Height in mm, along travel while it is not turned."),
    ("rotation", "°", "Turned counter-clockwise, in degrees."),
)
BAND = (
    (
        "low",
        "heights from",
        "Heights below this are left out, in mm; empty for none.",
    ),
    ("high", "to", "Heights above this are left out, in mm; empty for none."),
)


class ZoneNumbers(QWidget):
    """Two rows of fields; what is being typed is left alone while the zone is dragged."""

    typed = Signal(str, float)
    """Field of the zone, and its number."""
    band_typed = Signal(object)
    """Its height band, or None."""

    def __init__(self, step_name: str) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        self.fields: dict[str, QLineEdit] = {}
        self._zone: AnyZone | None = None
        self._base = ""
        place, band = QHBoxLayout(), QHBoxLayout()
        place.addWidget(_sign("zone"))
        for name, sign, help_text in NUMBERS:
            edit = self.fields[name] = _field(f"{step_name}, zone {name}", help_text)
            edit.setFixedWidth(58 if name in ("x", "y") else 46)
            edit.editingFinished.connect(lambda name=name: self._on_typed(name))
            place.addWidget(_sign(sign))
            place.addWidget(edit)
        self.band: dict[str, QLineEdit] = {}
        for name, sign, help_text in BAND:
            edit = self.band[name] = _field(f"{step_name}, height band {name}", help_text)
            edit.setFixedWidth(62)
            edit.setPlaceholderText("any")
            edit.editingFinished.connect(self._on_band)
            band.addWidget(_sign(sign))
            band.addWidget(edit)
        for line in (place, band):
            line.setSpacing(4)
            line.addStretch()
            layout.addLayout(line)
        self.counted_from = _sign("")
        self.counted_from.setWordWrap(True)
        layout.addWidget(self.counted_from)

    def show_zone(self, zone: AnyZone, base: str) -> None:
        """Show a zone's numbers; base: what the heights of its band count from."""
        self._zone, self._base = zone, base
        for name, edit in self.fields.items():
            if not edit.hasFocus():
                edit.setText(units.field(getattr(zone, name)))
        for name, edit in self.band.items():
            if not edit.hasFocus():
                end = None if zone.band is None else getattr(zone.band, name)
                edit.setText("" if end is None else units.field(end))
        self.counted_from.setText(f"These heights count from {base}.")
        self.counted_from.setVisible(zone.band is not None)

    def _on_band(self) -> None:
        """Set or clear the ends of the band: one or both make a band, none removes it."""
        assert self._zone is not None
        texts = [edit.text().strip() for edit in self.band.values()]
        old = self._zone.band
        try:
            low, high = (number_typed(text) if text else None for text in texts)
        except ValueError:
            self.show_zone(self._zone, self._base)
            return
        if (low, high) != ((None, None) if old is None else (old.low, old.high)):
            self.band_typed.emit(None if low is None and high is None else (low, high))

    def _on_typed(self, name: str) -> None:
        assert self._zone is not None
        edit, now = self.fields[name], units.field(getattr(self._zone, name))
        try:
            value = number_typed(edit.text(), "°" if name == "rotation" else "mm")
        except ValueError:
            edit.setText(now)
            return
        if units.field(value) != now:
            self.typed.emit(name, value)
            # a number that was refused does not stay
            edit.setText(units.field(getattr(self._zone, name)))


def heights_from(plan: Plan, step: Step) -> str:
    """Height origin of a zone's band, in words."""
    names = {each.id: each.name for each in plan.steps}
    level, tilt = (names.get(anchor or "") for anchor in (step.follow.z, step.follow.tilt))
    if level is None and tilt is None:
        return "z = 0 of the station"
    if level is None or tilt is None or level == tilt:
        return level or f"z = 0 of the station, tilted with {tilt}"
    return f"{level}, tilted with {tilt}"


def _sign(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("muted")
    return label


def _field(name: str, help_text: str) -> QLineEdit:
    edit = QLineEdit()
    edit.setAlignment(Qt.AlignmentFlag.AlignRight)
    edit.setToolTip(help_text)
    edit.setAccessibleName(name)
    return edit
