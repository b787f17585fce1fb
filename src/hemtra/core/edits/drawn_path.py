"""Paths as other programs draw them: nodes in mm of a drawing, and how they are laid on the part."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.tracing import thinned, thinned_at
from hemtra.core.errors import HemtraError
from hemtra.core.geometry.frames import Frame
from hemtra.core.paths.curve import Turn
from hemtra.core.zones.zone import MOST_NODES, PathNode, PathZone

JOINED = 0.01
"""Distance within which two ends are one, mm."""
TOLERANCE = 0.005
"""Largest distance between a path and the polyline it is handed on as, mm."""


@dataclass(frozen=True)
class DrawnPath:
    """Nodes (n, 2) in mm, how the path turns at each, whether it closes, and the layer it was drawn on."""

    nodes: FloatArray
    turns: tuple[Turn, ...]
    closed: bool = False
    layer: str = ""

    @property
    def length(self) -> float:
        """Length straight from node to node, mm."""
        nodes = np.vstack([self.nodes, self.nodes[:1]]) if self.closed else self.nodes
        return float(np.hypot(*np.diff(nodes, axis=0).T).sum())

    def scaled(self, factor: float) -> DrawnPath:
        """Convert to another unit."""
        return replace(self, nodes=self.nodes * factor)

    def in_frame(self, frame: Frame) -> DrawnPath:
        """From the coordinates of a part's frame to those of the scan."""
        flat = np.column_stack([self.nodes, np.zeros(len(self.nodes))])
        return replace(self, nodes=frame.outward(flat)[:, :2])

    def by_two_places(self, first: Sequence[float], last: Sequence[float]) -> DrawnPath:
        """Moved and turned, not stretched: its first node to one place, its farthest towards another.

        Raises `HemtraError` when the two places are one.
        """
        start, k = self.nodes[0], self.farthest
        run, wanted = self.nodes[k] - start, np.subtract(last, first)
        if float(np.hypot(*wanted)) < JOINED:
            raise HemtraError("Both places are the same; click two that lie apart.")
        turn = math.atan2(wanted[1], wanted[0]) - math.atan2(run[1], run[0])
        c, s = math.cos(turn), math.sin(turn)
        return replace(self, nodes=np.array(first) + (self.nodes - start) @ np.array([[c, s], [-s, c]]))

    @property
    def farthest(self) -> int:
        """The node farthest from the first."""
        return int(np.argmax(np.hypot(*(self.nodes - self.nodes[0]).T)))

    def zone(self, across: float) -> PathZone:
        """Convert to a zone. Raises `HemtraError` when it has more nodes than a path may have."""
        if len(self.nodes) > MOST_NODES:
            raise HemtraError(
                f"The path has {len(self.nodes)} nodes and may have {MOST_NODES}; draw it with fewer points."
            )
        like = [PathNode(u=0.0, v=0.0, turn=turn) for turn in self.turns]
        return PathZone.through(np.round(self.nodes, 4), like, closed=self.closed, across=across)


def joined(pieces: Sequence[DrawnPath]) -> list[DrawnPath]:
    """Pieces whose ends meet made one path each, layer by layer, longest first."""
    waiting, found = [p for p in pieces if not p.closed], [p for p in pieces if p.closed]
    while waiting:
        path = waiting.pop(0)
        grown = True
        while grown:
            grown = False
            for other in waiting:
                made = None if other.layer != path.layer else _end_to_end(path, other)
                if made is not None:
                    # compared by identity: arrays have no plain equality
                    waiting = [w for w in waiting if w is not other]
                    path, grown = made, True
                    break
        if len(path.nodes) > 2 and float(np.hypot(*(path.nodes[0] - path.nodes[-1]))) < JOINED:
            path = replace(path, nodes=path.nodes[:-1], turns=path.turns[:-1], closed=True)
        found.append(path)
    return sorted(found, key=lambda p: -p.length)


def _end_to_end(one: DrawnPath, other: DrawnPath) -> DrawnPath | None:
    for a in (one, _reversed(one)):
        for b in (other, _reversed(other)):
            if float(np.hypot(*(a.nodes[-1] - b.nodes[0]))) < JOINED:
                nodes, turns = np.vstack([a.nodes, b.nodes[1:]]), (*a.turns, *b.turns[1:])
                return replace(one, nodes=nodes, turns=turns)
    return None


def _reversed(path: DrawnPath) -> DrawnPath:
    return replace(path, nodes=path.nodes[::-1], turns=path.turns[::-1])


def through_points(points: FloatArray, *, layer: str = "") -> DrawnPath:
    """A path through many points (n, 2): those that it needs, closed where the last lies at the first."""
    kept = points[thinned_at(points, TOLERANCE)]
    closed = len(kept) > 3 and float(np.hypot(*(kept[0] - kept[-1]))) < JOINED
    kept = kept[:-1] if closed else kept
    corner: Turn = "corner"
    return DrawnPath(kept, (corner,) * len(kept), closed, layer)


def points_of(zone: PathZone) -> FloatArray:
    """(n, 2) places of a path's curve, as few as describe it to a few micrometres. Raises `NotMeasured`."""
    return thinned(zone.curve().places, TOLERANCE)
