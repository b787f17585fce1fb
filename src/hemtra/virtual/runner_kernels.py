"""The surface of the drawer runner: one cross-section that changes along its length, as a compiled function."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from hemtra.core.compiled import lean

LIGHT = 0.55
"""Share of the light that bare steel throws back."""
HEM, EDGE = 1.2, 1.2
"""Height of a hem above its web, and radius of its outer edge, mm."""
INNER, OUTER = 20.0, 23.0
"""Distances of a hem's inner and outer edge from the middle, mm."""
SLIT_AT, EDGE_RADIUS = -2.0, 0.8
"""Distance of the gap's left face from the middle, and radius of both its edges, mm."""
BEND_AT, FILLET = -12.0, 1.0
"""Start of the upper web's bend, and radius at the toe of the lip, mm."""


class RunnerShape(NamedTuple):
    """Sizes in mm and degrees, as of a `Runner`; y runs from -half to half along the length."""

    half: float
    upper: float
    lower: float
    lip: float
    bend: float
    left: tuple[float, float, float]
    """Groove at the left hem: from the hem's inner edge, depth, radius."""
    right: tuple[float, float, float]
    drift: float
    """Bulge of the right hem outward at the middle of the length, and inward at both ends."""
    drift_bias: float
    slit: float
    slit_taper: float
    """Widening of the gap from the near end to the far one."""
    flush: float
    dent: tuple[float, float, float]
    """y from, y to, and by how much the right groove is shallower there."""

    @property
    def top(self) -> float:
        """Upper bound of its height, mm."""
        return HEM + max(self.upper, self.lower + self.flush)


@lean
def hem_place(y: float, s: RunnerShape) -> float:
    """x in mm of the right hem's inner edge."""
    return INNER + s.drift_bias + s.drift * math.cos(math.pi * y / s.half)


@lean
def _hem(outward: float, web: float) -> float:
    """Height of a hem so far outward of its inner edge, with its outer edge rounded."""
    width = OUTER - INNER
    if outward > width:
        return -np.inf
    over = outward - (width - EDGE)
    top = web + HEM
    return top - EDGE + math.sqrt(EDGE * EDGE - over * over) if over > 0.0 else top


@lean
def _groove(off: float, depth: float, radius: float) -> float:
    """Depth of a ball groove below its web, at a distance from its centre."""
    below = radius * radius - off * off
    return max(0.0, math.sqrt(below) - (radius - depth)) if below > 0.0 else 0.0


@lean
def runner_surface(x: float, y: float, s: RunnerShape) -> tuple[float, float, int]:
    """Height in mm, reflectance, and element at x, y; (-inf, 0, 0) beside the runner and in its slit."""
    if abs(y) > s.half:
        return -np.inf, 0.0, 0
    far = hem_place(y, s)
    cage = s.lower + s.flush
    slit = s.slit + s.slit_taper * y / (2.0 * s.half)
    if x <= -INNER:
        z = _hem(-INNER - x, s.upper)
    elif x >= far:
        z = _hem(x - far, cage)
    elif x >= SLIT_AT + slit:
        depth = s.right[1] - (s.dent[2] if s.dent[0] <= y <= s.dent[1] else 0.0)
        z = cage - _groove(x - (far - s.right[0]), depth, s.right[2])
        over = SLIT_AT + slit + EDGE_RADIUS - x
        if over > 0.0:
            z = cage - EDGE_RADIUS + math.sqrt(max(EDGE_RADIUS**2 - over * over, 0.0))
    elif x > SLIT_AT:
        return -np.inf, 0.0, 0
    else:
        z = _left_of_slit(x, s)
    if z == -np.inf:
        return -np.inf, 0.0, 0
    return z, LIGHT, 1


@lean
def _left_of_slit(x: float, s: RunnerShape) -> float:
    """The upper web with its groove, the bend, the lip, and the lower web up to its rounded edge."""
    lean = math.radians(s.lip - 90.0)
    c, t = math.cos(lean), math.sin(lean)
    # the lip touches the bend at one end and the fillet at the other
    top_x, top_z = BEND_AT + s.bend * c, s.upper - s.bend + s.bend * t
    foot_z = s.lower + FILLET - FILLET * t
    foot_x = top_x + (top_z - foot_z) * t / c
    if x <= BEND_AT:
        return s.upper - _groove(x - (-INNER + s.left[0]), s.left[1], s.left[2])
    if x <= top_x:
        return s.upper - s.bend + math.sqrt(max(s.bend**2 - (x - BEND_AT) ** 2, 0.0))
    if x <= foot_x:
        return top_z - (x - top_x) * c / t
    middle = foot_x + FILLET * c
    if x <= middle:
        return s.lower + FILLET - math.sqrt(max(FILLET**2 - (middle - x) ** 2, 0.0))
    over = x - (SLIT_AT - EDGE_RADIUS)
    if over > 0.0:
        return s.lower - EDGE_RADIUS + math.sqrt(max(EDGE_RADIUS**2 - over * over, 0.0))
    return s.lower
