"""What the Station workspace works on: the station, the part on its belt, and what the sensor sees."""

from __future__ import annotations

from dataclasses import dataclass, replace

from hemtra.core.errors import HemtraError
from hemtra.core.plan.graph import tightest_height
from hemtra.core.scan.heightmap import HeightMap, Profile
from hemtra.core.station.budget import Budget, Question, scan_budget
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.station import SensorMount, Station
from hemtra.core.station.travel import Travel, WheelEncoder
from hemtra.desktop.model.document import Document
from hemtra.desktop.model.observe import Signal
from hemtra.desktop.model.versioned import Versioned
from hemtra.virtual.cover import BELT
from hemtra.virtual.models import sensor_model

NEW = Station(
    name="new station",
    sensor=SensorMount(model="Sim 130", stand_off=190.0, roll=0.6, pitch=-0.4),
    travel=Travel(
        encoder=WheelEncoder(pulses_per_turn=1000, circumference=200.0),
        counts_per_profile=1,
        length=100.0,
        speed=100.0,
    ),
)
"""What a station starts as: plausible, and not yet right for any part."""

PART_WIDTH, PART_LENGTH, PART_HEIGHT = 120.0, 80.0, 8.0
"""Box of the part on the belt in mm: the made-up cover, flange top at z = 0."""


@dataclass(frozen=True)
class Trial:
    """A trial scan on its way or done: the map so far, and how many profiles of how many."""

    data: HeightMap
    taken: int
    of: int
    missed: int = 0
    """Profiles missed because the line was too fast."""


class StationBench:
    """The station document and what follows from it."""

    def __init__(self, plan: Document) -> None:
        self.document: Versioned[Station] = Versioned(NEW, _check)
        self.live_changed = Signal()
        self.trial_changed = Signal()
        self.live: Profile | None = None
        self.reference: Profile | None = None
        self.live_at = 22.0
        """y in mm of the part where the live profile is taken."""
        self.trial: Trial | None = None
        self.trials = 0
        self._plan = plan

    @property
    def station(self) -> Station:
        """The station to draw."""
        return self.document.shown

    @property
    def model(self) -> SensorModel:
        """The model of its sensor."""
        return sensor_model(self.station.sensor.model)

    def budget(self) -> Budget:
        """The scan budget, against the open plan where there is one."""
        asked = Question(z=0.0, lowest=BELT, part_width=PART_WIDTH)
        try:
            tightest = tightest_height(self._plan.shown)
        except HemtraError:
            tightest = None
        if tightest is not None:
            row, half = tightest
            asked = replace(asked, tolerance=half, tolerance_of=f"{row.balloon}:")
        return scan_budget(self.station, self.model, asked)

    def show_live(self, live: Profile) -> None:
        """Show what the sensor sees now."""
        self.live = live
        self.live_changed.emit()

    def keep_reference(self) -> None:
        """Keep the profile seen now, to be drawn dimmed behind those to come."""
        self.reference = self.live
        self.live_changed.emit()

    def show_trial(self, trial: Trial | None) -> None:
        """Show how far the trial scan is."""
        self.trial = trial
        self.trial_changed.emit()


def _check(station: Station) -> None:
    sensor_model(station.sensor.model)
