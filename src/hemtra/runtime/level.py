"""Levelling the virtual station on its bare belt, or on a plate laid there."""

from __future__ import annotations

from dataclasses import dataclass

from hemtra.core.errors import HemtraError, NotMeasured, OffScan
from hemtra.core.station.levelling import Levelled, level_on_plate
from hemtra.core.station.station import Station
from hemtra.core.zones.zone import AnyZone
from hemtra.virtual.parts import Part, bare_belt, plate
from hemtra.virtual.sensor import scan_part

COARSER = 4
"""A levelling scan takes every fourth profile: noise averages out over the plate anyway."""
ON_BELT = {"bare belt": 0.0, "plate, 6 mm": 6.0, "plate with a bump": 6.0}
"""Faces suitable for levelling, and their height above the belt in mm."""
BUMP = 0.3


@dataclass(frozen=True)
class LevelFound:
    """Levelling face as measured, and as it would be measured with the new calibration."""

    before: Levelled
    after: Levelled


def level_station(
    station: Station,
    seed: int,
    *,
    sensor: int = 0,
    on: str = "bare belt",
    zone: AnyZone | None = None,
) -> LevelFound:
    """Scan, level one sensor on the data in the zone, and scan again to see the residual.

    Raises `NotMeasured`, and `OffScan` when the zone lies outside.
    """
    part, height = _laid(on), station.belt + ON_BELT[on]
    every = station.travel.counts_per_profile * COARSER
    alone = station.model_copy(update={"sensors": (station.sensors[sensor],)})
    coarse = alone.with_part("travel", counts_per_profile=every, equal_pitch=False)
    now = coarse.sensor.calibration
    before = level_on_plate(scan_part(part, coarse, seed).data, now, height, zone)
    levelled = coarse.with_part("sensor", calibration=before.calibration)
    after = level_on_plate(scan_part(part, levelled, seed + 1).data, before.calibration, height, zone)
    return LevelFound(before, after)


def try_levelling(station: Station, seed: int, sensor: int, on: str, zone: AnyZone | None) -> LevelFound | str:
    """The levelling, or in words why there is none."""
    try:
        return level_station(station, seed, sensor=sensor, on=on, zone=zone)
    except (NotMeasured, OffScan, HemtraError) as error:
        return str(error)


def _laid(on: str) -> Part:
    if on == "bare belt":
        return bare_belt()
    return plate(ON_BELT[on], BUMP if "bump" in on else 0.0)
