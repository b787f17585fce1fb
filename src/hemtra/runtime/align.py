"""Aligning the sensors of the virtual station with the stepped wedge, and checking the seam on a plate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.station.alignment import (
    RULES,
    Alignment,
    AlignRules,
    Disagreement,
    OverlapError,
    align,
    disagreement,
    seam_between,
)
from hemtra.core.station.assembler import Layout, Profiles
from hemtra.core.station.sensor_models import models_of
from hemtra.core.station.station import Station
from hemtra.virtual.line import passage
from hemtra.virtual.parts import Part, Relief, alignment_target, plate
from hemtra.virtual.sensor import PartUnderSensor

PLATE = 6.0
"""Length of plate on which the overlap is checked, mm."""
COARSER = 4
"""Every fourth profile is enough for the plate and the second scan."""
TURNED = 3.0
"""Rotation of the target for the second scan, which must give the same sensor poses, degrees."""
APART, ASKEW = 0.05, 0.05
"""Largest difference of both, mm and degrees: many times the noise, and far less than a step of the target."""
PROOF_RULES = replace(RULES, points=4_000)
"""A tenth of the points is enough to detect a step of the target."""


@dataclass(frozen=True)
class AlignFound:
    """The alignment, the station with it, the overlap on a plate before and after, the target, the proof."""

    alignment: Alignment
    station: Station
    before: tuple[OverlapError, ...]
    after: tuple[OverlapError, ...]
    merged: HeightMap
    proof: Disagreement
    """Between the scan and a second one of the target turned."""


def align_station(station: Station, seed: int, target: Relief | None = None) -> AlignFound:
    """Scan the target twice, the second time turned, align, and scan a plate before and after.

    target: how the stepped wedge really lies; by default straight and in its place. Raises `NotMeasured`, also
    where the two scans do not agree.
    """
    laid = target or alignment_target()
    alignment, seen = _found(laid, station, seed)
    turned = laid.posed(rotation=laid.pose.rotation + TURNED)
    proof = disagreement(alignment, _found(turned, _coarser(station), seed + 3, PROOF_RULES)[0])
    if proof.distance > APART or proof.angle > ASKEW:
        raise NotMeasured(
            f"a second scan of the {laid.target.name}, turned by {TURNED:g}°, puts the sensors"
            f" {proof.distance:.2f} mm and {proof.angle:.2f}° elsewhere; level them first, and check that the"
            " target lies still and is whole"
        )
    aligned = with_alignment(station, alignment)
    return AlignFound(
        alignment,
        aligned,
        seams_on_plate(station, seed + 1),
        seams_on_plate(aligned, seed + 2),
        _maps(seen, aligned)[0],
        proof,
    )


def _found(
    laid: Relief, station: Station, seed: int, rules: AlignRules = RULES
) -> tuple[Alignment, list[Profiles]]:
    """The alignment by one scan of the target, and that scan."""
    seen = seen_by_all(laid, station, seed)
    clouds = [cloud_of(profiles, station) for profiles in seen]
    drawn = [sensor.x for sensor in station.sensors]
    now = [sensor.calibration for sensor in station.sensors]
    return align(clouds, drawn, laid.target, now, rules), seen


def try_alignment(station: Station, seed: int, target: Relief | None = None) -> AlignFound | str:
    """The alignment, or in words why there is none."""
    try:
        return align_station(station, seed, target)
    except HemtraError as error:
        return str(error)


def with_alignment(station: Station, alignment: Alignment) -> Station:
    """The station with the calibrations found."""
    for number, found in enumerate(alignment.sensors):
        station = station.with_part(f"sensors.{number}", calibration=found.calibration)
    return station


def seen_by_all(part: Part, station: Station, seed: int) -> list[Profiles]:
    """Maps of a part, one per sensor."""
    way = passage(station, models_of(station))
    return [
        PartUnderSensor(part, station, way, sensor=k, seed=seed).take(way.ys.size)
        for k in range(len(station.sensors))
    ]


def cloud_of(seen: Profiles, station: Station) -> FloatArray:
    """(n, 3) points of one sensor, y along travel from the middle of the scan."""
    rows = seen.z.shape[0]
    y = station.travel.spacing * (np.arange(rows) - (rows - 1) / 2)
    along = np.broadcast_to(y[:, None], seen.z.shape)
    points = np.column_stack([seen.x.ravel(), along.ravel(), seen.z.ravel().astype(np.float64)])
    found: FloatArray = points[~np.isnan(points[:, 2])]
    return found


def _coarser(station: Station) -> Station:
    """The station with fewer profiles."""
    return station.with_part("travel", counts_per_profile=station.travel.counts_per_profile * COARSER)


def _maps(seen: Sequence[Profiles], station: Station) -> tuple[HeightMap, tuple[HeightMap, ...]]:
    """The merged map, and each sensor's own."""
    layout = Layout.of(station, models_of(station))
    return layout.scan([layout.rows(k, profiles) for k, profiles in enumerate(seen)])


def seams_on_plate(station: Station, seed: int) -> tuple[OverlapError, ...]:
    """Agreement of neighbouring sensors on a flat plate; raises `NotMeasured` without an overlap."""
    coarse = _coarser(station)
    maps = _maps(seen_by_all(plate(PLATE), coarse, seed), coarse)[1]
    order = sorted(range(len(maps)), key=lambda k: station.sensors[k].x)
    return tuple(seam_between(maps[a], maps[b]) for a, b in pairwise(order))
