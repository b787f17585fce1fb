"""Detection at a place of a height map: a hole, a boss, an edge, or a level."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.edge_lines import Wanted, crossings
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.line_fit import robust_circle, robust_linear
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.proposals.proposing import propose_spot
from hemtra.core.zones.zone import AnyZone, RectangleZone, RingZone

RAYS, REACH = 72, 26.0
"""Rays about a place, and search distance along each for the first edge, mm."""
LEAST_STEP, LEAST_CONTRAST = 0.3, 30.0
"""Minimum step of an edge, mm, and its minimum difference of intensity."""
ALL_ROUND, ROUND_WITHIN = 0.75, 1.6
"""Share of rays that must meet a rim, and points of the map by which they may be off its circle, rms."""
ON_EDGE, BACK = 3.0, 1.2
"""Points of the map within which a place is on an edge, and mm of the step back from it."""
NEAR_EDGE = 2.0
"""Distance from a place within which an edge is meant, mm."""
EDGE_SPAN, EDGE_WIDTH, EDGE_LENGTH = 60.0, 4.0, 8.0
"""Angle to either side of the nearest edge that belongs to it, degrees, and width of its zone, mm."""
WORDS = {"hole": "a hole", "boss": "a boss", "edge": "an edge", "level": "flat surface"}
RING_ROOM = 4.0
"""Margin of a rim's zone, mm."""
STRAIGHT = 3.0
"""Points of the map by which crossings may be off a straight edge, rms."""


@dataclass(frozen=True)
class PickedFeature:
    """A detected feature: its kind, zone and parameters."""

    what: Literal["hole", "boss", "edge", "level"]
    kind: str
    zone: AnyZone
    params: dict[str, Any]


def seen_at(data: HeightMap, x: float, y: float, *, printed: bool = False) -> PickedFeature:
    """Detect the feature at x, y in mm: round rims first, then edges nearby, and otherwise the level.

    Where only intensity changes, the printed edge is meant; with `printed` it comes before what stands
    out. Raises `NotMeasured` where there is nothing.
    """
    edge = _printed_edge(data, x, y) if printed else None
    if edge is not None:
        return edge
    seen = _standing_out(data, x, y)
    return seen if seen.what != "level" else _printed_edge(data, x, y) or seen


def _printed_edge(data: HeightMap, x: float, y: float) -> PickedFeature | None:
    """The edge of intensity near a place."""
    if data.intensity is None:
        return None
    places, off, falls = _around(data, x, y, grey=True)
    if not off.size or off.min() > NEAR_EDGE:
        return None
    spacing = max(data.grid.dx, data.grid.dy)
    if off.min() <= ON_EDGE * spacing:
        ahead = places[off <= ON_EDGE * spacing + 1.0].mean(axis=0) - (x, y)
        back = BACK * ahead / max(float(np.hypot(*ahead)), 1e-9)
        x, y = x - float(back[0]), y - float(back[1])
        places, off, falls = _around(data, x, y, grey=True)
    if not off.size or off.min() > NEAR_EDGE:
        return None
    edge = _edge(places, off, falls, (x, y), spacing)
    return None if edge is None else replace(edge, params={**edge.params, "on": "brightness"})


