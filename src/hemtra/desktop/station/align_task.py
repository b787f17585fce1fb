"""Guided task: bring several sensors into one frame with the stepped wedge."""

from __future__ import annotations

from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QPushButton

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.station.alignment import OverlapError
from hemtra.core.station.calibration import Calibration
from hemtra.desktop.models.station_bench import StationBench
from hemtra.desktop.station.guided_task import GuidedTask, Start, fill_table, in_a_row, sentence
from hemtra.desktop.station.scan_picture import ScanPicture
from hemtra.desktop.widgets import units
from hemtra.runtime.align import AlignFound, try_alignment
from hemtra.virtual.parts import alignment_target

FIRST_SEED = 300_000
LAID = {
    "target in its place": {},
    "target turned by 2°": {"rotation": 2.0},
    "target out of view": {"y": 400.0},
}


class AlignTask(GuidedTask):
    """Scans the target with all sensors, and shows what each one's place and turn come out as."""

    def __init__(self, bench: StationBench, start: Start) -> None:
        super().__init__(
            bench,
            "Align the sensors",
            "Lay the stepped wedge under all sensors, along the laser lines. The scan gives each sensor's pose;"
            " a second scan of it, turned, and one of a plate verify the result.",
            "Apply alignment",
        )
        self._start, self._scans = start, 0
        self.found: AlignFound | None = None
        self.laid = QComboBox()
        self.laid.addItems(list(LAID))
        self.laid.setAccessibleName("Target position")
        self.scan = QPushButton("Scan the target")
        self.scan.setObjectName("secondary")
        self.scan.clicked.connect(self.run)
        self.undo_all = QPushButton("Without alignment")
        self.undo_all.setObjectName("secondary")
        self.undo_all.setToolTip("Take the alignment out that is in use.")
        self.undo_all.clicked.connect(self._clear)
        self._table = QGridLayout()
        self._table.setHorizontalSpacing(16)
        self._table.setVerticalSpacing(2)
        self.picture = ScanPicture()
        self.picture.setFixedSize(150, 84)
        self.steps.addLayout(in_a_row(self.laid, self.scan, self.undo_all))
        self.steps.addWidget(self.message)
        row = QHBoxLayout()
        row.addLayout(self._table, 1)
        row.addWidget(self.picture)
        self.steps.addLayout(row)

    def begin(self) -> None:
        """Start without a scan."""
        self._show(None, f"{len(self.bench.station.sensors)} sensors. Nothing is scanned yet.")

    def run(self) -> None:
        """Scan the target, align, and check on a plate."""
        self._scans += 1
        station, seed = self.bench.document.value, FIRST_SEED + 10 * self._scans
        target = alignment_target().posed(**LAID[self.laid.currentText()])
        self.message.setText("Scanning the target and a plate with all sensors…")
        self._start("Aligning", lambda task: try_alignment(station, seed, target), self.show_found)

    def show_found(self, found: AlignFound | str) -> None:
        """Show the alignment and its residuals, or why there is none."""
        if isinstance(found, str):
            self._show(None, f"<b>Not aligned:</b> {sentence(found)}")
            return
        seams = "<br>".join(
            f"Overlap on a plate: {_seam(before)} before, <b>{_seam(after)}</b> after."
            for before, after in zip(found.before, found.after, strict=True)
        )
        turned = f"The target lay turned by {round(found.alignment.turned, 2) + 0.0:.2f}°."
        proof = f"A second scan of it, turned, agrees within {1000 * found.proof.distance:.0f} µm."
        self._show(found, f"{seams} {turned} {proof}")

    def _show(self, found: AlignFound | None, message: str) -> None:
        self.found = found
        self.take.setEnabled(found is not None)
        self.undo_all.setEnabled(any(not s.calibration.is_none for s in self.bench.station.sensors))
        self.message.setText(units.signed(message))
        rows: list[tuple[str, ...]] = []
        if found is not None:
            rows = [("sensor", "x mm", "y mm", "z mm", "roll °", "yaw °", "lean °", "residual")]
            for number, sensor in enumerate(found.alignment.sensors, start=1):
                c = sensor.calibration
                lengths = (units.signed(f"{value:+.3f}") for value in (c.x, c.y, c.z, c.roll, c.yaw, c.lean))
                rows.append((f"{number}", *lengths, units.signed(f"{1000 * sensor.rms:.1f} µm")))
        fill_table(self._table, rows)
        merged: HeightMap | None = None if found is None else found.merged
        self.picture.setVisible(merged is not None)
        self.picture.show_scan(merged)

    def take_result(self) -> None:
        """Bring every profile into the common frame from now on."""
        found = self.found
        if found is not None:
            self.finish("alignment", lambda: found.station)

    def _clear(self) -> None:
        station = self.bench.document.value
        for k in range(len(station.sensors)):
            station = station.with_part(f"sensors.{k}", calibration=Calibration())
        self.finish("alignment taken out", lambda: station)


def _seam(seam: OverlapError) -> str:
    return f"step {1000 * seam.step:+.1f} µm, tilt {seam.tilt:+.3f}°"
