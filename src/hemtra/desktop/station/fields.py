"""The station's numbers to type."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.station.optics import CaptureBand
from hemtra.core.station.station import Station
from hemtra.core.station.travel import LinearEncoder, WheelEncoder
from hemtra.desktop.model.station_bench import StationBench
from hemtra.virtual.models import sensor_models

Read = Callable[[Station], Any]
Write = Callable[[Station, Any], Station]

EARLY = {
    "ignore": "ignored",
    "close": "cuts it short",
    "pad": "cuts, fills up",
    "share": "both share",
}


@dataclass(frozen=True)
class Field:
    """One number or choice: where it is read from and what it changes."""

    label: str
    unit: str
    help: str
    read: Read
    write: Write
    choices: dict[str, str] | None = None


def _part(name: str, key: str) -> tuple[Read, Write]:
    """Reading and writing of one field of one part of the station."""

    def read(station: Station) -> Any:
        return getattr(getattr(station, name), key)

    def write(station: Station, value: Any) -> Station:
        return station.with_part(name, **{key: value})

    return read, write


def _encoder(key: str) -> tuple[Read, Write]:
    def read(station: Station) -> Any:
        return getattr(station.travel.encoder, key, None)

    def write(station: Station, value: Any) -> Station:
        encoder = station.travel.encoder
        try:
            changed = type(encoder)(**{**encoder.model_dump(), key: value})
        except ValidationError as error:
            raise HemtraError(f"The encoder cannot have that: {error.errors()[0]['msg']}.") from None
        return station.with_part("travel", encoder=changed)

    return read, write


def _band(key: str) -> tuple[Read, Write]:
    def read(station: Station) -> Any:
        return None if station.sensor.band is None else getattr(station.sensor.band, key)

    def write(station: Station, value: Any) -> Station:
        band = station.sensor.band or CaptureBand(z_low=-1e6, z_high=1e6)
        try:
            return station.with_part("sensor", band=CaptureBand(**{**band.model_dump(), key: value}))
        except ValidationError:
            raise HemtraError("The capture band needs its upper limits above its lower ones.") from None

    return read, write


def fields_for(station: Station) -> tuple[tuple[str, tuple[Field, ...]], ...]:
    """The fields in groups; those of the encoder are those of its kind."""
    models = {name: name for name in sensor_models()}
    by_wheel = isinstance(station.travel.encoder, WheelEncoder)
    encoder = (
        (
            Field(
                "pulses per turn", "", "Of the encoder, per turn of its wheel.", *_encoder("pulses_per_turn")
            ),
            Field("circumference", "mm", "Of the measuring wheel.", *_encoder("circumference")),
        )
        if by_wheel
        else (Field("travel per pulse", "mm", "As measured, or as printed on it.", *_encoder("mm_per_pulse")),)
    )
    kinds = {"wheel": "wheel", "pulse": "mm per pulse"}
    return (
        (
            "Sensor",
            (
                Field("model", "", "Which simulated sensor hangs there.", *_part("sensor", "model"), models),
                Field("stand-off", "mm", "Laser above the part's top face.", *_part("sensor", "stand_off")),
                Field(
                    "exposure",
                    "×",
                    "Times nominal; longer is less noisy and slower.",
                    *_part("sensor", "exposure"),
                ),
                Field("roll", "°", "How the sensor hangs, about the belt's way.", *_part("sensor", "roll")),
                Field("pitch", "°", "How the sensor hangs, about the laser line.", *_part("sensor", "pitch")),
                Field("band from", "mm", "Lowest height that is delivered.", *_band("z_low")),
                Field("band to", "mm", "Highest height that is delivered.", *_band("z_high")),
            ),
        ),
        (
            "Travel",
            (
                Field("encoder by", "", "How its resolution is known.", _kind_of, _with_kind, kinds),
                *encoder,
                Field(
                    "edges", "", "Counts per pulse.", *_encoder("edges"), {"1": "× 1", "2": "× 2", "4": "× 4"}
                ),
                Field(
                    "counts per profile",
                    "",
                    "Counts from profile to profile.",
                    *_part("travel", "counts_per_profile"),
                ),
                Field("scan length", "mm", "Of one scan.", *_part("travel", "length")),
                Field("speed", "mm/s", "Of the belt.", *_part("travel", "speed")),
            ),
        ),
        (
            "Part-present eye",
            (
                Field("eye", "mm", "From the eye to the laser.", *_part("eye", "distance")),
                Field("lead", "mm", "A scan begins so far before the part.", *_part("eye", "lead")),
                Field("part spacing", "mm", "From part to part.", *_part("eye", "part_spacing")),
                Field("may wait", "", "Between eye and laser.", *_part("eye", "waiting")),
                Field("next too early", "", "What then happens.", *_part("eye", "early"), EARLY),
            ),
        ),
    )


def _kind_of(station: Station) -> str:
    return station.travel.encoder.by


def _with_kind(station: Station, kind: str) -> Station:
    """The same resolution, told in the other way."""
    encoder = station.travel.encoder
    mm_per_pulse = encoder.edges / encoder.counts_per_mm
    if kind == "pulse":
        changed: WheelEncoder | LinearEncoder = LinearEncoder(mm_per_pulse=mm_per_pulse, edges=encoder.edges)
    else:
        changed = WheelEncoder(pulses_per_turn=200.0 / mm_per_pulse, circumference=200.0, edges=encoder.edges)
    return station.with_part("travel", encoder=changed)


class StationFields(QFrame):
    """All fields in three columns."""

    edited = Signal(str, object)
    """What was changed, and the station with the change."""
    refused = Signal(object)
    measure_requested = Signal()
    level_requested = Signal()

    def __init__(self, bench: StationBench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Numbers of the station")
        self.bench = bench
        self.widgets: dict[str, QWidget] = {}
        self._built_for: object = None
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(14, 10, 14, 10)
        self._grid: QWidget | None = None
        self.measure = QPushButton("Measure the encoder resolution…")
        self.measure.setObjectName("action")
        self.measure.setToolTip("Over a known travel, instead of typing it from memory.")
        self.measure.clicked.connect(self.measure_requested)
        self.level = QPushButton("Level on the belt…")
        self.level.setObjectName("action")
        self.level.setToolTip("Takes the tilt of the mount out of every profile.")
        self.level.clicked.connect(self.level_requested)
        tasks = QHBoxLayout()
        tasks.addWidget(self.measure)
        tasks.addWidget(self.level)
        tasks.addStretch()
        self._layout.addStretch()
        self._layout.addLayout(tasks)
        bench.document.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the numbers that hold; what is being typed is left alone."""
        station = self.bench.station
        if self._built_for != station.travel.encoder.by:
            self._built_for = station.travel.encoder.by
            self._build(station)
        for _, fields in fields_for(station):
            for field in fields:
                widget, value = self.widgets[field.label], field.read(station)
                if isinstance(widget, QComboBox):
                    widget.setCurrentIndex(widget.findData(str(value)))
                elif isinstance(widget, QLineEdit) and not widget.hasFocus():
                    widget.setText("" if value is None or abs(value) >= 1e6 else f"{value:.6g}")

    def _build(self, station: Station) -> None:
        if self._grid is not None:
            self._grid.deleteLater()
        self.widgets = {}
        self._grid = QWidget()
        grid = QGridLayout(self._grid)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(4)
        for column, (title, fields) in enumerate(fields_for(station)):
            heading = QLabel(title)
            heading.setObjectName("heading")
            grid.addWidget(heading, 0, 4 * column, 1, 3)
            for line, field in enumerate(fields, start=1):
                label, unit = QLabel(field.label), QLabel(field.unit)
                label.setObjectName("muted")
                unit.setObjectName("muted")
                widget = self._widget(field)
                widget.setToolTip(field.help)
                widget.setAccessibleName(f"{title}, {field.label}")
                widget.setFixedWidth(104 if field.choices else 68)
                grid.addWidget(label, line, 4 * column)
                spans = 2 if field.choices else 1  # a choice has words instead of a unit
                grid.addWidget(widget, line, 4 * column + 1, 1, spans)
                if spans == 1:
                    grid.addWidget(unit, line, 4 * column + 2)
                self.widgets[field.label] = widget
            grid.setColumnMinimumWidth(4 * column + 3, 4)
        grid.setRowStretch(9, 1)
        self._layout.insertWidget(0, self._grid)

    def _widget(self, field: Field) -> QWidget:
        if field.choices is not None:
            box = QComboBox()
            for value, label in field.choices.items():
                box.addItem(label, value)
            box.activated.connect(lambda _=0: self._write(field, box.currentData()))
            return box
        edit = QLineEdit()
        edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        edit.editingFinished.connect(lambda: self._typed(field, edit))
        return edit

    def _typed(self, field: Field, edit: QLineEdit) -> None:
        known, text = field.read(self.bench.station), edit.text().strip().replace(",", ".")
        try:
            value = float(text)
        except ValueError:
            edit.setText("" if known is None else f"{known:.6g}")
            return
        if known is None or f"{value:.6g}" != f"{known:.6g}":
            self._write(field, int(value) if isinstance(known, int) and value == int(value) else value)

    def _write(self, field: Field, value: Any) -> None:
        if field.choices is not None and isinstance(field.read(self.bench.station), int):
            value = int(value)
        try:
            self.edited.emit(field.label, field.write(self.bench.document.value, value))
        except HemtraError as error:
            self.refused.emit(error)
            self.refresh()
