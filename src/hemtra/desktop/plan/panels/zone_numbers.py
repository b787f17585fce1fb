"""A zone's place and size as numbers to type."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QWidget

from hemtra.core.zones.zone import AnyZone

NUMBERS = (
    ("x", "x", "Centre across, in mm."),
    ("y", "y", "Centre along travel, in mm."),
    ("width", "w", "Width in mm."),
    ("height", "h", "Height in mm, along travel while it is not turned."),
    ("rotation", "°", "Turned counter-clockwise, in degrees."),
)
BAND = (
    ("low", "z", "Heights below this are left out, in mm above what the zone follows; empty for none."),
    ("high", "to", "Heights above this are left out, in mm above what the zone follows; empty for none."),
)


class ZoneNumbers(QWidget):
    """One row of fields; what is being typed is left alone while the zone is dragged."""

    typed = Signal(str, float)
    """Field of the zone, and its number."""
    band_typed = Signal(object)
    """Its height band, or None."""

    def __init__(self, step_name: str) -> None:
        super().__init__()
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(3)
        self.fields: dict[str, QLineEdit] = {}
        self._zone: AnyZone | None = None
        for name, sign, help_text in NUMBERS:
            label, edit = QLabel(sign), QLineEdit()
            label.setObjectName("muted")
            edit.setFixedSize(62 if name in ("x", "y") else 48, 22)
            edit.setAlignment(Qt.AlignmentFlag.AlignRight)
            edit.setToolTip(help_text)
            edit.setAccessibleName(f"{step_name}, zone {name}")
            edit.editingFinished.connect(lambda name=name: self._on_typed(name))
            layout.addWidget(label)
            layout.addWidget(edit)
            self.fields[name] = edit
        self.band: dict[str, QLineEdit] = {}
        for name, sign, help_text in BAND:
            label, edit = QLabel(sign), QLineEdit()
            label.setObjectName("muted")
            edit.setFixedSize(38, 22)
            edit.setPlaceholderText("–")
            edit.setAlignment(Qt.AlignmentFlag.AlignRight)
            edit.setToolTip(help_text)
            edit.setAccessibleName(f"{step_name}, height band {name}")
            edit.editingFinished.connect(self._on_band)
            layout.addWidget(label)
            layout.addWidget(edit)
            self.band[name] = edit
        layout.addStretch()

    def show_zone(self, zone: AnyZone) -> None:
        """Show a zone's numbers."""
        self._zone = zone
        for name, edit in self.fields.items():
            if not edit.hasFocus():
                edit.setText(f"{getattr(zone, name):.6g}")
        for name, edit in self.band.items():
            if not edit.hasFocus():
                edit.setText("" if zone.band is None else f"{getattr(zone.band, name):.6g}")

    def _on_band(self) -> None:
        """Both ends make a band, none takes it off; one alone waits for the other."""
        assert self._zone is not None
        texts = [edit.text().strip().replace(",", ".") for edit in self.band.values()]
        old = self._zone.band
        if not any(texts):
            if old is not None:
                self.band_typed.emit(None)
            return
        if not all(texts):
            return
        try:
            low, high = (float(text) for text in texts)
        except ValueError:
            self.show_zone(self._zone)
            return
        if old is None or (low, high) != (old.low, old.high):
            self.band_typed.emit((low, high))

    def _on_typed(self, name: str) -> None:
        assert self._zone is not None
        edit, now = self.fields[name], f"{getattr(self._zone, name):.6g}"
        try:
            value = float(edit.text().strip().replace(",", "."))
        except ValueError:
            edit.setText(now)
            return
        if f"{value:.6g}" != now:
            self.typed.emit(name, value)
            # a number that was refused does not stay
            edit.setText(f"{getattr(self._zone, name):.6g}")
