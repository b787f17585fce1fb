"""The drawer runner: roll-formed steel whose cross-section drifts along its length, and what is true of it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError
from hemtra.core.geometry.frames import Frame
from hemtra.virtual.runner_kernels import INNER
from hemtra.virtual.shapes import runner_shape

LENGTH = 90.0
"""mm; the scan takes the 80 in its middle."""
AT_REST = Frame()
UPPER = 8.0
"""Height of the upper web above the station's zero, mm."""


@dataclass(frozen=True)
class Runner:
    """An individual piece of runner, in mm and degrees; sizes as on its drawing."""

    serial: str = "000000"
    left_depth: float = 0.9
    left_radius: float = 1.6
    left_from_hem: float = 4.0
    right_depth: float = 0.9
    right_from_hem: float = 4.0
    offset: float = 6.0
    lip: float = 105.0
    bend: float = 2.5
    slit: float = 2.0
    slit_taper: float = 0.0
    flush: float = 0.1
    drift: float = 0.15
    hem_bias: float = 0.0
    dent: tuple[float, float, float] = (0.0, 0.0, 0.0)
    pose: Frame = AT_REST

    @property
    def size(self) -> tuple[float, float]:
        """Along x and along travel, in mm."""
        return 46.6, LENGTH

    def shape(self) -> np.record:
        """The parameters of its surface."""
        return runner_shape(
            half=LENGTH / 2,
            upper=UPPER,
            lower=UPPER - self.offset,
            lip=self.lip,
            bend=self.bend,
            left=(self.left_from_hem, self.left_depth, self.left_radius),
            right=(self.right_from_hem, self.right_depth, 1.6),
            drift=self.drift,
            drift_bias=self.hem_bias,
            slit=self.slit,
            slit_taper=self.slit_taper,
            flush=self.flush,
            dent=self.dent,
        )

    def truth(self, y: FloatArray) -> dict[int, FloatArray]:
        """True value at places y (n,) in mm along its length, by balloon of the runner's sheet."""
        same = np.ones_like(y)
        dented = (y >= self.dent[0]) & (y <= self.dent[1])
        hems = INNER + self.hem_bias + self.drift * np.cos(2 * math.pi * y / LENGTH) + INNER
        return {
            1: self.left_depth * same,
            2: self.left_from_hem * same,
            3: self.left_radius * same,
            4: self.right_depth - self.dent[2] * dented,
            5: self.right_from_hem * same,
            6: self.offset * same,
            7: self.lip * same,
            8: self.bend * same,
            9: self.slit + self.slit_taper * y / LENGTH,
            10: self.flush * same,
            11: hems,
        }


DEFECTS: Mapping[str, Mapping[str, Any]] = {
    "groove-shallow": {"left_depth": 0.78},
    "groove-off": {"right_from_hem": 4.22},
    "groove-wide": {"left_radius": 1.85},
    "groove-dented": {"dent": (8.0, 14.0, 0.14)},
    "web-low": {"offset": 6.18},
    "lip-open": {"lip": 107.5},
    "bend-wide": {"bend": 2.85},
    "slit-tapered": {"slit_taper": 0.6},
    "cage-high": {"flush": 0.3},
    "hem-drift": {"drift": 0.75},
}
"""Sizes that a defect changes, by name."""


def make_runner(seed: int, defects: Mapping[str, float | None] | None = None) -> Runner:
    """A runner with small natural variation, the same for the same seed. Raises `HemtraError`."""
    rng = np.random.default_rng([seed, 46])
    unknown = sorted(set(defects or ()) - set(DEFECTS))
    if unknown:
        raise HemtraError(
            f"A drawer runner has no defect “{unknown[0]}”; there are {', '.join(sorted(DEFECTS))}."
        )
    runner = Runner(
        serial=f"{seed:06d}",
        left_depth=0.9 + rng.normal(0, 0.008),
        left_radius=1.6 + rng.normal(0, 0.015),
        left_from_hem=4.0 + rng.normal(0, 0.012),
        right_depth=0.9 + rng.normal(0, 0.008),
        right_from_hem=4.0 + rng.normal(0, 0.012),
        offset=6.0 + rng.normal(0, 0.015),
        lip=105.0 + rng.normal(0, 0.15),
        bend=2.5 + rng.normal(0, 0.02),
        slit=2.0 + rng.normal(0, 0.02),
        flush=0.1 + rng.normal(0, 0.01),
        drift=0.15 + rng.normal(0, 0.02),
        pose=Frame(x=float(rng.uniform(-0.8, 0.8)), z=float(rng.uniform(-0.2, 0.2))),
    )
    for name in defects or ():
        runner = replace(runner, **DEFECTS[name])
    return runner
