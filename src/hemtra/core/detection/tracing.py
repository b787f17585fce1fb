"""Tracing: from one place on a bead or in a gap along all of it, and the few nodes that its path needs."""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.section import sample
from hemtra.core.zones.zone import PathNode, PathZone

STEP, REACH = 0.8, 4.0
"""Step of tracing, and search distance to either side for the next place, mm."""
BRIDGE = 8
"""Steps without anything after which it has ended."""
MOST_STEPS = 20_000
TURN = math.radians(60.0)
"""Largest turn from step to step."""
BACK = 6
"""Steps that its direction is averaged over."""
TOLERANCE = 0.25
"""Largest distance of the nodes from the traced places, mm."""
STRAIGHT = 8.0
"""Minimum length of a straight side, mm."""
ROUNDED, MOST_OFF = 0.35, 90.0
"""Largest distance of a rounded corner from so many percent of the traced places, mm."""


@dataclass(frozen=True)
class Trace:
    """Places (n, 2) in mm along something, and whether it closes."""

    places: FloatArray
    closed: bool


def trace(data: HeightMap, plane: Plane, start: tuple[float, float], *, gap: bool = False) -> Trace:
    """The middle of the ridge that a place lies on, in both directions from there; with `gap` that of a gap.

    What stands more than half as high above the plane as the place counts as ridge, and what is missing or lies
    below it as gap. Raises `NotMeasured` where there is neither.
    """
    inside = _gap_at(data, plane) if gap else _ridge_at(data, plane, start)
    direction = _direction(inside, start)
    at = _centred(inside, np.array(start), direction)
    if at is None or direction is None:
        what = "gap" if gap else "bead"
        raise NotMeasured(f"there is no {what} to follow where you clicked; click its middle, or its nodes")
    ahead, closed = _march(inside, at, direction)
    if closed:
        return Trace(np.array(ahead), True)
    behind, _ = _march(inside, at, -direction)
    places = np.array([*behind[:0:-1], *ahead])
    if len(places) < 4:
        raise NotMeasured("it ends at once; click further on, or its nodes one by one")
    return Trace(places, False)


class _Inside:
    """Whether places lie on what is followed."""

    def __init__(self, data: HeightMap, plane: Plane, low: float, high: float, missing: bool) -> None:
        self.data, self.plane, self.missing = data, plane, missing
        self.low, self.high = low, high

    def __call__(self, places: FloatArray) -> FloatArray:
        """(n,) 1 inside, 0 outside."""
        x, y = places.T
        z = sample(self.data, x, y) - self.plane.height_at(x, y)
        x0, x1, y0, y1 = self.data.extent
        on_map = (x >= x0) & (x <= x1) & (y >= y0) & (y <= y1)
        found = np.where(np.isnan(z), self.missing, (z > self.low) & (z < self.high)) & on_map
        weights: FloatArray = found.astype(float)
        return weights


def _ridge_at(data: HeightMap, plane: Plane, start: tuple[float, float]) -> _Inside:
    at = data.height_at(*start)
    rise = 0.0 if at is None else at - plane.height_at(*start)
    if abs(rise) < 0.05:
        raise NotMeasured("no raised region there; click on the bead, or its nodes one by one")
    return _Inside(data, plane, *((rise / 2, np.inf) if rise > 0 else (-np.inf, rise / 2)), missing=False)


def _gap_at(data: HeightMap, plane: Plane) -> _Inside:
    return _Inside(data, plane, -np.inf, -0.3, missing=True)


def _direction(inside: _Inside, start: tuple[float, float]) -> FloatArray | None:
    """The direction in which it continues for longest."""
    best, longest = None, 0
    for turn in np.radians(np.arange(0.0, 180.0, 7.5)):
        way = np.array([math.cos(turn), math.sin(turn)])
        reach = np.linspace(-REACH, REACH, 41)[:, None]
        held = int(inside(np.array(start) + reach * way).sum())
        if held > longest:
            best, longest = way, held
    return best


def _centred(inside: _Inside, at: FloatArray, way: FloatArray | None) -> FloatArray | None:
    """The middle of the run across, nearest to a place; None where there is none."""
    if way is None:
        return None
    across = np.array([-way[1], way[0]])
    t = np.linspace(-REACH, REACH, 81)
    held = inside(at + t[:, None] * across) > 0
    if not held.any():
        return None
    k = int(np.flatnonzero(held)[np.argmin(np.abs(t[held]))])
    first = last = k
    while first > 0 and held[first - 1]:
        first -= 1
    while last < t.size - 1 and held[last + 1]:
        last += 1
    middle: FloatArray = at + (t[first] + t[last]) / 2 * across
    return middle


def _march(inside: _Inside, start: FloatArray, way: FloatArray) -> tuple[list[FloatArray], bool]:
    """Places one step after the other, and whether they came back to the first."""
    places, lost = [start], 0
    for _ in range(MOST_STEPS):
        guess = places[-1] + (1 + lost) * STEP * way
        found = _centred(inside, guess, way)
        # a jump to the side is something else that lies there
        if found is None or np.hypot(*(found - guess)) > STEP * (1 + lost) * math.tan(TURN):
            lost += 1
            if lost > BRIDGE:
                return places, False
            continue
        places.append(found)
        lost = 0
        run = places[-1] - places[max(0, len(places) - 1 - BACK)]
        size = float(np.hypot(*run))
        if size > 0:
            way = run / size
        if len(places) > 12 and np.hypot(*(places[-1] - start)) < STEP:
            return places[:-1], True
    return places, False


