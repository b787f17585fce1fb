"""Guided task: level a sensor on the bare belt, on a plate, or on a zone of what lies there."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QLabel, QPushButton

from hemtra.core.marks import ResidualMap
from hemtra.core.zones.zone import RectangleZone
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.guided_task import GuidedTask, Start, in_a_row, number_field, number_in
from hemtra.desktop.widgets import units
from hemtra.desktop.widgets.evidence_picture import EvidencePicture
from hemtra.runtime.level import ON_BELT, LevelFound, try_levelling

FIRST_SEED = 100_000
"""Apart from those of trial scans, so that no noise repeats."""


class LevelTask(GuidedTask):
    """Shows the tilt before and after, and how flat it is."""

    def __init__(self, bench: StationBench, start: Start) -> None:
        super().__init__(
            bench,
            "Level the sensor",
            "A sensor that is mounted tilted shows a horizontal belt as a slope, and every height with it."
            " Scan something flat: its tilt and height are then removed from every profile, for all plans.",
            "Take this levelling",
        )
        self._start, self._scans = start, 0
        self.found: LevelFound | None = None
        self.on = QComboBox()
        self.on.addItems(list(ON_BELT))
        self.on.setAccessibleName("What is levelled on")
        self.scan = QPushButton("Scan it")
        self.scan.setObjectName("secondary")
        self.scan.clicked.connect(self.run)
        self.undo_all = QPushButton("Without levelling")
        self.undo_all.setObjectName("secondary")
        self.undo_all.setToolTip("Take the levelling out that is in use.")
        self.undo_all.clicked.connect(self._clear)
        self.zone = [
            number_field(0, name, 52) for name in ("Zone x", "Zone y", "Zone width", "Zone length along travel")
        ]
        for field in self.zone:
            field.setToolTip(f"{field.accessibleName()} in mm; width and length 0 for the whole view.")
        self.picture = EvidencePicture()
        self.picture.setFixedHeight(84)
        self.steps.addLayout(in_a_row(self.on, self.scan, self.undo_all))
        words = ("zone at x", "y", "width", "length")
        pairs = [w for word, field in zip(words, self.zone, strict=True) for w in (QLabel(word), field)]
        self.steps.addLayout(in_a_row(*pairs, QLabel("mm; 0 = whole view")))
        self.steps.addLayout(in_a_row(self.picture, self.message))

    def begin(self) -> None:
        """Start without a scan."""
        self.found = None
        self.take.setEnabled(False)
        self.picture.show_picture(None)
        now = self.bench.mount.calibration
        none = now.roll == now.pitch == now.z == 0.0
        in_use = "none" if none else f"roll {now.roll:.3f}°, pitch {now.pitch:.3f}°, {now.z:+.3f} mm"
        self.message.setText(units.signed(f"Levelling in use: {in_use}."))
        self.undo_all.setEnabled(not none)

    def run(self) -> None:
        """Scan what lies there and level on it."""
        x, y, width, length = (number_in(field) or 0.0 for field in self.zone)
        zone = RectangleZone(x=x, y=y, width=width, height=length) if width > 0 and length > 0 else None
        self._scans += 1
        station, sensor, on = self.bench.document.value, self.bench.sensor, self.on.currentText()
        seed = FIRST_SEED + 2 * self._scans
        self._start("Levelling", lambda task: try_levelling(station, seed, sensor, on, zone), self.show_found)

    def show_found(self, found: LevelFound | str) -> None:
        """Show what the scans said, or why they said nothing."""
        self.found = None if isinstance(found, str) else found
        self.take.setEnabled(self.found is not None)
        if isinstance(found, str):
            self.picture.show_picture(None)
            self.message.setText(f"<b>Not levelled:</b> {found}.")
            return
        before, after = found.before, found.after
        words = (
            f"Before: tilt <b>{before.tilt:.3f}°</b>, height {before.height:.3f} mm.<br>"
            f"After: tilt <b>{after.tilt:.3f}°</b>, height {after.height:.3f} mm.<br>What is left:"
            f" {1000 * after.rms:.0f} µm rms of noise, flat within {1000 * after.flatness:.0f} µm."
        )
        self.message.setText(units.signed(words))
        reach = max(before.flatness / 2, 0.001)
        self.picture.show_picture(ResidualMap("deviation from the plane", before.cells, reach))

    def take_result(self) -> None:
        """Level every profile from now on."""
        found, station, path = self.found, self.bench.document.value, self.bench.path
        if found is not None:
            calibration = found.before.calibration
            self.finish("levelling", lambda: station.with_part(path, calibration=calibration))

    def _clear(self) -> None:
        station, path = self.bench.document.value, self.bench.path
        plain = self.bench.mount.calibration.model_copy(update={"roll": 0.0, "pitch": 0.0, "z": 0.0})
        self.finish("levelling taken out", lambda: station.with_part(path, calibration=plain))
