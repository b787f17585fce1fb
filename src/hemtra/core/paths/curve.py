"""Courses: lines through nodes, straight, in arcs or in curves, measured along their length."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal, TypeAlias, get_args

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import compiled
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import Plane

Turn: TypeAlias = Literal["corner", "arc", "curve"]
"""How a path passes a node: straight to it and on; as the middle one of three points of an arc; or
smoothly, as a spline through it and the nodes before and after."""
TURNS = get_args(Turn)

FINE = 0.05
"""Distance between points of a drawn arc or curve, mm: a chord at a radius of 1 mm is then 0.3 µm off."""
FINE_TURN = 0.03
"""Largest angle between them, in radians."""
MOST_POINTS = 400_000
"""Points of a curve at most; a longer one is drawn more coarsely."""
SAME = 1e-6
"""Distance within which two nodes coincide, mm."""
STRAIGHT = 1e-9
COARSE = 160
"""Points of a curve among which self-intersections are searched."""
LOOK = 0.1
"""Half length over which a direction is taken, mm: a sharp corner has the direction between its sides."""


@dataclass(frozen=True)
class PathCurve:
    """A line along the part: places (n, 2) in mm, and along (n,) mm from its start to each.

    node_at: (k,) mm from the start to each node; where a corner is rounded, to the middle of its rounding.
    """

    places: FloatArray
    along: FloatArray
    node_at: FloatArray
    closed: bool = False

    def on(self, base: Plane) -> PathCurve:
        """The same with its lengths along a tilted base, on which it is seen from above."""
        if not base.tilt:
            return self
        dx, dy = np.diff(self.places, axis=0).T
        lengths = np.sqrt(dx * dx + dy * dy + (base.slope_x * dx + base.slope_y * dy) ** 2)
        along = np.concatenate([[0.0], np.cumsum(lengths)])
        return PathCurve(self.places, along, np.interp(self.node_at, self.along, along), self.closed)

    @property
    def length(self) -> float:
        """mm; of a closed one all the way round."""
        return float(self.along[-1])

    def at(self, s: FloatArray) -> FloatArray:
        """(n, 2) places in mm, s (n,) mm from the start; a closed curve continues round, an open one ends."""
        s = np.asarray(s, float)
        s = np.mod(s, self.length) if self.closed else np.clip(s, 0.0, self.length)
        return np.column_stack([np.interp(s, self.along, self.places[:, axis]) for axis in (0, 1)])

    def directions(self, s: FloatArray) -> FloatArray:
        """(n, 2) unit vectors along the curve at s (n,)."""
        s = np.asarray(s, float)
        look = min(LOOK, self.length / 4)
        ahead, behind = self.at(s + look), self.at(s - look)
        run = ahead - behind
        size = np.hypot(*run.T)
        # at a hairpin both ways cancel; the way ahead then counts
        back = size < STRAIGHT
        if back.any():
            run[back] = (ahead - self.at(s))[back]
            size = np.maximum(np.hypot(*run.T), STRAIGHT)
        unit: FloatArray = run / size[:, None]
        return unit

    def curvature(self, s: FloatArray) -> FloatArray:
        """(n,) 1/mm at s (n,), positive where it turns left; that of rounded corners, not of sharp ones."""
        look = min(5 * LOOK, self.length / 4)
        s = np.asarray(s, float)
        ends = (
            (s - look, s + look)
            if self.closed
            else (np.maximum(s - look, 0), np.minimum(s + look, self.length))
        )
        (ax, ay), (bx, by) = (self.directions(end).T for end in ends)
        turn: FloatArray = np.arctan2(ax * by - ay * bx, ax * bx + ay * by)
        return turn / np.maximum(ends[1] - ends[0], STRAIGHT)

    def nearest(self, x: float, y: float) -> tuple[float, float]:
        """Position along the curve nearest to x, y, and the distance to the right of it, mm."""
        a, b = self.places[:-1], self.places[1:]
        run = b - a
        size = np.maximum((run**2).sum(axis=1), 1e-18)
        t = np.clip(((np.array([x, y]) - a) * run).sum(axis=1) / size, 0.0, 1.0)
        off = np.array([x, y]) - a - t[:, None] * run
        k = int(np.argmin((off**2).sum(axis=1)))
        right = (run[k, 1] * off[k, 0] - run[k, 0] * off[k, 1]) / math.sqrt(size[k])
        far = math.copysign(math.hypot(*off[k]), right)
        return float(self.along[k] + t[k] * (self.along[k + 1] - self.along[k])), far

    @cached_property
    def crossings(self) -> tuple[float, ...]:
        """Positions along the curve of its self-intersections, mm, at most a few."""
        keep = np.unique(np.linspace(0, len(self.places) - 1, min(len(self.places), COARSE)).astype(int))
        at = _crossed(self.places[keep], self.along[keep])
        return tuple(float(v) for v in np.unique(np.round(at, 1))[:4])


@compiled
def _crossed(places: FloatArray, along: FloatArray) -> FloatArray:
    """(n,) mm along a polyline (k, 2) where two of its pieces that are no neighbours meet."""
    found = np.empty(places.shape[0])
    count = 0
    for i in range(places.shape[0] - 1):
        rx, ry = places[i + 1, 0] - places[i, 0], places[i + 1, 1] - places[i, 1]
        for j in range(i + 2, places.shape[0] - 1):
            qx, qy = places[j + 1, 0] - places[j, 0], places[j + 1, 1] - places[j, 1]
            cross = rx * qy - ry * qx
            if cross == 0.0 or count == found.size:
                continue
            dx, dy = places[j, 0] - places[i, 0], places[j, 1] - places[i, 1]
            t, u = (dx * qy - dy * qx) / cross, (dx * ry - dy * rx) / cross
            if 0.0 < t < 1.0 and 0.0 < u < 1.0:
                found[count] = along[i] + t * (along[i + 1] - along[i])
                count += 1
    return found[:count]


def curve_through(
    nodes: FloatArray, turns: Sequence[Turn], corners: Sequence[float], *, closed: bool = False
) -> PathCurve:
    """The curve through nodes (k, 2) in mm, by the turn at each and the radius in mm it is rounded with.

    Raises `NotMeasured` where nodes coincide, an arc lacks a neighbour, or a radius does not fit.
    """
    count = len(nodes)
    if count < 2:
        raise NotMeasured("a path needs two nodes or more; click where it continues")
    order = [*range(count), 0] if closed else list(range(count))
    for i, j in itertools.pairwise(order):
        if float(np.hypot(*(nodes[j] - nodes[i]))) < SAME:
            raise NotMeasured(f"the nodes {i + 1} and {j + 1} of the path lie in the same place; delete one")
    if not closed and "arc" in (turns[0], turns[-1]):
        raise NotMeasured("an arc needs a node before and behind it; the ends of an open path have only one")
    if closed and count < 3 and "arc" not in turns:
        raise NotMeasured("a closed path needs three nodes or more")
    start = _start(turns, closed)
    if start is None:
        return _all_round(nodes)
    # a closed curve is built from a node where something ends, and turned to its own start afterwards
    ring = [(start + k) % count for k in range(count + 1)] if closed else list(range(count))
    pieces: list[FloatArray] = []
    marks: list[tuple[int, int, int]] = []
    k = 0
    while k < len(ring) - 1:
        end = k + 1
        while turns[ring[end]] != "corner" and end < len(ring) - 1:
            end += 1
        pieces.append(_run(nodes, turns, ring[k : end + 1]))
        marks += [(ring[j], len(pieces) - 1, j) for j in range(k, end + 1)]
        k = end
    return _joined(nodes, turns, corners, ring, pieces, closed)


def _start(turns: Sequence[Turn], closed: bool) -> int | None:
    """The node to begin with: the first, or on a closed curve the first corner; None where it has none."""
    if not closed:
        return 0
    return next((k for k, turn in enumerate(turns) if turn == "corner"), None)


def _run(nodes: FloatArray, turns: Sequence[Turn], ids: Sequence[int]) -> FloatArray:
    """(n, 2) points from one corner to the next, through arcs or curves between them."""
    between = {turns[i] for i in ids[1:-1]}
    if not between:
        return np.array([nodes[ids[0]], nodes[ids[-1]]])
    if between == {"arc"} and len(ids) == 3:
        return _arc(*(nodes[i] for i in ids))
    if "arc" in between:
        raise NotMeasured(
            f"the arc at node {next(i for i in ids[1:-1] if turns[i] == 'arc') + 1} of the path needs a corner"
            " before and behind it; make its neighbours corners"
        )
    return _spline(nodes[list(ids)], ring=False)


def _all_round(nodes: FloatArray) -> PathCurve:
    """A closed curve without any corner: one smooth curve through all nodes."""
    places = _spline(np.vstack([nodes, nodes[:1]]), ring=True)
    return _measured(places, nodes, True)


def _arc(a: FloatArray, b: FloatArray, c: FloatArray) -> FloatArray:
    """(n, 2) points of the arc from a through b to c; straight where the three lie on a line."""
    (bx, by), (cx, cy) = b - a, c - a
    det = 2.0 * (bx * cy - by * cx)
    if abs(det) < STRAIGHT * max(float(np.hypot(cx, cy)), 1.0):
        return np.array([a, b, c])
    p, q = bx * bx + by * by, cx * cx + cy * cy
    centre = a + np.array([cy * p - by * q, bx * q - cx * p]) / det
    radius = float(np.hypot(*(a - centre)))
    angle = [math.atan2(*(p - centre)[::-1]) for p in (a, b, c)]
    way = 1.0 if det > 0 else -1.0
    span = (way * (angle[2] - angle[0])) % (2 * math.pi)
    pieces = max(radius * span / FINE, span / FINE_TURN)
    count = int(np.clip(math.ceil(pieces), 2, MOST_POINTS // 10)) + 1
    turn = angle[0] + way * np.linspace(0.0, span, count)
    points: FloatArray = centre + radius * np.column_stack([np.cos(turn), np.sin(turn)])
    points[0], points[-1] = a, c
    return points


def _spline(through: FloatArray, ring: bool) -> FloatArray:
    """(n, 2) points of a cubic spline, by the square roots of the chords (centripetal: Lee 1989)."""
    chords = np.hypot(*np.diff(through, axis=0).T)
    t = np.concatenate([[0.0], np.cumsum(np.sqrt(chords))])
    bounds: Any = "periodic" if ring else "natural"
    spline = scipy.interpolate.CubicSpline(t, through, bc_type=bounds)
    count = int(np.clip(math.ceil(float(chords.sum()) / FINE), 2, MOST_POINTS // 10)) + 1
    points: FloatArray = spline(np.unique(np.concatenate([np.linspace(0.0, t[-1], count), t])))
    return points


def _joined(
    nodes: FloatArray,
    turns: Sequence[Turn],
    corners: Sequence[float],
    ring: Sequence[int],
    pieces: list[FloatArray],
    closed: bool,
) -> PathCurve:
    """Join pieces into one curve with rounded corners; a closed one is rotated to start at its first node."""
    joints = [i for i in ring if turns[i] == "corner" or i in (ring[0], ring[-1])]
    cut = [0.0] * len(pieces), [0.0] * len(pieces)
    rounds: dict[int, tuple[FloatArray, FloatArray]] = {}
    for k in range(len(pieces)):
        following = k + 1 if k + 1 < len(pieces) else 0 if closed else None
        node = joints[k + 1] if k + 1 < len(joints) else joints[0]
        if following is None or corners[node] <= 0.0 or turns[node] != "corner":
            continue
        made = _rounding(pieces[k], pieces[following], corners[node], node)
        if made is None:
            continue
        points, back = made
        cut[1][k], cut[0][following] = back, back
        rounds[k] = points, nodes[node]
    whole: list[FloatArray] = []
    for k, piece in enumerate(pieces):
        length = float(np.hypot(*np.diff(piece, axis=0).T).sum())
        if cut[0][k] + cut[1][k] > length + 1e-9:
            raise NotMeasured(
                "the corners of the path are rounded more than their sides are long; make them smaller"
            )
        whole.append(_shortened(piece, cut[0][k], cut[1][k]))
        if k in rounds:
            whole.append(rounds[k][0])
    places = np.concatenate(whole)
    if closed and not np.array_equal(places[0], places[-1]):
        places = np.vstack([places, places[:1]])
    return _measured(places, nodes, closed)


def _rounding(
    before: FloatArray, behind: FloatArray, radius: float, node: int
) -> tuple[FloatArray, float] | None:
    """(n, 2) points of the arc between two sides, and how much of each it takes; None where they continue."""
    if len(before) != 2 or len(behind) != 2:
        raise NotMeasured(f"node {node + 1} of the path can only be rounded between straight sides")
    at = before[1]
    one, other = before[0] - at, behind[1] - at
    one, other = one / np.hypot(*one), other / np.hypot(*other)
    half = math.acos(float(np.clip(one @ other, -1.0, 1.0))) / 2
    if half > math.pi / 2 - 1e-6:
        return None
    if half < 1e-6:
        raise NotMeasured(f"the path turns back at node {node + 1}; that cannot be rounded")
    back = radius / math.tan(half)
    middle = (one + other) / np.hypot(*(one + other))
    a, c = at + back * one, at + back * other
    b = at + middle * (radius / math.sin(half) - radius)
    return _arc(a, b, c), back


def _shortened(piece: FloatArray, first: float, last: float) -> FloatArray:
    """A straight piece without what its rounded ends take; other pieces have none."""
    if first == last == 0.0:
        return piece
    along = (piece[1] - piece[0]) / np.hypot(*(piece[1] - piece[0]))
    return np.array([piece[0] + first * along, piece[1] - last * along])


def _measured(places: FloatArray, nodes: FloatArray, closed: bool) -> PathCurve:
    """With the lengths along it, from its first node on where it is closed."""
    apart = np.hypot(*np.diff(places, axis=0).T)
    places = places[np.concatenate([[True], apart > 1e-12])]
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    if len(places) < 2 or not along[-1] > SAME:
        raise NotMeasured("the path has no length; draw it longer")
    curve = PathCurve(places, along, np.zeros(0), closed)
    node_at = np.array([curve.nearest(*map(float, node))[0] for node in nodes])
    if closed and node_at[0] > 0.0:
        curve = _begun_at(curve, float(node_at[0]))
        node_at = np.mod(node_at - node_at[0], curve.length)
    return PathCurve(curve.places, curve.along, node_at, closed)


def _begun_at(curve: PathCurve, s: float) -> PathCurve:
    """A closed curve that begins so far along."""
    k = int(np.searchsorted(curve.along, s, side="right"))
    start = curve.at(np.array([s]))
    places = np.vstack([start, curve.places[k:-1], curve.places[:k], start])
    apart = np.hypot(*np.diff(places, axis=0).T)
    keep = np.concatenate([[True], apart > 1e-12])
    keep[-1] = True
    places = places[keep]
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    return PathCurve(places, along, curve.node_at, True)
