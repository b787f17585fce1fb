"""Guided task: level the sensor on the bare belt."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QPushButton

from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.frames import Frame
from hemtra.core.marks import ResidualMap
from hemtra.core.station.levelling import Levelled, Levelling, level_on_plate
from hemtra.core.station.station import Station
from hemtra.desktop.model.station_bench import StationBench
from hemtra.desktop.plan.evidence_picture import EvidencePicture
from hemtra.desktop.station.fields import with_part
from hemtra.desktop.station.guided_task import GuidedTask, in_a_row
from hemtra.virtual.cover import BELT, Cover
from hemtra.virtual.sensor import scan_cover

COARSER = 4
"""A levelling scan takes every fourth profile: noise averages out over the plate anyway."""
FAR_AWAY = 10_000.0


@dataclass(frozen=True)
class LevelFound:
    """The belt as it is seen, and as it would be seen with the levelling that follows."""

    before: Levelled
    after: Levelled


def level_station(station: Station, seed: int) -> LevelFound:
    """Scan the bare belt, level on it, and scan it again to see what is left. Raises `NotMeasured`."""
    bare = Cover(pose=Frame(x=FAR_AWAY))
    travel = with_part(station, "travel", counts_per_profile=station.travel.counts_per_profile * COARSER)
    now = station.sensor.levelling
    before = level_on_plate(scan_cover(bare, travel, seed).data, now, BELT)
    levelled = with_part(travel, "sensor", levelling=before.levelling)
    after = level_on_plate(scan_cover(bare, levelled, seed + 1).data, before.levelling, BELT)
    return LevelFound(before, after)


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
        self.taken.emit(label, with_part(self.bench.document.value, "sensor", levelling=levelling))
        self.closed.emit()


def try_levelling(station: Station, seed: int) -> LevelFound | str:
    """The levelling, or in words why there is none."""
    try:
        return level_station(station, seed)
    except NotMeasured as error:
        return str(error)