def path_of(found: Trace, across: float) -> PathZone:
    """A path along a trace: straight sides meet in rounded corners, what is bent all along becomes a curve."""
    places = np.vstack([found.places, found.places[:1]]) if found.closed else found.places
    nodes = _rounded_nodes(places, found.closed)
    if nodes is None:
        kept = thinned(places, TOLERANCE)
        kept = kept[:-1] if found.closed else kept
        turns = ["curve"] * len(kept)
        if not found.closed:
            turns[0] = turns[-1] = "corner"
        nodes = [(place, turn, 0.0) for place, turn in zip(kept, turns, strict=True)]
    like = [PathNode(u=0.0, v=0.0, turn=turn, corner=round(corner, 2)) for _, turn, corner in nodes]
    points = np.round(np.array([place for place, _, _ in nodes]), 3)
    return PathZone.through(points, like, closed=found.closed, across=across)


def _rounded_nodes(places: FloatArray, closed: bool) -> list[tuple[FloatArray, str, float]] | None:
    """Nodes where straight sides meet, with radii; None where that does not describe it."""
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    kept = thinned_at(places, TOLERANCE)
    sides = [(a, b) for a, b in itertools.pairwise(kept) if along[b] - along[a] >= STRAIGHT]
    if not sides or (len(sides) < 2 and len(kept) > 2):
        return None
    sides = _merged(places, sides)
    lines = [_line(places[a : b + 1]) for a, b in sides]
    nodes: list[tuple[FloatArray, str, float]] = [(places[0], "corner", 0.0)]
    pairs = list(zip(range(len(sides)), range(1, len(sides)), strict=False))
    for i, j in pairs:
        made = _corner(lines[i], lines[j], places[sides[i][1] : sides[j][0] + 1])
        if made is None:
            return None
        nodes.append(made)
    if closed:
        ends = along[sides[0][0]] > TOLERANCE or along[-1] - along[sides[-1][1]] > TOLERANCE
        if ends or not _same_line(places, sides[-1], sides[0]):
            return None
        nodes[0] = (_foot(lines[0], places[0]), "corner", 0.0)
        return nodes
    if along[sides[0][0]] > STRAIGHT / 2 or along[-1] - along[sides[-1][1]] > STRAIGHT / 2:
        return None
    nodes[0] = (_foot(lines[0], places[0]), "corner", 0.0)
    return [*nodes, (_foot(lines[-1], places[-1]), "corner", 0.0)]


def _line(points: FloatArray) -> tuple[FloatArray, FloatArray]:
    """A point and direction of the line through points, their ends left out."""
    inner = points[1:-1] if len(points) > 6 else points
    middle = inner.mean(axis=0)
    _, _, axes = np.linalg.svd(inner - middle)
    way = axes[0] if float(axes[0] @ (points[-1] - points[0])) > 0 else -axes[0]
    return middle, way


def _foot(line: tuple[FloatArray, FloatArray], place: FloatArray) -> FloatArray:
    foot: FloatArray = line[0] + float((place - line[0]) @ line[1]) * line[1]
    return foot


def _cross(a: FloatArray, b: FloatArray) -> FloatArray:
    """z of the cross product of vectors in the plane."""
    found: FloatArray = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return found


def _merged(places: FloatArray, sides: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Sides that continue in the next one made one: a stray spot between them is no corner."""
    found = sides[:1]
    for side in sides[1:]:
        if _same_line(places, found[-1], side):
            found[-1] = (found[-1][0], side[1])
        else:
            found.append(side)
    return found


def _same_line(places: FloatArray, one: tuple[int, int], other: tuple[int, int]) -> bool:
    """Whether two sides are one that continues."""
    (p, a), (q, b) = _line(places[one[0] : one[1] + 1]), _line(places[other[0] : other[1] + 1])
    return float(a @ b) > math.cos(math.radians(3.0)) and abs(float(_cross(a, q - p))) < 2 * TOLERANCE


def _corner(
    one: tuple[FloatArray, FloatArray], other: tuple[FloatArray, FloatArray], between: FloatArray
) -> tuple[FloatArray, str, float] | None:
    """Intersection of two sides with its corner radius; None where they have another form."""
    (p, a), (q, b) = one, other
    det = float(_cross(a, b))
    if abs(det) < math.sin(math.radians(3.0)):
        return None
    at = p + float(_cross(q - p, b)) / det * a
    half = (math.pi - math.acos(float(np.clip(a @ b, -1.0, 1.0)))) / 2
    near = float(np.hypot(*(between - at).T).min())
    radius = max(near / (1.0 / math.sin(half) - 1.0), 0.0)
    into = (b - a) / np.hypot(*(b - a))
    centre = at + radius / math.sin(half) * into
    reach = np.abs(np.hypot(*(between - centre).T) - radius)
    along_sides = np.minimum(*(np.abs(_cross(w, between - o)) for o, w in (one, other)))
    if float(np.percentile(np.minimum(reach, along_sides), MOST_OFF)) > ROUNDED:
        return None
    return at, "corner", 0.0 if radius < 2 * TOLERANCE else radius


def thinned(places: FloatArray, tolerance: float) -> FloatArray:
    """Simplify places (n, 2) to a tolerance in mm (Douglas and Peucker 1973)."""
    return places[thinned_at(places, tolerance)]


def thinned_at(places: FloatArray, tolerance: float) -> list[int]:
    """The indices of those places."""
    keep, waiting = {0, len(places) - 1}, [(0, len(places) - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        run = places[last] - places[first]
        size = float(np.hypot(*run))
        inner = places[first + 1 : last] - places[first]
        off = np.abs(_cross(run, inner)) / size if size > 1e-9 else np.hypot(*inner.T)
        k = int(np.argmax(off))
        if off[k] > tolerance:
            split = first + 1 + k
            keep.add(split)
            waiting += [(first, split), (split, last)]
    return sorted(keep)
