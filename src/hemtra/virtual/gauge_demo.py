"""The gauge study of the demo: simulated covers, each presented in three ways so many times."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import partial
from itertools import product

import numpy as np

from hemtra.core.errors import HemtraError
from hemtra.core.evaluation.engine import Engine
from hemtra.core.gauge.study import Presented
from hemtra.core.geometry.frames import Frame
from hemtra.core.maps.scan import Scan
from hemtra.core.plan.document import Plan
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import STATION, random_pose
from hemtra.virtual.sensor import scan_part

POSES = ("straight", "turned", "tilted")
"""Presentations of the parts, in place of operators."""


def made_up(plan: Plan, parts: int, trials: int, progress: Callable[[int, int, str], bool]) -> list[Presented]:
    """Covers of good production, each presented in three ways so many times, at the demo station."""
    tasks = list(product(range(1, parts + 1), POSES, range(1, trials + 1)))
    found = []
    with ProcessPoolExecutor() as pool:
        for done, one in enumerate(pool.map(partial(_made_up, plan), tasks)):
            if not progress(done, len(tasks), f"cover {one.part}"):
                pool.shutdown(cancel_futures=True)
                raise HemtraError("The study was cancelled.")
            found.append(one)
    return found


def _made_up(plan: Plan, task: tuple[int, str, int]) -> Presented:
    number, pose, trial = task
    scan = scan_presented(number, pose, trial)
    result = Engine(scan.data, scan.serial).run(plan)
    return Presented(str(number), pose, trial, str(result.verdict), result.characteristics, tag=True)


def scan_presented(number: int, pose: str, trial: int, again: int = 1) -> Scan:
    """A cover of good production at the demo station.

    pose: one of `POSES`; a cover lies anyhow turned where it is another name, as an operator's. again: the how
    manyth scan of this trial, each of which differs.
    """
    cover = make_cover(number)
    known = POSES.index(pose) if pose in POSES else len(POSES) + zlib.crc32(pose.encode())
    seed = [number, known, trial, *([again] if again > 1 else [])]
    lying = _pose(pose, np.random.default_rng(seed), cover.size)
    return scan_part(replace(cover, pose=lying), STATION, int(np.random.default_rng(seed).integers(2**31)))


def _pose(pose: str, rng: np.random.Generator, size: tuple[float, float]) -> Frame:
    """Pose of a part: straight, rotated at random, or tilted as well."""
    anywhere = random_pose(rng, size)
    if pose == "straight":
        return replace(anywhere, x=0.0, y=0.0, rotation=float(rng.uniform(-0.5, 0.5)), tilt_x=0.0, tilt_y=0.0)
    return anywhere if pose == "tilted" else replace(anywhere, tilt_x=0.0, tilt_y=0.0)
