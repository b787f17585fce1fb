"""The surface of the rain-pump cover, drawn analytically, as compiled functions of x and y.

Part coordinates in mm: origin in the middle of the flange's top face, x along its length.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled, lean

BEAD_STEPS = 3286
"""Points along the path at which the bead is known, 0.1 mm apart."""
MOST_SPECKS, MOST_MODULES = 32, 48
"""Most dark and shiny spots, and modules along a side of the printed code."""
COVER = np.dtype(
    [
        ("boss_heights", np.float64, (4,)),  # counter-clockwise from +x +y
        ("boss_x", np.float64),
        ("boss_y", np.float64),
        ("hub_height", np.float64),
        ("hub_slope_x", np.float64),
        ("hub_slope_y", np.float64),
        ("bore_diameter", np.float64),
        ("bore_x", np.float64),
        ("bore_y", np.float64),
        ("pocket_depth", np.float64),
        ("plug_flush", np.float64),
        ("bow", np.float64),  # height of the flange at x = ±60 above its middle
        ("length", np.float64),
        ("rib_draft", np.float64),  # tangent of the draft angle
        ("spots", np.int64),  # number of the specks that count
        ("side", np.int64),  # modules along a side of the printed code
        ("bead", np.float64, (BEAD_STEPS, 3)),  # width, height and offset outward, evenly along its path
        ("specks", np.float64, (MOST_SPECKS, 4)),  # x, y, radius, reflectance of dark and shiny spots
        ("print_", np.uint8, (MOST_MODULES, MOST_MODULES)),  # its modules, 1 = dark; row 0 at the top
    ]
)
"""Variables of an individual cover, sizes in mm, slopes as tangents."""


# Elements a point of the surface can belong to.
NOTHING, FLANGE, BOSS, HUB, POCKET, SLOT, PLUG, RIB, BEAD = range(9)

BOSS_RADIUS, HOLE_RADIUS = 6.0, 2.75
HUB_RADIUS = 19.0
FLANGE_HALF_Y, FLANGE_CORNER = 40.0, 12.0
POCKET_X, POCKET_HALF_X, POCKET_HALF_Y = 35.0, 12.0, 7.0
PLUG_X, PLUG_HALF_X, PLUG_HALF_Y, PLUG_EDGE = -35.0, 7.0, 4.0, 0.4
SLOT_HALF_X, SLOT_HALF_Y, SLOT_DEPTH = 7.5, 4.5, 3.0
RIB_Y, RIB_HALF_X, RIB_HALF_Y, RIB_HEIGHT = 25.5, 18.0, 1.0, 1.2
BEAD_HALF_X, BEAD_HALF_Y, BEAD_CORNER = 53.0, 33.0, 9.0
BEAD_LENGTH = 4 * (BEAD_HALF_X + BEAD_HALF_Y) - (8 - 2 * math.pi) * BEAD_CORNER
BEAD_REACH = 5.0
"""Largest distance of the bead from its path, mm."""
PAD_X, PAD_Y, PAD_HALF = -27.0, -18.0, 6.0
MODULE = 0.5
"""Side of one module of the printed code."""

CAST, MACHINED, PASTE, PLASTIC, PAD, INK = 0.55, 0.75, 0.95, 0.40, 0.90, 0.22


@lean
def rounded_rectangle(x: float, y: float, half_x: float, half_y: float, corner: float) -> float:
    """Signed distance to a rounded rectangle about the origin, negative inside."""
    qx, qy = abs(x) - half_x + corner, abs(y) - half_y + corner
    if qx <= 0.0 or qy <= 0.0:
        return max(qx, qy) - corner
    return math.sqrt(qx * qx + qy * qy) - corner


@lean
def cover_surface(x: float, y: float, s: Any) -> tuple[float, float, int]:
    """Height in mm, reflectance, and element at x, y; (-inf, 0, NOTHING) beside the part or in holes."""
    if rounded_rectangle(x, y, s.length / 2, FLANGE_HALF_Y, FLANGE_CORNER) > 0.0:
        return -np.inf, 0.0, NOTHING
    base = s.bow * (x / 60.0) ** 2
    z, reflectance, element = _relief(x, y, s)
    if element == NOTHING:
        return -np.inf, 0.0, NOTHING
    if element == FLANGE:
        reflectance = _printed(x, y, s, reflectance)
    for k in range(s.spots):
        dx, dy = x - s.specks[k, 0], y - s.specks[k, 1]
        if dx * dx + dy * dy < s.specks[k, 2] ** 2:
            reflectance = s.specks[k, 3]
    return base + z, reflectance, element


@lean
def _relief(x: float, y: float, s: Any) -> tuple[float, float, int]:
    """Height above the flange, reflectance and element."""
    from_centre = x * x + y * y
    if from_centre < HUB_RADIUS**2:
        if (x - s.bore_x) ** 2 + (y - s.bore_y) ** 2 < (s.bore_diameter / 2) ** 2:
            return 0.0, 0.0, NOTHING
        return s.hub_height + s.hub_slope_x * x + s.hub_slope_y * y, MACHINED, HUB
    bx, by = abs(x) - s.boss_x, abs(y) - s.boss_y
    from_boss = bx * bx + by * by
    if from_boss < BOSS_RADIUS**2:
        if from_boss < HOLE_RADIUS**2:
            return 0.0, 0.0, NOTHING
        quadrant = (0 if x > 0 else 1) if y > 0 else (2 if x < 0 else 3)
        return s.boss_heights[quadrant], MACHINED, BOSS
    if abs(x - POCKET_X) < POCKET_HALF_X and abs(y) < POCKET_HALF_Y:
        return -s.pocket_depth, CAST, POCKET
    if abs(x - PLUG_X) < SLOT_HALF_X + PLUG_EDGE and abs(y) < SLOT_HALF_Y + PLUG_EDGE:
        return _plug(x - PLUG_X, y, s.plug_flush)
    inset = min(RIB_HALF_Y - abs(abs(y) - RIB_Y), RIB_HALF_X - abs(x))
    if inset > 0.0:
        return min(RIB_HEIGHT, inset / s.rib_draft), CAST, RIB
    off = rounded_rectangle(x, y, BEAD_HALF_X, BEAD_HALF_Y, BEAD_CORNER)
    if abs(off) < BEAD_REACH:
        at = along_bead(x, y) / BEAD_LENGTH * BEAD_STEPS
        k = int(at)
        f, n = at - k, BEAD_STEPS
        first, second = s.bead[k % n], s.bead[(k + 1) % n]
        width, height = first[0] + f * (second[0] - first[0]), first[1] + f * (second[1] - first[1])
        away = off - first[2] - f * (second[2] - first[2])
        if abs(away) < width / 2:
            return height * (1.0 - (2.0 * away / width) ** 2), PASTE, BEAD
    return 0.0, CAST, FLANGE


@lean
def along_bead(x: float, y: float) -> float:
    """Position along the bead's path next to x, y, mm, counter-clockwise from the middle of its near side."""
    px, py = BEAD_HALF_X - BEAD_CORNER, BEAD_HALF_Y - BEAD_CORNER
    qx, qy = abs(x) - px, abs(y) - py
    quarter = math.pi / 2 * BEAD_CORNER
    if qx > 0.0 and qy > 0.0:
        turn = math.atan2(qy, qx) * BEAD_CORNER
        if x > 0.0:
            return px + quarter - turn if y < 0.0 else px + quarter + 2 * py + turn
        far = px + 2 * quarter + 2 * py + 2 * px
        return far + quarter - turn if y > 0.0 else far + quarter + 2 * py + turn
    if qx > qy:
        if x > 0.0:
            return px + quarter + y + py
        return 3 * px + 3 * quarter + 2 * py + py - y
    if y > 0.0:
        return px + 2 * quarter + 2 * py + px - x
    return x if x >= 0.0 else BEAD_LENGTH + x


