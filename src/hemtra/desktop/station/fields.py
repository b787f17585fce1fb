"""The station's numbers to type: pages of fields that follow from what its documents say of themselves."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, get_args

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontMetrics, QResizeEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.form_fields import Setting
from hemtra.core.station.sensor_models import sensor_models
from hemtra.core.station.station import MOST_SENSORS, Station
from hemtra.core.station.travel import LinearEncoder, WheelEncoder
from hemtra.core.text import plain
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.guided_task import clear
from hemtra.desktop.widgets import theme, units

LINES = 9
"""Fields and headings below each other; what is longer continues in the next column."""
NARROWEST, SIDES = 474, 30
"""Minimum width of a page and its margin, pixels."""
NUMBER, ARROW = 68, 34
"""Width of a number's field, and margin of a choice beside its words, pixels."""
KIND = "encoder by"
KINDS = {"wheel": "wheel", "pulse": "mm per pulse"}


@dataclass(frozen=True)
class Field:
    """A field: its part of the station, its name there, and its form."""

    path: str
    name: str
    setting: Setting

    def write(self, station: Station, value: Any) -> Station:
        """The station with another value. Raises `HemtraError`."""
        if self.name == KIND:
            return with_encoder_by(station, str(value))
        return station.with_part(self.path, **{self.name: value})

    def may_be_empty(self, station: Station) -> bool:
        """Whether no number is a value, too."""
        if self.name == KIND:
            return False
        annotation = type(station.part(self.path)).model_fields[self.name].annotation
        return type(None) in get_args(annotation)


@dataclass(frozen=True)
class Page:
    """A page of fields in groups, and the guided tasks that belong to it."""

    title: str
    groups: tuple[tuple[str, str], ...]
    """Heading and part of the station."""
    tasks: tuple[str, ...] = ()


def pages_for(station: Station) -> tuple[Page, ...]:
    """All pages; each sensor has its own."""
    several = len(station.sensors) > 1
    align = ("align",) if several else ()
    sensors = tuple(
        Page(
            f"Sensor {k + 1}" if several else "Sensor",
            (
                ("Sensor", f"sensors.{k}"),
                ("Exposure", f"sensors.{k}.exposure"),
                ("Capture band", f"sensors.{k}.band"),
                ("Mounting", f"sensors.{k}.hang"),
            ),
            ("exposure", "level", *align, "correct"),
        )
        for k in range(len(station.sensors))
    )
    travel = Page(
        "Travel",
        (
            ("Travel", "travel"),
            ("Encoder", "travel.encoder"),
            ("Line", "line"),
            ("Uncertainty of scales", "scales"),
        ),
        ("encoder",),
    )
    run = (("Watched folder", "incoming"), ("Scans of a run", "keeping"))
    outside = Page("Outputs and storage", (("I/O module, Modbus TCP", "io"), *run))
    return (*sensors, travel, Page("Trigger", (("Trigger", "trigger"),)), outside)


def fields_of(station: Station, path: str) -> tuple[Field, ...]:
    """The fields of one part of the station that matter as it stands."""
    if path == "travel.encoder" and station.travel.clock == "internal":
        return ()
    fields = [Field(path, name, setting) for name, setting in station.part(path).shown_settings().items()]
    if path == "travel.encoder":
        kind = Setting(KIND, "How its resolution is known.", "", KINDS, station.travel.encoder.by)
        fields.insert(0, Field(path, KIND, kind))
    return tuple(fields)


def with_encoder_by(station: Station, kind: str) -> Station:
    """The same resolution, stated the other way."""
    encoder = station.travel.encoder
    mm_per_pulse = encoder.edges / encoder.counts_per_mm
    if kind == "pulse":
        changed: WheelEncoder | LinearEncoder = LinearEncoder(
            mm_per_pulse=mm_per_pulse, counting=encoder.counting
        )
    else:
        changed = WheelEncoder(
            pulses_per_turn=200.0 / mm_per_pulse, circumference=200.0, counting=encoder.counting
        )
    return station.with_part("travel", encoder=changed)