def _standing_out(data: HeightMap, x: float, y: float) -> PickedFeature:
    """Detect the feature at a place by its heights alone."""
    places, off, falls = _around(data, x, y)
    spacing = max(data.grid.dx, data.grid.dy)
    for outward in (False, True):
        rim = places[falls == outward]
        if len(rim) >= ALL_ROUND * RAYS:
            cx, cy, radius, used = robust_circle(rim[:, 0], rim[:, 1], 0.2 * spacing)
            left = (np.hypot(rim[:, 0] - cx, rim[:, 1] - cy) - radius)[used]
            close = float(np.sqrt(np.mean(left**2))) <= ROUND_WITHIN * spacing
            if close and used.mean() >= ALL_ROUND and math.hypot(x - cx, y - cy) < radius:
                zone = RingZone(
                    x=round(cx, 2),
                    y=round(cy, 2),
                    width=round(2 * radius + RING_ROOM, 2),
                    height=round(2 * radius + RING_ROOM, 2),
                    inner=round(max((radius - 2.0) / (radius + 2.0), 0.15), 2),
                )
                change = "falls" if outward else "rises"
                return PickedFeature("boss" if outward else "hole", "circle", zone, {"change": change})
    if off.size and off.min() <= ON_EDGE * spacing:
        # from the edge itself its direction is unknown; from a step back on its upper side it is known
        ahead = places[off <= ON_EDGE * spacing + 1.0].mean(axis=0) - (x, y)
        back = BACK * ahead / max(float(np.hypot(*ahead)), 1e-9)
        x, y = x - float(back[0]), y - float(back[1])
        places, off, falls = _around(data, x, y)
    if off.size and off.min() <= NEAR_EDGE:
        edge = _edge(places, off, falls, (x, y), spacing)
        if edge is not None:
            return edge
    return PickedFeature("level", "spot", propose_spot(data, x, y), {})


def _around(
    data: HeightMap, x: float, y: float, *, grey: bool = False
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """First edges on rays about a place: positions (n, 2), distances (n,), and whether it falls outward."""
    turn = 2 * np.pi * np.arange(RAYS) / RAYS
    u, v = np.cos(turn), np.sin(turn)
    half = REACH / 2
    lines = np.column_stack([x + half * u, y + half * v, u, v])
    least = LEAST_CONTRAST if grey else LEAST_STEP
    found = {
        change: crossings(data, lines, half, Wanted(change, "first", least, grey=grey))
        for change in ("falls", "rises")
    }
    at = np.column_stack([np.where(np.isnan(f[:, 0]), np.inf, f[:, 0]) for f in found.values()])
    falls = at[:, 0] <= at[:, 1]
    first = at.min(axis=1)
    seen = np.isfinite(first)
    place = lines[seen, :2] + first[seen, None] * lines[seen, 2:]
    return place, first[seen] + half, falls[seen]


def _edge(
    places: FloatArray, off: FloatArray, falls: FloatArray, at: tuple[float, float], spacing: float
) -> PickedFeature | None:
    """The straight edge nearest to a place, across which a zone is laid."""
    nearest = int(np.argmin(off))
    away = places - at
    angle = np.degrees(np.arctan2(away[:, 1], away[:, 0]))
    beside = np.abs((angle - angle[nearest] + 180.0) % 360.0 - 180.0) <= EDGE_SPAN
    beside &= (falls == falls[nearest]) & (np.hypot(*(places - places[nearest]).T) <= EDGE_LENGTH / 2)
    if beside.sum() < 4:
        return None
    # along the tangent, so that a line never stands upright
    t = math.radians(angle[nearest] + 90.0)
    along = (places[beside] - places[nearest]) @ np.array([math.cos(t), math.sin(t)])
    across = (places[beside] - places[nearest]) @ np.array([-math.sin(t), math.cos(t)])
    line, used = robust_linear(np.column_stack([np.ones(along.size), along]), across, 0.2 * spacing)
    left = (across - line[0] - line[1] * along)[used]
    if float(np.sqrt(np.mean(left**2))) > STRAIGHT * spacing:
        return None
    turn = math.degrees(t + math.atan(float(line[1]))) - 90.0
    zone = RectangleZone(
        x=round(float(places[nearest, 0]), 2),
        y=round(float(places[nearest, 1]), 2),
        width=EDGE_WIDTH,
        height=EDGE_LENGTH,
        rotation=round((turn + 180.0) % 360.0 - 180.0, 1),
    )
    return PickedFeature("edge", "edge", zone, {"change": "falls" if falls[nearest] else "rises"})


def need(seen: PickedFeature, what: tuple[str, ...], wanted: str) -> PickedFeature:
    """The same, if it is one of the things wanted. Raises `NotMeasured` that says what to click instead."""
    if seen.what not in what:
        raise NotMeasured(f"there is {WORDS[seen.what]} where you clicked; click {wanted}")
    return seen
