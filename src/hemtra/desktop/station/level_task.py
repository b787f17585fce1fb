"""Guided task: level the sensor on the bare belt."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton

from hemtra.core.marks import ResidualMap
from hemtra.core.station.levelling import Levelling
from hemtra.desktop.model.station_bench import StationBench
from hemtra.desktop.plan.evidence_picture import EvidencePicture
from hemtra.desktop.station.guided_task import GuidedTask, in_a_row
from hemtra.runtime.level import LevelFound


class LevelTask(GuidedTask):
    """Shows the tilt before and after, and how flat the belt is."""

    scan_requested = Signal()

    def __init__(self, bench: StationBench) -> None:
        super().__init__(
            bench,
            "Level on the belt",
            "A sensor that hangs tilted reads a level belt as a slope, and every height with it. Clear the"
            " belt; its scan shows the tilt, which is then taken out of every profile, for all plans.",
            "Take this levelling",
        )
        self.found: LevelFound | None = None
        self.scan = QPushButton("Scan the bare belt")
        self.scan.setObjectName("secondary")
        self.scan.clicked.connect(self.scan_requested)
        self.undo_all = QPushButton("Without levelling")
        self.undo_all.setObjectName("secondary")
        self.undo_all.setToolTip("Take the levelling out that is in use.")
        self.undo_all.clicked.connect(self._clear)
        self.picture = EvidencePicture()
        self.picture.setFixedHeight(84)
        self.steps.addLayout(in_a_row(self.scan, self.undo_all))
        self.steps.addLayout(in_a_row(self.picture))
        self.begin()

    def begin(self) -> None:
        """Start without a scan."""
        self.found = None
        self.take.setEnabled(False)
        self.picture.show_picture(None)
        now = self.bench.station.sensor.levelling
        in_use = "none" if now.is_none else f"roll {now.roll:.3f}°, pitch {now.pitch:.3f}°"
        self.told.setText(f"Levelling in use: {in_use}.")
        self.undo_all.setEnabled(not now.is_none)

    def show_found(self, found: LevelFound | None, trouble: str = "") -> None:
        """Show what the scans said, or why they said nothing."""
        self.found = found
        self.take.setEnabled(found is not None)
        if found is None:
            self.told.setText(f"<b>Not levelled:</b> {trouble}.")
            return
        before, after = found.before, found.after
        self.told.setText(
            f"Before: tilt <b>{before.tilt:.3f}°</b>, belt at {before.height:.3f} mm.<br>"
            f"After: tilt <b>{after.tilt:.3f}°</b>, belt at {after.height:.3f} mm. What is left:"
            f" {1000 * after.rms:.0f} µm rms of noise, flat within {1000 * after.flatness:.0f} µm."
        )
        reach = max(before.flatness / 2, 0.001)
        self.picture.show_picture(ResidualMap("deviation of the belt from its plane", before.cells, reach))

    def take_result(self) -> None:
        """Level every profile from now on."""
        if self.found is not None:
            self._set(self.found.before.levelling, "levelling")

    def _clear(self) -> None:
        self._set(Levelling(), "levelling taken out")

    def _set(self, levelling: Levelling, label: str) -> None:
        self.taken.emit(label, self.bench.document.value.with_part("sensor", levelling=levelling))
        self.closed.emit()
