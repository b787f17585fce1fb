"""Guided task: correct the scales by two known heights, and by discs of known distance or diameter."""

from __future__ import annotations

import math

from PySide6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QPushButton, QVBoxLayout

from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.station.artefact import Face, height_at, round_face
from hemtra.core.station.correction import correct_heights, correct_resolution, correct_width
from hemtra.core.station.station import Station
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.encoder_task import with_resolution
from hemtra.desktop.station.guided_task import GuidedTask, Start, in_a_row, number_field, number_in, sentence
from hemtra.desktop.station.scan_picture import ScanPicture
from hemtra.desktop.widgets import units
from hemtra.virtual.parts import APART, DISC, HIGH_FACE, LOW_FACE, gauge
from hemtra.virtual.sensor import scan_part

FIRST_SEED = 500_000
LETTERS = ("A", "B", "C", "D", "E")
PROMPTS = (
    "Click the lower known face (A).",
    "Click the higher known face (B).",
    "Click a disc (C) to correct the scale along x and along travel by its diameter.",
    "Its edge is only known to one spacing: click another disc beside it (D), centres are known better.",
    "Click a disc behind the first (E), for the scale along travel.",
)


class CorrectTask(GuidedTask):
    """Scans a gauge, measures where one clicks, and compares with what is known."""

    def __init__(self, bench: StationBench, start: Start) -> None:
        super().__init__(
            bench,
            "Correct the scales",
            "Scan a gauge with faces of known height and discs of known distance, click them, and type what"
            " their reference values. Limits of plans do not change: they are in millimetres.",
            "Correct",
        )
        self._start, self._scans = start, 0
        self.places: list[tuple[float, float]] = []
        self.heights: list[float] = []
        self.discs: list[Face] = []
        self.scan = QPushButton("Scan the gauge")
        self.scan.setObjectName("secondary")
        self.scan.clicked.connect(self.run)
        self.picture = ScanPicture("The scan of the gauge appears here.", name="Gauge")
        self.picture.setMinimumHeight(60)
        self.picture.clicked.connect(self.click)
        self.low = number_field(bench.station.belt + LOW_FACE, "True height of the lower face in mm", 60)
        self.high = number_field(bench.station.belt + HIGH_FACE, "True height of the higher face in mm", 60)
        self.diameter = number_field(DISC, "True diameter of disc C in mm", 60)
        self.across = number_field(APART, "True distance from disc C to D in mm", 60)
        self.along = number_field(APART, "True distance from disc C to E in mm", 60)
        self.use_heights, self.use_width = QCheckBox("correct z"), QCheckBox("correct x")
        self.use_travel = QCheckBox("correct counts/mm")
        for box in (self.use_heights, self.use_width, self.use_travel):
            box.setChecked(True)
            box.toggled.connect(self._refresh)
        for field in (self.low, self.high, self.diameter, self.across, self.along):
            field.editingFinished.connect(self._refresh)
        self.measured: list[QLabel] = []
        grid = QGridLayout()
        grid.setVerticalSpacing(1)
        rows = (
            ("A reference height", self.low, self.use_heights),
            ("B reference height", self.high, None),
            ("⌀ C reference", self.diameter, None),
            ("C to D reference", self.across, self.use_width),
            ("C to E reference", self.along, self.use_travel),
        )
        for line, (label, edit, tick) in enumerate(rows):
            edit.setFixedHeight(20)
            measured = QLabel("mm")
            measured.setMinimumWidth(140)
            self.measured.append(measured)
            for column, widget in enumerate((QLabel(label), edit, measured)):
                grid.addWidget(widget, line, column)
            if tick is not None:
                grid.addWidget(tick, line, 3)
        side = QVBoxLayout()
        side.addLayout(in_a_row(self.scan))
        side.addLayout(grid)
        self.steps.addWidget(self.message)
        row = QHBoxLayout()
        row.addWidget(self.picture, 1)
        row.addLayout(side)
        self.steps.addLayout(row)

    def begin(self) -> None:
        """Start without a scan."""
        self._show_gauge(None)

    def run(self) -> None:
        """Scan the gauge as the station is."""
        self._scans += 1
        station, seed, sensor = self.bench.document.value, FIRST_SEED + self._scans, self.bench.sensor
        alone = station.model_copy(update={"sensors": (station.sensors[sensor].model_copy(update={"x": 0.0}),)})
        alone = alone.with_part("travel", equal_pitch=False)
        self._start("Scanning the gauge", lambda task: scan_part(gauge(), alone, seed).data, self._show_gauge)

    def _show_gauge(self, data: HeightMap | None) -> None:
        self.places, self.heights, self.discs = [], [], []
        self.picture.show_scan(data)
        self._refresh()

    def click(self, x: float, y: float) -> None:
        """Measure at a place; once all are placed, the next click starts again."""
        data = self.picture.data
        assert data is not None
        if len(self.places) == len(LETTERS):
            self.places, self.heights, self.discs = [], [], []
        try:
            if len(self.places) < 2:
                self.heights.append(height_at(data, x, y))
            else:
                self.discs.append(round_face(data, x, y))
        except NotMeasured as error:
            self.message.setText(f"<b>Not measured:</b> {sentence(str(error))}")
            return
        self.places.append((x, y))
        self._refresh()

    def _refresh(self) -> None:
        marks = [(letter, *place) for letter, place in zip(LETTERS, self.places, strict=False)]
        self.picture.mark(marks)
        self.take.setEnabled(False)
        for label, text in zip(self.measured, self._measured(), strict=True):
            label.setText(f"mm, measured {text}" if text else "mm")
        if self.picture.data is None:
            self.message.setText("Nothing is scanned yet.")
            return
        lines = []
        if len(self.places) >= 2:
            try:
                lines.append(self._changes(self.bench.document.value, self._corrected()))
                self.take.setEnabled(True)
            except HemtraError as error:
                lines.append(f"<b>Not corrected:</b> {sentence(str(error))}")
        if len(self.places) < len(LETTERS):
            lines.append(PROMPTS[len(self.places)])
        self.message.setText(units.signed("<br>".join(lines)))

    def _measured(self) -> tuple[str, ...]:
        """Measured value of each known size, in the order of the fields, '' before measuring."""
        heights = [f"{z:.4f}" for z in self.heights]
        sizes = [f"{self.discs[0].width:.2f} × {self.discs[0].length:.2f}"] if self.discs else []
        for disc in self.discs[1:]:
            sizes.append(f"{math.dist(*((d.x, d.y) for d in (self.discs[0], disc))):.3f}")
        found = (*heights, *[""] * (2 - len(heights)), *sizes, *[""] * (3 - len(sizes)))
        return tuple(units.signed(size) for size in found)

    @staticmethod
    def _changes(before: Station, after: Station) -> str:
        a, b = before.sensor.calibration, after.sensor.calibration
        for one, other in zip(before.sensors, after.sensors, strict=True):
            if one != other:
                a, b = one.calibration, other.calibration
        lines = [
            f"z scale {a.gain_z:.6f} → <b>{b.gain_z:.6f}</b>, z {a.z:+.4f} → <b>{b.z:+.4f} mm</b>",
            f"x scale {a.gain_x:.6f} → <b>{b.gain_x:.6f}</b>",
        ]
        old, new = before.travel.encoder.counts_per_mm, after.travel.encoder.counts_per_mm
        lines.append(f"{old:.4f} → <b>{new:.4f} counts/mm</b>")
        return "; ".join(lines) + "."

    def _corrected(self) -> Station:
        """The station with everything that is ticked corrected. Raises `HemtraError`."""
        station, path = self.bench.document.value, self.bench.path
        calibration = self.bench.document.value.sensors[self.bench.sensor].calibration
        low, high = number_in(self.low), number_in(self.high)
        if self.use_heights.isChecked():
            if low is None or high is None:
                raise NotMeasured("type the true heights of both faces")
            calibration = correct_heights(calibration, (self.heights[0], self.heights[1]), (low, high))
        if self.discs and self.use_width.isChecked():
            calibration = correct_width(calibration, *self._known(1))
        if self.discs and self.use_travel.isChecked():
            now = station.travel.encoder.counts_per_mm
            station = with_resolution(station, correct_resolution(now, *self._known(2)))
        return station.with_part(path, calibration=calibration)

    def _known(self, disc: int) -> tuple[float, float]:
        """Measured and true length along x (disc 1) or along travel (disc 2), in mm.

        Of two discs it is what their distance has in that direction, of one its diameter.
        """
        first = self.discs[0]
        if len(self.discs) <= disc:
            true = number_in(self.diameter)
            if true is None:
                raise NotMeasured("type the true diameter of the disc")
            return (first.width if disc == 1 else first.length), true
        true, other = number_in(self.across if disc == 1 else self.along), self.discs[disc]
        dx, dy = abs(other.x - first.x), abs(other.y - first.y)
        measured, aside = (dx, dy) if disc == 1 else (dy, dx)
        if true is None or true <= aside:
            raise NotMeasured("type the true distance of the discs, from centre to centre")
        return measured, math.sqrt(true**2 - aside**2)

    def take_result(self) -> None:
        """Measure with the corrected scales from now on."""
        self.finish("scales", self._corrected)
