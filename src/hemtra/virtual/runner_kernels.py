"""The surface of the drawer runner: one cross-section that changes along its length, as a compiled function."""

from __future__ import annotations

import math
from typing import Any

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


RUNNER = np.dtype(
    [
        ("half", np.float64),
        ("upper", np.float64),
        ("lower", np.float64),
        ("lip", np.float64),
        ("bend", np.float64),
        ("left", np.float64, (3,)),  # groove at the left hem: from the hem's inner edge, depth, radius
        ("right", np.float64, (3,)),
        (
            "drift",
            np.float64,
        ),  # bulge of the right hem outward at the middle of the length, inward at its ends
        ("drift_bias", np.float64),
        ("slit", np.float64),
        ("slit_taper", np.float64),  # widening of the gap from the near end to the far one
        ("flush", np.float64),
        ("dent", np.float64, (3,)),  # y from, y to, and by how much the right groove is shallower there
    ]
)
"""Sizes in mm and degrees, as of a `Runner`; y runs from -half to half along the length."""


@lean
def hem_place(y: float, s: Any) -> float:
    """x in mm of the right hem's inner edge."""
    place: float = INNER + s.drift_bias + s.drift * math.cos(math.pi * y / s.half)
    return place


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
def runner_surface(x: float, y: float, s: Any) -> tuple[float, float, int]:
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
def _left_of_slit(x: float, s: Any) -> float:
    """The upper web with its groove, the bend, the lip, and the lower web up to its rounded edge."""
    upper: float = s.upper
    lower: float = s.lower
    bend: float = s.bend
    lean = math.radians(s.lip - 90.0)
    c, t = math.cos(lean), math.sin(lean)
    # the lip touches the bend at one end and the fillet at the other
    top_x, top_z = BEND_AT + bend * c, upper - bend + bend * t
    foot_z = lower + FILLET - FILLET * t
    foot_x = top_x + (top_z - foot_z) * t / c
    if x <= BEND_AT:
        return upper - _groove(x - (-INNER + s.left[0]), s.left[1], s.left[2])
    if x <= top_x:
        return upper - bend + math.sqrt(max(bend**2 - (x - BEND_AT) ** 2, 0.0))
    if x <= foot_x:
        return top_z - (x - top_x) * c / t
    middle = foot_x + FILLET * c
    if x <= middle:
        return lower + FILLET - math.sqrt(max(FILLET**2 - (middle - x) ** 2, 0.0))
    over = x - (SLIT_AT - EDGE_RADIUS)
    if over > 0.0:
        return lower - EDGE_RADIUS + math.sqrt(max(EDGE_RADIUS**2 - over * over, 0.0))
    return lower