def placed(groups: list[tuple[str, tuple[Field, ...]]], lines: int) -> Iterator[tuple[int, int, Field | str]]:
    """Column and line of each heading and field, with a maximum number of lines per column."""
    column, line = 0, 0
    for title, fields in groups:
        if line and line + 1 + len(fields) > lines:
            column, line = column + 1, 0
        if fields:
            yield column, line, title
            line += 1
        for field in fields:
            if line == lines:
                column, line = column + 1, 0 if len(groups) > 1 else 1
            yield column, line, field
            line += 1


TASK_TITLES = {
    "exposure": ("Set the exposure…", "Until the part has the target intensity."),
    "level": ("Level…", "Takes the tilt of the mount out of every profile."),
    "align": ("Align the sensors…", "Brings all of them into one frame with a target."),
    "correct": ("Correct the scales…", "By two known heights, a known distance or diameter."),
    "encoder": ("Measure the encoder resolution…", "Over a known travel, instead of typing it from memory."),
}


class StationFields(QFrame):
    """Fields, one page at a time."""

    edited = Signal(str, object)
    """Name of the change, and the changed station."""
    refused = Signal(object)
    task_requested = Signal(str)

    def __init__(self, bench: StationBench, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setAccessibleName("Numbers of the station")
        self.bench = bench
        self.widgets: dict[str, QWidget] = {}
        self.tabs: dict[str, QPushButton] = {}
        self.tasks: dict[str, QPushButton] = {}
        self.page = 0
        self._fields: dict[str, Field] = {}
        self._built_for: object = None
        self._tabs = QHBoxLayout()
        self._tabs.setSpacing(4)
        self._lines = LINES
        """Fields and headings below each other."""
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QScrollArea.Shape.NoFrame)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMinimumWidth(NARROWEST)
        self._links = QHBoxLayout()
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(14, 8, 14, 8)
        self._layout.setSpacing(6)
        self._layout.addLayout(self._tabs)
        self._layout.addWidget(self._area, 1)
        self._layout.addLayout(self._links)
        bench.document.changed.connect(self.refresh)
        bench.unit_changed.connect(self.refresh)
        self.refresh()

    def show_page(self, page: int) -> None:
        """Turn to another page; that of a sensor also chooses it."""
        self.page = page
        if page < len(self.bench.station.sensors):
            self.bench.choose(page)
        self.refresh()

    def show_field(self, label: str) -> QWidget:
        """Turn to the page of a field and answer with it."""
        for number, page in enumerate(pages_for(self.bench.station)):
            for _, path in page.groups:
                if any(field.setting.label == label for field in fields_of(self.bench.station, path)):
                    if label not in self.widgets or page is not pages_for(self.bench.station)[self.page]:
                        self.show_page(number)
                    return self.widgets[label]
        raise KeyError(label)

    def refresh(self) -> None:
        """Show the numbers that hold; what is being typed is left alone."""
        station, unit = self.bench.station, self.bench.unit
        pages = pages_for(station)
        self.page = min(self.page, len(pages) - 1)
        page = pages[self.page]
        groups = [(title, fields_of(station, path)) for title, path in page.groups]
        names = tuple((title, tuple(field.name for field in fields)) for title, fields in groups)
        self._lines = self._fitting(groups)
        built = (tuple(p.title for p in pages), self.page, unit.name, names, self._lines)
        rebuilt = built != self._built_for
        if rebuilt:
            focused = next((label for label, widget in self.widgets.items() if widget.hasFocus()), "")
            self._built_for = built
            self._build(pages, groups)
            if focused in self.widgets:
                self.widgets[focused].setFocus()
        for _, fields in groups:
            for field in fields:
                self._fields[field.setting.label] = field
                widget, value = self.widgets[field.setting.label], field.setting.value
                if isinstance(widget, QComboBox):
                    widget.setCurrentIndex(widget.findData(str(value)))
                elif isinstance(widget, QLineEdit) and (rebuilt or not widget.hasFocus()):
                    widget.setText(self._text(field))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Arrange the fields in as many columns as fit."""
        super().resizeEvent(event)
        self.refresh()

    def _fitting(self, groups: list[tuple[str, tuple[Field, ...]]]) -> int:
        """The fewest lines in which all fields stand in columns beside each other that fit."""
        total = sum(len(fields) + 1 for _, fields in groups)
        usual = LINES
        if len(groups) == 1 and len(groups[0][1]) >= LINES:
            usual = len(groups[0][1]) // 2 + 1  # one long group in two even columns
        for lines in range(usual, total + 1):
            columns: dict[int, list[Field]] = {}
            for column, _, field in placed(groups, lines):
                if isinstance(field, Field):
                    columns.setdefault(column, []).append(field)
            if sum(map(self._width_of_column, columns.values())) <= self.width() - SIDES:
                return lines
        return total

    def _width_of_column(self, fields: list[Field]) -> int:
        metrics, unit = QFontMetrics(theme.font()), self.bench.unit
        labels = max(metrics.horizontalAdvance(field.setting.label) for field in fields)
        units = max(metrics.horizontalAdvance(unit.of(field.setting.unit)) for field in fields)
        numbers = [self._width_of(f) for f in fields if not self._choices(f)]
        choices = [self._width_of(f) for f in fields if self._choices(f)]
        return labels + max(max(numbers, default=0) + units + 8, *choices, 0) + 28

    def _choices(self, field: Field) -> dict[Any, str]:
        """Choices, with their words."""
        if field.name == "model":
            return {name: name for name in sensor_models()}
        return dict(field.setting.choices or {})

    def _width_of(self, field: Field) -> int:
        """Width of a field, pixels."""
        metrics, choices = QFontMetrics(theme.font()), self._choices(field)
        if choices:
            return max(metrics.horizontalAdvance(text) for text in choices.values()) + ARROW
        return 122 if isinstance(field.setting.value, str) else NUMBER

    def _text(self, field: Field) -> str:
        value = field.setting.value
        if value is None or isinstance(value, str):
            return value or ""
        factor = self.bench.unit.factor(field.setting.unit)
        return units.signed(f"{value:.6g}" if factor == 1.0 else f"{value / factor:.5g}")

    def _build(self, pages: tuple[Page, ...], groups: list[tuple[str, tuple[Field, ...]]]) -> None:
        for layout in (self._tabs, self._links):
            clear(layout)
        self.tabs, self.tasks = {}, {}
        for number, page in enumerate(pages):
            tab = QPushButton(page.title)
            tab.setObjectName("pageTab")
            tab.setCheckable(True)
            tab.setChecked(number == self.page)
            tab.clicked.connect(lambda _=False, to=number: self.show_page(to))
            self._tabs.addWidget(tab)
            self.tabs[page.title] = tab
        self._tabs.addStretch()
        sensors = len(self.bench.station.sensors)
        for text, help_text, change, possible in (
            ("+ sensor", "Adds a sensor beside the others.", self._add_sensor, sensors < MOST_SENSORS),
            ("− sensor", "Take the chosen sensor away.", self._remove_sensor, sensors > 1),
        ):
            button = QToolButton()
            button.setText(text)
            button.setObjectName("action")
            button.setToolTip(help_text)
            button.setVisible(possible)
            button.clicked.connect(change)
            self._tabs.addWidget(button)
            self.tabs[text] = button  # type: ignore[assignment]
        for name in pages[self.page].tasks:
            title, help_text = TASK_TITLES[name]
            link = QPushButton(title)
            link.setObjectName("action")
            link.setToolTip(help_text)
            link.clicked.connect(lambda _=False, task=name: self.task_requested.emit(task))
            self._links.addWidget(link)
            self.tasks[name] = link
        self._links.addStretch()
        self._build_fields(groups)

    def _build_fields(self, groups: list[tuple[str, tuple[Field, ...]]]) -> None:
        self.widgets, self._fields = {}, {}
        body = QWidget()
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(3)
        columns = 0
        for column, line, field in placed(groups, self._lines):
            columns = max(columns, column + 1)
            if isinstance(field, Field):
                title = next(title for title, fields in groups if field in fields)
                self._place(grid, field, title, line, column)
            else:
                heading = QLabel(field)
                heading.setObjectName("heading")
                grid.addWidget(heading, line, 4 * column, 1, 3)
        for k in range(columns):
            grid.setColumnMinimumWidth(4 * k + 3, 6)
        grid.setColumnStretch(4 * columns, 1)
        grid.setRowStretch(self._lines, 1)
        self._area.setWidget(body)

    def _place(self, grid: QGridLayout, field: Field, title: str, line: int, column: int) -> None:
        setting = field.setting
        label, unit = QLabel(setting.label), QLabel(self.bench.unit.of(setting.unit))
        label.setObjectName("muted")
        unit.setObjectName("muted")
        widget = self._widget(field)
        widget.setToolTip(setting.help)
        widget.setAccessibleName(f"{title}, {setting.label}")
        is_choice = isinstance(widget, QComboBox)
        widget.setFixedWidth(self._width_of(field))
        widget.setFixedHeight(24)
        grid.addWidget(label, line, 4 * column)
        grid.addWidget(widget, line, 4 * column + 1, 1, 2 if is_choice else 1)
        if not is_choice:
            grid.addWidget(unit, line, 4 * column + 2)
        self.widgets[setting.label] = widget

    def _widget(self, field: Field) -> QWidget:
        choices, label = self._choices(field), field.setting.label
        if choices:
            box = QComboBox()
            for value, text in choices.items():
                box.addItem(text, value)
            box.activated.connect(lambda _=0: self._chosen(label, box))
            return box
        edit = QLineEdit()
        edit.setAlignment(Qt.AlignmentFlag.AlignRight)
        edit.editingFinished.connect(lambda: self._typed(label, edit))
        return edit

    def _chosen(self, label: str, box: QComboBox) -> None:
        field, value = self._fields[label], str(box.currentData())
        self._write(field, value == "True" if isinstance(field.setting.value, bool) else value)

    def _typed(self, label: str, edit: QLineEdit) -> None:
        field, text = self._fields[label], edit.text().strip().replace(",", ".")
        if text == self._text(field):
            return
        if isinstance(field.setting.value, str):
            self._write(field, text)
            return
        if not text and field.may_be_empty(self.bench.station):
            self._write(field, None)
            return
        try:
            value = float(text) * self.bench.unit.factor(field.setting.unit)
        except ValueError:
            value = math.nan
        if not math.isfinite(value):
            edit.setText(self._text(field))
            stays = f"“{plain(text, 40)}” is not a number; {field.setting.label} stays at {self._text(field)}."
            self.refused.emit(HemtraError(stays))
            return
        whole = isinstance(field.setting.value, int) and value == int(value)
        self._write(field, int(value) if whole else value)

    def _write(self, field: Field, value: Any) -> None:
        try:
            self.edited.emit(field.setting.label, field.write(self.bench.document.value, value))
        except HemtraError as error:
            self.refused.emit(error)
        self.refresh()

    def _add_sensor(self) -> None:
        """Add a sensor like the chosen one, beside it so that their views overlap."""
        station, bench = self.bench.document.value, self.bench
        rightmost = max(station.sensors, key=lambda sensor: sensor.x)
        width = bench.model.width_at(rightmost.stand_off)
        left = rightmost.x - width * 0.4 if len(station.sensors) == 1 else None
        sensors = station.sensors
        if left is not None:
            sensors = (sensors[0].model_copy(update={"x": round(left)}),)
        added = rightmost.model_copy(
            update={"x": round(max(s.x for s in sensors) + width * 0.8), "reference": None}
        )
        self.edited.emit("add sensor", station.model_copy(update={"sensors": (*sensors, added)}))

    def _remove_sensor(self) -> None:
        station, gone = self.bench.document.value, self.bench.sensor
        left = station.sensors[:gone] + station.sensors[gone + 1 :]
        if len(left) == 1:
            left = (left[0].model_copy(update={"x": 0.0}),)
        self.edited.emit("one sensor less", station.model_copy(update={"sensors": left}))
