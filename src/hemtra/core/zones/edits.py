"""Edits of zones: other shapes, cut-outs, mirror images, nodes."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.zones.zone import AnyZone, EllipseZone, PathZone, PolygonZone, RectangleZone, RingZone

ROUND_NODES = 12
"""Nodes of the polygon that an ellipse becomes."""
CUT = 0.4
"""Size of a new cut-out as a share of its zone."""
SHAPES: dict[str, type[AnyZone]] = {
    "rectangle": RectangleZone,
    "ellipse": EllipseZone,
    "ring": RingZone,
    "polygon": PolygonZone,
}


def reshaped(zone: AnyZone, shape: str) -> AnyZone:
    """The zone in another shape, in the same place and of the same size, with its pieces."""
    if zone.shape == shape:
        return zone
    kept: dict[str, Any] = {
        name: getattr(zone, name) for name in ("x", "y", "width", "height", "rotation", "add", "cut", "band")
    }
    if shape == "polygon":
        outline = zone.base_outline()
        if len(outline) > ROUND_NODES:
            outline = outline[:: len(outline) // ROUND_NODES]
        kept["nodes"] = tuple((float(u), float(v)) for u, v in outline / (zone.width, zone.height))
    return SHAPES[shape](**kept)


def with_cut(zone: AnyZone) -> AnyZone:
    """The zone with one more cut-out, in its middle or beside those there are."""
    size = min(zone.width, zone.height) * CUT
    beside = len(zone.cut) * size * 0.6
    hole = EllipseZone(x=round(beside, 3), y=0.0, width=round(size, 3), height=round(size, 3))
    return zone.model_copy(update={"cut": (*zone.cut, hole)})


def with_addition(zone: AnyZone) -> AnyZone:
    """The zone with one more piece that belongs to it, at its right end."""
    size = min(zone.width, zone.height) * CUT
    piece = RectangleZone(x=round(zone.width / 2, 3), y=0.0, width=round(size, 3), height=round(size, 3))
    return zone.model_copy(update={"add": (*zone.add, piece)})


def placed_piece(zone: AnyZone, name: str, number: int) -> AnyZone:
    """A piece of a zone, one of its “cut” or “add”, as it lies on the part."""
    piece: AnyZone = getattr(zone, name)[number]
    x, y = zone.outward(np.array([piece.x]), np.array([piece.y]))[0]
    turned = piece.rotation + zone.rotation
    return piece.model_copy(update={"x": float(x), "y": float(y), "rotation": turned})


def with_placed_piece(zone: AnyZone, name: str, number: int, piece: AnyZone) -> AnyZone:
    """The zone with a piece replaced by one given as it lies on the part."""
    u, v = zone.local(np.array(piece.x), np.array(piece.y))
    changes = {"x": round(float(u), 3), "y": round(float(v), 3), "rotation": piece.rotation - zone.rotation}
    pieces = list(getattr(zone, name))
    pieces[number] = piece.model_copy(update=changes)
    return zone.model_copy(update={name: tuple(pieces)})


def without_pieces(zone: AnyZone) -> AnyZone:
    """The zone whole again."""
    return zone.model_copy(update={"add": (), "cut": ()})


def mirrored(zone: AnyZone, axis: str) -> AnyZone:
    """The zone mirrored at the axis x = 0 (“x”) or y = 0 (“y”) of the part."""
    changes: dict[str, Any] = {
        axis: -getattr(zone, axis),
        "rotation": -zone.rotation,
        "add": tuple(mirrored(piece, axis) for piece in zone.add),
        "cut": tuple(mirrored(piece, axis) for piece in zone.cut),
    }
    if isinstance(zone, PolygonZone):
        sign = np.array([-1.0, 1.0] if axis == "x" else [1.0, -1.0])
        # the other way round, so that it stays counter-clockwise
        changes["nodes"] = tuple((float(u), float(v)) for u, v in np.array(zone.nodes)[::-1] * sign)
    if isinstance(zone, PathZone):
        flip = {"u": -1.0, "v": 1.0} if axis == "x" else {"u": 1.0, "v": -1.0}
        changes["nodes"] = tuple(
            n.model_copy(update={"u": flip["u"] * n.u, "v": flip["v"] * n.v}) for n in zone.nodes
        )
    return zone.model_copy(update=changes)


def with_node(zone: PolygonZone) -> PolygonZone:
    """The polygon with one more node, in the middle of its longest side."""
    nodes = zone.base_outline()
    following = np.roll(nodes, -1, axis=0)
    at = int(np.argmax(np.hypot(*(following - nodes).T)))
    middle = (nodes[at] + following[at]) / 2
    return _through(zone, np.insert(nodes, at + 1, middle, axis=0))


def moved_node(zone: PolygonZone, node: int, dx: float, dy: float) -> PolygonZone:
    """The polygon with a node moved by mm of the part; unchanged where it would then cross itself."""
    nodes = zone.base_outline().copy()
    c, s = math.cos(math.radians(zone.rotation)), math.sin(math.radians(zone.rotation))
    nodes[node] += (c * dx + s * dy, c * dy - s * dx)
    try:
        return _through(zone, nodes)
    except ValueError:
        return zone


def _through(zone: PolygonZone, nodes: FloatArray) -> PolygonZone:
    """The polygon through nodes (n, 2) in its own coordinates, in mm; its pieces stay where they are."""
    plain = PolygonZone.through(nodes)
    middle = zone.outward(np.array([plain.x]), np.array([plain.y]))[0]
    back = (plain.x, plain.y)
    kept = {
        name: tuple(
            piece.model_copy(update={"x": piece.x - back[0], "y": piece.y - back[1]}) for piece in pieces
        )
        for name, pieces in (("add", zone.add), ("cut", zone.cut))
    }
    return PolygonZone(
        x=round(float(middle[0]), 3),
        y=round(float(middle[1]), 3),
        width=plain.width,
        height=plain.height,
        rotation=zone.rotation,
        nodes=plain.nodes,
        band=zone.band,
        **kept,
    )
