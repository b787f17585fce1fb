"""Compiles every kernel by running it once, so that nobody waits for it later.

In two processes beside each other: kernels are compiled one by one, and most of them do not know each other.
"""

from __future__ import annotations

import gc
import multiprocessing
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from numba.core.targetconfig import TargetConfig

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.bead import BeadKind
from hemtra.core.filters.filtering import fill_holes, remove_spikes, smooth_mean
from hemtra.core.maps.float_residue import lost_places, restore_places
from hemtra.core.maps.heightmap import HeightMap, frozen
from hemtra.core.rendering.picture import View, grey_picture, picture
from hemtra.core.station.calibration import Calibration
from hemtra.core.station.trigger_sources import widest_over
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import STATION, demo_plan
from hemtra.virtual.parts import plate
from hemtra.virtual.runner_demo import RUNNERS, runner_plan
from hemtra.virtual.sensor import scan_part

COARSE = STATION.with_part("travel", counts_per_profile=12)
"""Few profiles: code is made for the types of what comes, not for how much of it."""


def of_the_cover() -> None:
    """Warm up scanning of a cover, and its plan."""
    scan = scan_part(make_cover(1), COARSE)
    Engine(scan.data).run(demo_plan())
    # scans of other programs come without intensity; numba compiles that apart
    bare = HeightMap(np.array(scan.data.z), dx=0.1, dy=1.0, x0=-69.0, y0=-70.0)
    Engine(bare).run(demo_plan())


def of_runners() -> None:
    """Warm up scanning of a runner, and its plan."""
    Engine(RUNNERS[0].scan().data).run(runner_plan())


def of_beads() -> None:
    """Warm up sections of a bead, which take longest of all that the cover's plan needs."""
    across = np.linspace(-5.0, 5.0, 101)
    BeadKind().measure(across, np.repeat(np.maximum(1.6 - 0.7 * across**2, 0.0)[None], 4, axis=0), 0.01)


def of_any_map() -> None:
    """Warm up filters, files and pictures."""
    z = np.random.default_rng(0).normal(0.0, 0.01, (90, 1280)).astype(np.float32)
    z[:, 600:620] = np.nan
    frozen(z)
    widest_over(z, 0.0)
    fill_holes(z, (3, 3))
    smooth_mean(z, 3, 3)
    patterns = z.reshape(-1).view(np.int32)
    restore_places(patterns.copy(), np.frombuffer(lost_places(patterns, patterns.copy()).tobytes(), np.uint8))
    for size in (3, 5, 7):
        remove_spikes(z, 0.3, size)
    data = HeightMap(z, np.zeros(z.shape, np.uint8), dx=0.1, dy=1.0, x0=-69.0, y0=-70.0)
    view = View(-70.0, 70.0, 1.0, 140, 140)
    picture(data, view, np.zeros((256, 3), np.uint8), -6.0, 9.0)
    grey_picture(data, view)


def of_plates() -> None:
    """Warm up scanning of a part of another kind, by a sensor that is calibrated and yawed."""
    scan_part(plate(), COARSE.with_part("sensor", calibration=Calibration(roll=0.1, yaw=0.1)))


WORKS = (of_the_cover, of_beads, of_runners, of_any_map, of_plates)
"""Longest first; the others fill the second core meanwhile."""


def make_haste() -> None:
    """Spare the compiler an eighth of its time: what it collects as garbage, and what it compares.

    For every call in a kernel it asks whether two sets of its options are equal, and makes dictionaries of all
    of them to tell; most were set to the same values.
    """
    gc.set_threshold(200_000, 20, 100)
    if not hasattr(TargetConfig, "_values"):
        return  # a compiler of another making, which compares in its own way
    slowly = TargetConfig.__eq__

    def equal(one: TargetConfig, other: object) -> bool:
        same = isinstance(other, TargetConfig) and one._values == other._values
        return bool(same or slowly(one, other))

    TargetConfig.__eq__ = equal
    TargetConfig.__hash__ = lambda one: hash(tuple(one.options))


def warm_up() -> None:
    """All of it, on two cores. Raises `HemtraError` where a part of it failed."""
    with ProcessPoolExecutor(2, multiprocessing.get_context("spawn"), make_haste) as pool:
        started = [pool.submit(work) for work in WORKS]
    trouble = next((error for one in started if (error := one.exception()) is not None), None)
    if trouble is not None:
        raise HemtraError(
            "Not everything could be compiled; what is missing is compiled when it is first needed."
        ) from trouble
