"""Edits of paths: nodes moved, added, removed and bent; the path reversed, closed or begun elsewhere."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.paths.curve import Turn
from hemtra.core.zones.zone import PathNode, PathZone


def _through(zone: PathZone, places: FloatArray, nodes: list[PathNode]) -> PathZone:
    """The path through nodes at places in its own coordinates, in mm."""
    plain = PathZone.through(places, nodes)
    x, y = zone.outward(np.array([plain.x]), np.array([plain.y]))[0]
    changes = {"x": round(float(x), 4), "y": round(float(y), 4), "nodes": plain.nodes}
    return zone.model_copy(update={**changes, "width": plain.width, "height": plain.height})


def _local(zone: PathZone) -> FloatArray:
    """(n, 2) places of the nodes in its own coordinates, in mm."""
    return np.array([(n.u * zone.width, n.v * zone.height) for n in zone.nodes])


def moved_node(zone: PathZone, node: int, dx: float, dy: float) -> PathZone:
    """A node moved by mm of the part."""
    places = _local(zone)
    c, s = math.cos(math.radians(zone.rotation)), math.sin(math.radians(zone.rotation))
    places[node] += (c * dx + s * dy, c * dy - s * dx)
    return _through(zone, places, list(zone.nodes))


def placed_node(zone: PathZone, node: int, *, x: float | None = None, y: float | None = None) -> PathZone:
    """A node put at x or y in mm of the part. Raises `NotMeasured` where that makes no path."""
    now_x, now_y = zone.node_places()[node]
    dx, dy = 0.0 if x is None else x - now_x, 0.0 if y is None else y - now_y
    found = moved_node(zone, node, float(dx), float(dy))
    found.curve()
    return found


def with_node_after(zone: PathZone, node: int) -> PathZone:
    """Add a node half way to the next one; at the last of an open path, half way to the one before."""
    curve, count = zone.curve(), len(zone.nodes)
    here = curve.node_at[node]
    if node + 1 < count:
        there = curve.node_at[node + 1]
    else:
        there = curve.length if zone.closed else curve.node_at[node - 1]
    x, y = curve.at(np.array([(here + there) / 2]))[0]
    return with_node_at(zone, float(x), float(y))[0]


def with_node_at(zone: PathZone, x: float, y: float) -> tuple[PathZone, int]:
    """Add a node at a place of the part, between its two neighbours on the path; returns its index too.

    Raises `NotMeasured` where the nodes make no path.
    """
    curve = zone.curve()
    s, _ = curve.nearest(x, y)
    after = int(np.searchsorted(curve.node_at, s, side="right"))
    u, v = zone.local(np.array(x), np.array(y))
    places = np.insert(_local(zone), after, (float(u), float(v)), axis=0)
    near = zone.nodes[after % len(zone.nodes)]
    turn: Turn = "curve" if near.turn == "curve" else "corner"
    nodes = [*zone.nodes[:after], PathNode(u=0.0, v=0.0, turn=turn), *zone.nodes[after:]]
    return _through(zone, places, nodes), after


def without_node(zone: PathZone, node: int) -> PathZone:
    """A node less. Raises `HemtraError` where too few would be left."""
    least = 3 if zone.closed else 2
    if len(zone.nodes) <= least:
        raise HemtraError(f"A path like this needs {least} nodes; delete the characteristic instead.")
    nodes = [n for k, n in enumerate(zone.nodes) if k != node]
    return _through(zone, np.delete(_local(zone), node, axis=0), nodes)


def changed_node(zone: PathZone, node: int, **changes: Any) -> PathZone:
    """A node turned, rounded or requested otherwise. Raises `NotMeasured` where that makes no path."""
    try:
        changed = PathNode.model_validate({**zone.nodes[node].model_dump(), **changes})
    except ValueError:
        raise HemtraError(
            "The node cannot be like that: a radius is 0 to 10000 mm, a nominal a number."
        ) from None
    found = zone.model_copy(update={"nodes": (*zone.nodes[:node], changed, *zone.nodes[node + 1 :])})
    found.curve()
    return found


def reversed_path(zone: PathZone) -> PathZone:
    """The other way round; a closed one begins where it did."""
    if zone.closed:
        return zone.model_copy(update={"nodes": (zone.nodes[0], *zone.nodes[:0:-1])})
    return zone.model_copy(update={"nodes": zone.nodes[::-1]})


def begun_at(zone: PathZone, node: int) -> PathZone:
    """A closed path that begins at another node. Raises `HemtraError` for an open one."""
    if not zone.closed:
        raise HemtraError("An open path begins at its end; reverse it to begin at the other.")
    return zone.model_copy(update={"nodes": (*zone.nodes[node:], *zone.nodes[:node])})


def closed_or_open(zone: PathZone) -> PathZone:
    """Closed if it was open, and open if it was closed. Raises `NotMeasured` where that makes no path."""
    found = zone.model_copy(update={"closed": not zone.closed})
    try:
        found.curve()
    except NotMeasured:
        plain = tuple(
            n.model_copy(update={"turn": "corner", "corner": 0.0}) for n in (zone.nodes[0], zone.nodes[-1])
        )
        found = found.model_copy(update={"nodes": (plain[0], *zone.nodes[1:-1], plain[1])})
        found.curve()
    return found
