"""Asks once for what a scan of another program does not say, with a picture of what comes of it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QImage, QKeyEvent, QPainter, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from hemtra.core.errors import HemtraError
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.importing import UNITS, Foreign, ImportSettings, PointCloud, Raster, guessed, map_of
from hemtra.core.text import percent
from hemtra.desktop.widgets import theme, units
from hemtra.desktop.widgets.dialogs import button_row

NUMBERS = {
    "dx": ("column spacing, mm", "Distance of neighbouring points along the laser line."),
    "dy": ("row spacing, mm", "Distance of neighbouring profiles."),
    "scale": ("scale", "A stored number times this is a height in the unit."),
    "offset": ("offset, mm", "Added to every height."),
    "no_data": ("no-data value", "The number that stands for a missing height; empty for none."),
}
OPTIONAL = ("no_data",)
SIDE, FEW = 300, 60_000
"""Longer side of the picture, pixels, and number of a cloud's points in it."""
BAR, TALL = 4, 44
"""Width of a bar of the histogram, and largest height, pixels."""
DARK = 24
"""Grey of the lowest height; what holds no data is black."""


class ImportForm(QDialog):
    """Edit the file's information and the proposals; the picture follows."""

    wanted = Signal(object, bool)
    """The settings, and whether they hold for all files of the folder."""

    def __init__(self, foreign: Foreign, path: Path, parent: QWidget, page: int | None = None) -> None:
        """page: the one that was chosen of a file with several."""
        super().__init__(parent)
        self._page = page
        self.setObjectName("dialog")
        self.setWindowTitle(f"Import {path.name}")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._foreign = _few(foreign)
        proposed = guessed(foreign)
        is_image = isinstance(foreign, Raster)
        self.fields = {name: QLineEdit() for name in NUMBERS if is_image or name != "no_data"}
        self.unit, self.rows, self.take = QComboBox(), QComboBox(), QComboBox()
        for box, name in (
            (self.unit, "unit of heights"),
            (self.rows, "first row"),
            (self.take, "height of a cell"),
        ):
            box.setAccessibleName(name)
        for unit in UNITS:
            self.unit.addItem("µm" if unit == "um" else unit, unit)
        self.rows.addItems(["first", "last"])
        self.take.addItems(["mean", "highest", "median"])
        self.level, self.folder = (
            QCheckBox("level the largest plane"),
            QCheckBox(f"use for all {path.suffix} files of this folder"),
        )
        self.folder.setChecked(True)
        self.picture, self.heights, self.facts = QLabel(), QLabel(), QLabel()
        self.facts.setWordWrap(True)
        self._show(proposed)
        self._lay_out(path, is_image)
        for field in self.fields.values():
            field.textChanged.connect(self._preview)
        for box in (self.unit, self.rows, self.take):
            box.currentIndexChanged.connect(self._preview)
        self.level.toggled.connect(self._preview)
        self._preview()

    def _show(self, proposed: ImportSettings) -> None:
        for name, field in self.fields.items():
            value = getattr(proposed, name)
            field.setText("" if value is None else units.field(value))
        self.unit.setCurrentIndex(self.unit.findData(proposed.unit or "mm"))
        self.rows.setCurrentText(proposed.rows or "first")

    def _lay_out(self, path: Path, is_image: bool) -> None:
        form = QFormLayout()
        title = QLabel(f"{path.name} does not say everything; check what is proposed.")
        title.setWordWrap(True)
        form.addRow(title)
        form.addRow("unit of heights", self.unit)
        for name, field in self.fields.items():
            label, help_text = NUMBERS[name]
            field.setToolTip(help_text)
            field.setAccessibleName(label)
            field.setAlignment(Qt.AlignmentFlag.AlignRight)
            field.returnPressed.connect(self._agree)
            form.addRow(label, field)
        if is_image:
            form.addRow("first row is the profile", self.rows)
        else:
            form.addRow("height of a cell", self.take)
            form.addRow(self.level)
        form.addRow(self.folder)
        form.addRow(button_row("Import", self._agree, self.close))
        beside = QVBoxLayout()
        self.picture.setMinimumSize(SIDE, SIDE // 2)
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.picture.setAccessibleName("Preview of the heights")
        beside.addWidget(self.picture, 1)
        self.heights.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.heights.setAccessibleName("How often each height occurs")
        beside.addWidget(self.heights)
        beside.addWidget(self.facts)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(16, 14, 16, 14)
        layout.setSpacing(16)
        layout.addLayout(form, 1)
        layout.addLayout(beside, 1)

    def settings(self) -> ImportSettings:
        """Settings as typed. Raises `HemtraError` that names a field with an invalid number."""
        given: dict[str, Any] = {"unit": self.unit.currentData(), "page": self._page}
        for name, field in self.fields.items():
            text = field.text().strip().replace(",", ".")
            if not text and name in OPTIONAL:
                continue
            try:
                given[name] = float(text)
                ImportSettings(**{name: given[name]})
            except ValueError:
                raise HemtraError(f"{NUMBERS[name][0]}: “{field.text()}” does not hold") from None
        if isinstance(self._foreign, Raster):
            given["rows"] = self.rows.currentText()
        else:
            given |= {"take": self.take.currentText(), "level": self.level.isChecked()}
        return ImportSettings(**given)

    def _preview(self) -> None:
        """Show what comes of what is typed, or what is wrong with it."""
        try:
            asked = self.settings()
            data = map_of(self._foreign, _coarser(self._foreign, asked))
            self.picture.setPixmap(_picture(data))
            self.heights.setPixmap(_histogram(data))
            low, high = float(np.nanmin(data.z)), float(np.nanmax(data.z))
            held = percent(data.data_share)
            wide, long = data.extent[1] - data.extent[0], data.extent[3] - data.extent[2]
            spans = f"heights {low:.4g} … {high:.4g} mm; {wide:.4g} × {long:.4g} mm"
            self.facts.setText(units.signed(f"{spans}; {held} with data"))
        except (HemtraError, ValueError) as error:
            self.picture.clear()
            self.heights.clear()
            self.facts.setText(f"{error}.")

    def _agree(self) -> None:
        try:
            settings = self.settings()
        except HemtraError as error:
            self.facts.setText(f"{error}.")
            return
        self.wanted.emit(settings, self.folder.isChecked())
        self.close()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Escape leaves; Enter in a field imports."""
        if event.key() == Qt.Key.Key_Escape:
            self.close()


def _few(foreign: Foreign) -> Foreign:
    """Enough of it for a picture."""
    if isinstance(foreign, PointCloud):
        step = max(1, len(foreign.points) // FEW)
        return PointCloud(foreign.points[::step], foreign.says)
    return replace(foreign, intensity=None)


def _coarser(foreign: Foreign, asked: ImportSettings) -> ImportSettings:
    """The same with cells so large that a few points fill them."""
    if isinstance(foreign, Raster):
        return asked
    scale = UNITS[asked.unit or "mm"]
    extent = float(np.ptp(foreign.points[:, :2], axis=0).max()) * scale
    cell = max(2.0 * extent / np.sqrt(max(len(foreign.points), 1)), 1e-6)
    return asked.model_copy(update={"dx": cell, "dy": cell})


def _histogram(data: HeightMap) -> QPixmap:
    """Histogram of the heights, the lowest on the left."""
    known = data.z[~np.isnan(data.z)]
    counts, _ = np.histogram(known, SIDE // BAR)
    tall = np.sqrt(counts / max(int(counts.max()), 1)) * TALL
    pixmap = QPixmap(SIDE, TALL)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    for k, height in enumerate(tall.tolist()):
        painter.fillRect(QRectF(k * BAR, TALL - height, BAR - 1, height), theme.colour("spruce"))
    painter.end()
    return pixmap


def _picture(data: HeightMap) -> QPixmap:
    """Heights as grey levels, in the part's proportions; black where nothing is."""
    step = max(1, max(data.shape) // SIDE)
    z = data.z[::step, ::step][::-1]
    low, high = np.nanpercentile(z, [1.0, 99.0]) if np.isfinite(z).any() else (0.0, 1.0)
    level = np.clip((z - low) / max(high - low, 1e-9), 0.0, 1.0)
    grey = np.where(np.isnan(z), 0, DARK + (255 - DARK) * np.nan_to_num(level)).astype(np.uint8)
    rows, cols = grey.shape
    image = QImage(np.ascontiguousarray(grey).data, cols, rows, cols, QImage.Format.Format_Grayscale8).copy()
    wide, high_mm = cols * data.grid.dx, rows * data.grid.dy
    fit = SIDE / max(wide, high_mm)
    return QPixmap.fromImage(image).scaled(max(1, round(wide * fit)), max(1, round(high_mm * fit)))
