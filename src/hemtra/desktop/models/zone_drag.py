"""Moving, resizing and rotating zones with the pointer."""

from __future__ import annotations

import math
from typing import TypeAlias

import numpy as np

from hemtra.core.zones import path_edits
from hemtra.core.zones.edits import moved_node, placed_piece, with_placed_piece
from hemtra.core.zones.zone import AnyZone, PathZone, PolygonZone, RingZone
from hemtra.desktop.models.viewport import Pixel, Viewport

Handle: TypeAlias = str
"""“body”, “rotate”, “inner”, or “corner-k” or “node-k” by its number; of a piece with “cut-n:” before it."""

GRAB = 9.0
"""Catch radius of a handle, pixels."""
STALK = 24.0
"""Distance of the rotation handle from a zone's upper edge, pixels."""
LEAST_SIZE = 0.05
"""Smallest size of a zone by dragging, mm."""
SNAP = 15.0
"""Step of rotation when snapping, degrees."""


def handle_pixels(zone: AnyZone, viewport: Viewport) -> dict[Handle, Pixel]:
    """Positions of the handles on the screen."""
    corners = [viewport.to_screen(*corner) for corner in zone.corners()]
    if isinstance(zone, PolygonZone):
        found = {f"node-{k}": viewport.to_screen(*node) for k, node in enumerate(zone.outline())}
    elif isinstance(zone, PathZone):
        # a path is turned by its nodes; a stalk beside it would only be in the way
        return {f"node-{k}": viewport.to_screen(*node) for k, node in enumerate(zone.node_places())}
    else:
        found = {f"corner-{k}": corner for k, corner in enumerate(corners)}
    if isinstance(zone, RingZone):
        inner = zone.outward(np.array([zone.inner * zone.width / 2]), np.zeros(1))[0]
        found["inner"] = viewport.to_screen(float(inner[0]), float(inner[1]))
    middle = (corners[2][0] + corners[3][0]) / 2, (corners[2][1] + corners[3][1]) / 2
    up = math.radians(zone.rotation)
    found["rotate"] = middle[0] - STALK * math.sin(up), middle[1] - STALK * math.cos(up)
    return found


def pieces_of(zone: AnyZone) -> dict[str, AnyZone]:
    """The pieces of a zone as they lie on the part, by the beginning of their handles' names."""
    return {
        f"{name}-{k}:": placed_piece(zone, name, k)
        for name in ("cut", "add")
        for k in range(len(getattr(zone, name)))
    }


def grabbed(zone: AnyZone, viewport: Viewport, pixel: Pixel) -> Handle | None:
    """Handle or piece of a zone under the pointer."""
    for name, piece in pieces_of(zone).items():
        found = grabbed(piece, viewport, pixel)
        if found is not None:
            return name + found
    for handle, place in handle_pixels(zone, viewport).items():
        if math.dist(place, pixel) <= GRAB:
            return handle
    x, y = viewport.to_part(*pixel)
    return "body" if zone.contains(np.array(x), np.array(y)) else None


def dragged(
    zone: AnyZone, handle: Handle, start: tuple[float, float], now: tuple[float, float], *, snap: bool = False
) -> AnyZone:
    """The zone after its handle went from `start` to `now`, both in mm on the part.

    Rounded to a micrometre and a hundredth of a degree: more digits would only be noise of the hand.
    """
    name, of_piece, rest = handle.partition(":")
    if of_piece:
        which, number = name.rsplit("-", 1)
        piece = dragged(placed_piece(zone, which, int(number)), rest, start, now, snap=snap)
        return with_placed_piece(zone, which, int(number), piece)
    dx, dy = now[0] - start[0], now[1] - start[1]
    if handle == "body":
        return zone.model_copy(update={"x": round(zone.x + dx, 3), "y": round(zone.y + dy, 3)})
    if handle == "rotate":
        before = math.atan2(start[1] - zone.y, start[0] - zone.x)
        after = math.atan2(now[1] - zone.y, now[0] - zone.x)
        angle = zone.rotation + math.degrees(after - before)
        angle = round(angle / SNAP) * SNAP if snap else round(angle, 2)
        return zone.model_copy(update={"rotation": (angle + 180.0) % 360.0 - 180.0})
    if handle == "inner" and isinstance(zone, RingZone):
        reach = math.dist(now, (zone.x, zone.y)) / max(zone.width / 2, LEAST_SIZE)
        return zone.model_copy(update={"inner": round(min(max(reach, 0.05), 0.95), 3)})
    if isinstance(zone, PathZone):
        return path_edits.moved_node(zone, int(handle.removeprefix("node-")), dx, dy)
    if isinstance(zone, PolygonZone):
        return moved_node(zone, int(handle.removeprefix("node-")), dx, dy)
    return _resized(zone, int(handle[-1]), dx, dy)


def _resized(zone: AnyZone, corner: int, dx: float, dy: float) -> AnyZone:
    """The corner follows the pointer, the opposite one stays."""
    corners = zone.corners()
    moved, fixed = corners[corner] + (dx, dy), corners[(corner + 2) % 4]
    c, s = math.cos(math.radians(zone.rotation)), math.sin(math.radians(zone.rotation))
    spread = moved - fixed
    size = abs(c * spread[0] + s * spread[1]), abs(c * spread[1] - s * spread[0])
    middle = (moved + fixed) / 2
    return zone.model_copy(
        update={
            "x": round(float(middle[0]), 3),
            "y": round(float(middle[1]), 3),
            "width": max(LEAST_SIZE, round(float(size[0]), 3)),
            "height": max(LEAST_SIZE, round(float(size[1]), 3)),
        }
    )
