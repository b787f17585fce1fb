"""Levelling the virtual station on its bare belt."""

from __future__ import annotations

from dataclasses import dataclass

from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.frames import Frame
from hemtra.core.station.levelling import Levelled, level_on_plate
from hemtra.core.station.station import Station
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
    travel = station.with_part("travel", counts_per_profile=station.travel.counts_per_profile * COARSER)
    now = station.sensor.levelling
    before = level_on_plate(scan_cover(bare, travel, seed).data, now, BELT)
    levelled = travel.with_part("sensor", levelling=before.levelling)
    after = level_on_plate(scan_cover(bare, levelled, seed + 1).data, before.levelling, BELT)
    return LevelFound(before, after)


def try_levelling(station: Station, seed: int) -> LevelFound | str:
    """The levelling, or in words why there is none."""
    try:
        return level_station(station, seed)
    except NotMeasured as error:
        return str(error)
