"""The gauge study of the demo: made-up covers, each presented in three ways so many times."""

from __future__ import annotations

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
from hemtra.core.plan.document import Plan
from hemtra.virtual.cover import make_cover
from hemtra.virtual.demo import STATION, random_pose
from hemtra.virtual.sensor import scan_part

POSES = ("straight", "turned", "tilted")
"""How the parts are presented, in place of operators."""


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
    cover = make_cover(number)
    seed = [number, POSES.index(pose), trial]
    lying = _pose(pose, np.random.default_rng(seed), cover.size)
    scan = scan_part(replace(cover, pose=lying), STATION, int(np.random.default_rng(seed).integers(2**31)))
    result = Engine(scan.data, scan.serial).run(plan)
    return Presented(str(number), pose, trial, str(result.verdict), result.characteristics, tag=True)


def _pose(pose: str, rng: np.random.Generator, size: tuple[float, float]) -> Frame:
    """Where a part lies: as it is put down straight, anyhow turned, or tilted as well."""
    anywhere = random_pose(rng, size)
    if pose == "straight":
        return replace(anywhere, x=0.0, y=0.0, rotation=float(rng.uniform(-0.5, 0.5)), tilt_x=0.0, tilt_y=0.0)
    return anywhere if pose == "tilted" else replace(anywhere, tilt_x=0.0, tilt_y=0.0)
