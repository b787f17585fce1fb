"""The virtual line: what really is, whatever the station believes of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.station.resolution import Run
from hemtra.core.station.station import Station

PULSES_PER_MM = 12.5
"""Of the real encoder: 2000 pulses on a wheel of 160 mm."""
PART_FRONT = -40.0
"""y in mm, in part coordinates, of the edge that passes the eye first."""
SLIP = 1e-4
"""Standard deviation, as a share, by which the wheel's way differs from the belt's in one run."""


@dataclass(frozen=True)
class Passage:
    """Where on the part each profile really is taken, and which ones the sensor had no time for.

    ys: (profiles,) float64 in mm of the part; missed: (profiles,) bool.
    """

    ys: FloatArray
    missed: BoolArray


def real_counts_per_mm(station: Station) -> float:
    """Counts that a millimetre really makes, with the edges the station counts."""
    return PULSES_PER_MM * station.travel.encoder.edges


def passage(station: Station, rate: float) -> Passage:
    """How a part passes, its front tripping the eye, under a sensor of `rate` profiles a second.

    The station counts in its own belief; what it takes for a millimetre may be more or less.
    """
    travel, eye = station.travel, station.eye
    stretch = travel.encoder.counts_per_mm / real_counts_per_mm(station)
    spacing = travel.spacing * stretch
    start = PART_FRONT + (eye.distance - eye.lead) * stretch - eye.distance
    ys = start + spacing * (np.arange(travel.profiles) + 0.5)
    return Passage(ys, _missed(travel.profiles, spacing / travel.speed, 1.0 / rate if rate > 0 else np.inf))


def encoder_run(travel: float, edges: int, seed: int) -> Run:
    """The belt moves a known way; the wheel slips a little and counts whole counts."""
    slip = 1.0 + SLIP * float(np.random.default_rng(seed).standard_normal())
    return Run(travel, round(travel * PULSES_PER_MM * edges * slip))


def _missed(profiles: int, due: float, least: float) -> NDArray[np.bool_]:
    """Profiles that fall due every `due` seconds while the sensor needs `least` from one to the next."""
    missed = np.zeros(profiles, np.bool_)
    if due >= least:
        return missed
    if not np.isfinite(least):
        missed[:] = True
        return missed
    # after one is taken, the next to be taken is the first that falls due when the sensor is ready again
    every = int(np.ceil(least / due - 1e-9))
    missed[:] = True
    missed[::every] = False
    return missed
