"""A zone's place and size as numbers to type."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from hemtra.core.typed import number_typed
from hemtra.core.zones.zone import AnyZone

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
        "Heights below this are left out, in mm above what the zone follows; empty for none.",
    ),
    ("high", "to", "Heights above this are left out, in mm above what the zone follows; empty for none."),
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
        texts = [edit.text().strip() for edit in self.band.values()]
        old = self._zone.band
        if not any(texts):
            if old is not None:
                self.band_typed.emit(None)
            return
        if not all(texts):
            return
        try:
            low, high = (number_typed(text) for text in texts)
        except ValueError:
            self.show_zone(self._zone)
            return
        if old is None or (low, high) != (old.low, old.high):
            self.band_typed.emit((low, high))

    def _on_typed(self, name: str) -> None:
        assert self._zone is not None
        edit, now = self.fields[name], f"{getattr(self._zone, name):.6g}"
        try:
            value = number_typed(edit.text(), "°" if name == "rotation" else "mm")
        except ValueError:
            edit.setText(now)
            return
        if f"{value:.6g}" != now:
            self.typed.emit(name, value)
            # a number that was refused does not stay
            edit.setText(f"{getattr(self._zone, name):.6g}")


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
