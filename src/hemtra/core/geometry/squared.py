"""Sections of a tilted part, turned so that lengths run along its base and heights stand square to it.

A map holds heights as seen from above. Counted straight down from a tilted base, they would lean: the round
edge of a part tilted by 2° would read a radius that is 5 % off.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled
from hemtra.core.geometry.elements import Plane


@dataclass(frozen=True)
class Squared:
    """How a section of what runs across it lies on its base; its numbers may be lanes of many sections.

    stretch: mm along the base for each mm seen from above. lean: mm along the base by which what stands 1 mm
    above it, square to it, is seen from above to one side. rise: mm of height for each of these.
    """

    stretch: Any
    lean: Any
    rise: float

    @classmethod
    def on(cls, base: Plane, ux: Any, uy: Any) -> Squared:
        """On a base, along unit vectors ux, uy."""
        along = base.slope_x * ux + base.slope_y * uy
        across = base.slope_y * ux - base.slope_x * uy
        # what runs across the section does so along the base
        rise, over = math.sqrt(1.0 + base.slope_x**2 + base.slope_y**2), np.sqrt(1.0 + across**2)
        return cls(rise / over, along / over, rise)

    def of(self, some: slice) -> Squared:
        """Of some of many sections."""
        return Squared(self.stretch[some], self.lean[some], self.rise)

    def seen(self, x: Any, z: Any) -> tuple[Any, Any]:
        """What lies x mm along the base and z mm square above it: mm along as seen from above, and above it."""
        return (x - self.lean * z) / self.stretch, z * self.rise

    def turned(self, u: FloatArray, above: FloatArray, x: FloatArray, pivot: float = 0.0) -> FloatArray:
        """(n, k) mm square above the base at x (k,) mm along it, both evenly spaced, of n sections.

        u (m,): mm along them as seen from above; above (n, m): mm straight above the base. pivot: mm above it
        of what is seen where it stands. What a higher place hides from where the base points is none.
        """
        lean, stretch = (
            np.broadcast_to(np.asarray(v, np.float64).ravel(), len(above)) for v in (self.lean, self.stretch)
        )
        return _turned(u, above / self.rise - pivot, stretch, lean, x) + pivot


def flattened(offsets: FloatArray, slopes: tuple[float, float]) -> FloatArray:
    """(n, 2) offsets seen from above, as they are on a plane of such slopes: longer along the slope."""
    longer, uphill = _lengthened(slopes)
    return offsets + longer * (offsets @ uphill)[:, None] * uphill


def seen_from_above(offsets: FloatArray, slopes: tuple[float, float]) -> FloatArray:
    """(n, 2) offsets on a plane of such slopes, as they are seen from above: shorter along the slope."""
    longer, uphill = _lengthened(slopes)
    return offsets - longer / (1.0 + longer) * (offsets @ uphill)[:, None] * uphill


def _lengthened(slopes: tuple[float, float]) -> tuple[float, FloatArray]:
    """By what share lengths along the slope are longer, and the unit vector uphill."""
    steep = math.hypot(*slopes)
    return math.hypot(1.0, steep) - 1.0, np.array(slopes) / (steep or 1.0)


@compiled
def _turned(u: FloatArray, z: FloatArray, stretch: FloatArray, lean: FloatArray, x: FloatArray) -> FloatArray:
    """(n, k) heights z (n, m), which lean over by so much for each mm of them, straight between the points."""
    out = np.full((z.shape[0], x.size), np.nan)
    for n in range(z.shape[0]):
        # the way in which what a fall hides is passed over
        way = 1 if lean[n] >= 0.0 else -1
        k = 0 if way > 0 else x.size - 1
        at, height, gap = -np.inf, np.nan, True
        for step in range(u.size):
            m = step if way > 0 else u.size - 1 - step
            if math.isnan(z[n, m]):
                gap = True
                continue
            here = way * (stretch[n] * u[m] + lean[n] * z[n, m])
            if here <= at:
                continue
            while 0 <= k < x.size and way * x[k] <= here:
                if not gap:
                    share = (way * x[k] - at) / (here - at)
                    out[n, k] = height + share * (z[n, m] - height)
                elif way * x[k] == here:
                    out[n, k] = z[n, m]
                k += way
            at, height, gap = here, z[n, m], False
    return out