@lean
def _plug(u: float, v: float, flush: float) -> tuple[float, float, int]:
    """The plug in its slot, both with edges rounded by PLUG_EDGE, u and v from the plug's centre."""
    in_plug = min(PLUG_HALF_X - abs(u), PLUG_HALF_Y - abs(v))
    if in_plug >= 0.0:
        return flush - _rounding(in_plug), PLASTIC, PLUG
    in_slot = min(SLOT_HALF_X - abs(u), SLOT_HALF_Y - abs(v))
    if in_slot > 0.0:
        return -SLOT_DEPTH, PLASTIC, SLOT
    return -_rounding(-in_slot), CAST, SLOT if in_slot > -PLUG_EDGE else FLANGE


@lean
def _rounding(inset: float) -> float:
    """Depth of a rounded edge below its face, `inset` from the edge."""
    rest = max(PLUG_EDGE - inset, 0.0)
    return PLUG_EDGE - math.sqrt(max(PLUG_EDGE**2 - rest * rest, 0.0))


@lean
def _printed(x: float, y: float, s: Any, plain: float) -> float:
    """Reflectance on the marking pad: a light label with the code above and an arrow below."""
    u, v = x - PAD_X, y - PAD_Y
    if abs(u) > PAD_HALF or abs(v) > PAD_HALF:
        return plain
    column = math.floor(u / MODULE + s.side / 2.0)
    row = math.floor((5.2 - v) / MODULE)
    if 0 <= row < s.side and 0 <= column < s.side:
        return INK if s.print_[row, column] else PAD
    # the arrow points to +x: a shaft and a head
    shaft = abs(v + 4.5) < 0.3 and -4.0 < u < 2.0
    head = 2.0 <= u < 4.0 and abs(v + 4.5) < (4.0 - u) * 0.5
    return INK if shaft or head else PAD


@compiled
def flange_points(xs: FloatArray, ys: FloatArray, shape: Any) -> FloatArray:
    """(n, 3) x, y and z of the places of a grid that lie on the bare flange."""
    found = np.empty((xs.size * ys.size, 3))
    n = 0
    for x in xs:
        for y in ys:
            z, _, element = cover_surface(x, y, shape)
            if element == FLANGE:
                found[n] = x, y, z
                n += 1
    return found[:n]
