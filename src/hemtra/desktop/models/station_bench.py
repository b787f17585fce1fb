"""State of the Station workspace: the station, the part on its belt, and the sensors' data."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.maps.heightmap import HeightMap, Profile
from hemtra.core.plan.graph import tightest_height
from hemtra.core.station.budget import Budget, BudgetRequest, scan_budget
from hemtra.core.station.mount import MountingPose, ReferenceProfile, SensorMount
from hemtra.core.station.optics import SensorModel
from hemtra.core.station.sensor_models import models_of
from hemtra.core.station.station import Station
from hemtra.core.station.travel import Conveyor, Travel, WheelEncoder
from hemtra.core.station.trigger_sources import Trigger
from hemtra.core.units import MM, LengthUnit
from hemtra.desktop.models.document import PlanDocument
from hemtra.desktop.models.observe import Signal
from hemtra.desktop.models.versioned import Versioned
from hemtra.virtual.on_belt import COVER, DOOR, OnBelt

NEW = Station(
    name="new station",
    sensors=(SensorMount(model="Sim 130", stand_off=190.0, hang=MountingPose(roll=0.6)),),
    travel=Travel(
        encoder=WheelEncoder(pulses_per_turn=1000, circumference=200.0), counts_per_profile=1, speed=100.0
    ),
    trigger=Trigger(),
    line=Conveyor(climb=-0.4),
)
"""Defaults of a new station: plausible, and not yet right for any part."""

REFERENCE_PITCH = 0.25
"""Spacing of the points kept of a reference profile, mm."""


@dataclass(frozen=True)
class Trial:
    """Trial scans on their way or done: the map so far, and how many profiles of how many, where known."""

    data: HeightMap
    taken: int
    of: int | None
    missed: int = 0
    """Profiles missed because the line was too fast."""
    done: bool = False
    message: str = ""


class StationBench:
    """The station document and what follows from it."""

    def __init__(self, plan: PlanDocument) -> None:
        self.document: Versioned[Station] = Versioned(NEW, _check)
        self.live_changed = Signal()
        self.trial_changed = Signal()
        self.unit_changed = Signal()
        self.live: Profile | None = None
        self.live_at = 22.0
        """y in mm of the part where the live profile is taken."""
        self.exposure_message = ""
        self.trial: Trial | None = None
        self.trials = 0
        self.unit: LengthUnit = MM
        self._chosen = 0
        self._plan = plan

    @property
    def station(self) -> Station:
        """The station to draw."""
        return self.document.shown

    @property
    def sensor(self) -> int:
        """Index of the chosen sensor, from 0."""
        return min(self._chosen, len(self.station.sensors) - 1)

    def choose(self, sensor: int) -> None:
        """Choose another sensor."""
        if sensor != self.sensor:
            self._chosen = sensor
            self.document.changed.emit()

    @property
    def mount(self) -> SensorMount:
        """The chosen sensor."""
        return self.station.sensors[self.sensor]

    @property
    def path(self) -> str:
        """The chosen sensor as a part of the station."""
        return f"sensors.{self.sensor}"

    @property
    def models(self) -> tuple[SensorModel, ...]:
        """The models of all sensors."""
        return models_of(self.station)

    @property
    def model(self) -> SensorModel:
        """The model of the chosen sensor."""
        return self.models[self.sensor]

    @property
    def on_belt(self) -> OnBelt:
        """Simulated part: two sensors side by side are there for the door frame."""
        return COVER if len(self.station.sensors) == 1 else DOOR

    def budget(self) -> Budget:
        """The scan budget, against the open plan where there is one."""
        on, belt = self.on_belt, self.station.belt
        asked = BudgetRequest(z=0.0, lowest=belt, highest=on.height, part_width=on.width, part_length=on.length)
        try:
            tightest = tightest_height(self._plan.shown)
        except HemtraError:
            tightest = None
        if tightest is not None:
            row, half = tightest
            asked = replace(asked, tolerance=half, tolerance_of=f"{row.balloon}:")
        return scan_budget(self.station, self.models, asked, self.unit)

    def use_unit(self, unit: LengthUnit) -> None:
        """Show lengths in another unit."""
        self.unit = unit
        self.unit_changed.emit()

    def show_live(self, live: Profile) -> None:
        """Show what the sensor sees now."""
        self.live = live
        self.live_changed.emit()

    @property
    def reference(self) -> Profile | None:
        """The profile that was kept, to be drawn dimmed behind those to come."""
        kept = self.mount.reference
        if kept is None:
            return None
        z = np.array([np.nan if value is None else value for value in kept.z])
        return Profile(kept.first + kept.pitch * np.arange(z.size), z)

    def keep_reference(self) -> None:
        """Keep the profile seen now; peaks can be chosen by it."""
        if self.live is None:
            return
        found = self.live.valid
        if np.count_nonzero(found) < 2:
            raise HemtraError("There is no data in the profile; a reference needs some.")
        x, z = self.live.x[found], self.live.z[found]
        grid = np.arange(float(x.min()), float(x.max()), REFERENCE_PITCH)
        near = np.searchsorted(x, grid).clip(1, x.size - 1)
        heights = np.where(x[near] - grid < grid - x[near - 1], z[near], z[near - 1])
        covered = np.minimum(np.abs(x[near] - grid), np.abs(grid - x[near - 1])) <= REFERENCE_PITCH
        kept = ReferenceProfile(
            first=round(float(grid[0]), 3),
            pitch=REFERENCE_PITCH,
            z=tuple(round(float(h), 3) if c else None for h, c in zip(heights, covered, strict=True)),
        )
        self.document.edit("reference profile", self.document.value.with_part(self.path, reference=kept))

    def show_trial(self, trial: Trial | None) -> None:
        """Show how far the trial scan is."""
        self.trial = trial
        self.trial_changed.emit()


def _check(station: Station) -> None:
    station.grid(models_of(station))
