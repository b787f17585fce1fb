"""A recorded scan of a simulated part, simulated again."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.scan import Scan
from hemtra.virtual.demo import PARTS, STATION, TAKEN, random_pose
from hemtra.virtual.sensor import scan_part

Rescan = Callable[[float, np.random.Generator], HeightMap]
"""Makes a new scan of a part that lies tilted by so many degrees, anyhow turned and anywhere in view."""


def rescan_of(scan: Scan) -> Rescan | None:
    """Simulate a scan of the demo's tray anew; None for any other scan."""
    part = next((part for part in PARTS if part.file == scan.name), None)
    if part is None or scan.taken != TAKEN or scan.station != STATION.snapshot():
        return None
    cover = part.cover

    def rescan(tilt: float, rng: np.random.Generator) -> HeightMap:
        toward = rng.uniform(0.0, 2.0 * math.pi)
        pose = replace(
            random_pose(rng, cover.size), tilt_x=tilt * math.cos(toward), tilt_y=tilt * math.sin(toward)
        )
        return scan_part(replace(cover, pose=pose), STATION, int(rng.integers(2**31))).data

    return rescan
