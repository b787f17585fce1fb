"""Following: how a zone drawn on the reference scan finds its place on another part."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import LEVEL, Line, Plane, Point
from hemtra.core.geometry.frames import Frame
from hemtra.core.plan.document import Follow, Home
from hemtra.core.plan.kind import Absent
from hemtra.core.zones.zone import AnyZone, PathZone

AXES: Mapping[str, str] = {
    "x": "x",
    "y": "y",
    "rotation": "rotation",
    "z": "height",
    "tilt": "tilt",
}
"""Types of anchors, with their names."""
PARALLEL = 1e-6
"""Sine of the angle between two directions below which they cannot place anything."""


@dataclass(frozen=True)
class Pose:
    """Pose of an anchor, in mm and degrees; the position along a `line` has no meaning."""

    x: float
    y: float
    z: float
    rotation: float
    line: bool = False
    slopes: tuple[float, float] = (0.0, 0.0)

    @property
    def home(self) -> Home:
        """Convert to the form kept in a plan."""
        x, y = self.slopes
        return Home(x=self.x, y=self.y, z=self.z, rotation=self.rotation, slope_x=x, slope_y=y)

    @classmethod
    def at_home(cls, home: Home, like: Pose) -> Pose:
        """Pose on the reference scan, as the plan states it."""
        return cls(home.x, home.y, home.z, home.rotation, like.line, (home.slope_x, home.slope_y))


def axes_of(output: type) -> frozenset[str]:
    """The axes on which a value of a type can be followed; none for most."""
    axes: frozenset[str] = getattr(output, "gives", frozenset())
    return axes


def pose_of(value: Any) -> Pose:
    """Pose of a value that zones can follow. Raises `NotMeasured` where there is none."""
    if isinstance(value, Absent):
        raise NotMeasured(value.reason)
    if isinstance(value, Frame):
        return Pose(value.x, value.y, value.z, value.rotation, slopes=value.slopes)
    if isinstance(value, Plane):
        return Pose(value.x0, value.y0, value.z0, 0.0, slopes=(value.slope_x, value.slope_y))
    if isinstance(value, Point):
        return Pose(value.x, value.y, value.z, getattr(value, "direction", 0.0), isinstance(value, Line))
    raise TypeError(f"{type(value).__name__} has no place that could be followed")


def followed(
    zone: AnyZone, follow: Follow, homes: Mapping[str, Home], values: Mapping[str, Any], *, back: bool = False
) -> AnyZone:
    """The zone where its anchors take it; with `back`, from such a place to where it is drawn on the reference.

    homes, values: by anchor, where it lay on the reference scan and what it is now. On an axis that is not
    followed the zone's centre stays as it is. Raises `NotMeasured` when the anchors cannot place it.
    """
    placing = dict.fromkeys(i for i in (follow.x, follow.y, follow.rotation) if i is not None)
    found = {i: pose_of(values[i]) for i in placing}
    if any(i not in homes for i in placing):
        raise NotMeasured("what it follows was not found on the reference scan")
    before = {i: Pose.at_home(homes[i], pose) for i, pose in found.items()}
    for i in {i for i in (follow.x, follow.y) if i is not None}:
        before[i], found[i] = _on_ground(follow, homes, values, before[i], found[i])
    old, new = (found, before) if back else (before, found)
    turn = 0.0
    if follow.rotation is not None:
        turn = new[follow.rotation].rotation - old[follow.rotation].rotation
        turn = (turn + 180.0) % 360.0 - 180.0
    turned = _seen(follow, homes, values, old, new, back)
    x, y = _centre(zone, follow, turn, turned, old, new)
    changes: dict[str, Any] = {"x": x, "y": y, "rotation": (zone.rotation + turn + 180.0) % 360.0 - 180.0}
    if turn == 0.0:
        changes["rotation"] = zone.rotation
    if isinstance(zone, PathZone):
        changes |= _reshaped(zone, turned, turn)
    if zone.band is not None and not back:
        ground = base(follow, homes, values, (x, y))
        above = (ground.x0, ground.y0, ground.z0, ground.slope_x, ground.slope_y)
        changes["band"] = zone.band.model_copy(update={"above": above})
    return zone.model_copy(update=changes)


def followed_on_profile(
    zone: AnyZone, follow: Follow, homes: Mapping[str, Home], values: Mapping[str, Any], *, back: bool = False
) -> AnyZone:
    """A zone in x and z of a profile where its anchors on that profile take it; with `back`, as it is drawn."""
    moved = {"x": zone.x, "y": zone.y}
    for anchor, axis, name in ((follow.x, "x", "x"), (follow.z, "y", "z")):
        if anchor is not None and anchor in homes:
            by = getattr(pose_of(values[anchor]), name) - getattr(homes[anchor], name)
            moved[axis] += -by if back else by
    return zone.model_copy(update=moved)


def base(
    follow: Follow, homes: Mapping[str, Home], values: Mapping[str, Any], at: tuple[float, float]
) -> Plane:
    """The surface that a step's heights count from: its anchor in z and tilt, else the station's z = 0."""
    slopes, z = (0.0, 0.0), 0.0
    if follow.tilt is not None:
        tilted = values[follow.tilt]
        slopes = tilted.slopes if isinstance(tilted, Frame) else (tilted.slope_x, tilted.slope_y)
    if follow.z is not None:
        anchor = values[follow.z]
        if isinstance(anchor, Frame):
            # a frame carries the whole reference scan along, its z = 0 too
            slope_x, slope_y = anchor.slopes
            if follow.z not in homes:
                raise NotMeasured("what it follows was not found on the reference scan")
            z = anchor.z - homes[follow.z].z + slope_x * (at[0] - anchor.x) + slope_y * (at[1] - anchor.y)
        else:
            z = anchor.height_at(*at) if isinstance(anchor, Plane) else anchor.z
    if slopes == (0.0, 0.0) and z == 0.0:
        return LEVEL
    return Plane(at[0], at[1], z, *slopes)


def _on_ground(
    follow: Follow, homes: Mapping[str, Home], values: Mapping[str, Any], before: Pose, found: Pose
) -> tuple[Pose, Pose]:
    """An anchor on the reference and on the scan, each dropped onto the plane that the zone lies on.

    What lies above that plane moves sideways when the part tilts; the base point of its perpendicular does not.
    """
    ground, home = values.get(follow.z or ""), homes.get(follow.z or "")
    if home is None:
        return before, found
    known = Plane(home.x, home.y, home.z, home.slope_x, home.slope_y)
    if isinstance(ground, Frame) and follow.tilt is not None:
        # a frame carries the whole reference scan along, its z = 0 too
        known = replace(known, z0=0.0)
        ground = Plane(ground.x, ground.y, ground.z - home.z, *ground.slopes)
    if not isinstance(ground, Plane):
        return before, found
    return _dropped(before, known), _dropped(found, ground)


def _dropped(pose: Pose, plane: Plane) -> Pose:
    share = (plane.height_at(pose.x, pose.y) - pose.z) / (1.0 + plane.slope_x**2 + plane.slope_y**2)
    return replace(pose, x=pose.x - share * plane.slope_x, y=pose.y - share * plane.slope_y, z=pose.z + share)


def _centre(
    zone: AnyZone,
    follow: Follow,
    turn: float,
    turned: FloatArray,
    old: Mapping[str, Pose],
    new: Mapping[str, Pose],
) -> tuple[float, float]:
    """New centre of the zone: each axis gives a line, and two lines meet in it.

    turn: degrees by which it turns; turned: (2, 2) what that does to lengths seen from above.
    """
    here = np.array([zone.x, zone.y])
    if follow.x is not None and follow.x == follow.y:
        a, b = old[follow.x], new[follow.x]
        x, y = np.array([b.x, b.y]) + turned @ (here - (a.x, a.y))
        return float(x), float(y)
    directions, distances = np.zeros((2, 2)), np.zeros(2)
    for k, (anchor, axis) in enumerate(((follow.x, np.array([1.0, 0.0])), (follow.y, np.array([0.0, 1.0])))):
        if anchor is None:
            directions[k], distances[k] = axis, axis @ here
            continue
        a, b = old[anchor], new[anchor]
        before, after = axis, _turned(axis, turn)
        if a.line:
            # of a line only the distance from it means something
            before, after = (_turned(np.array([0.0, 1.0]), pose.rotation) for pose in (a, b))
        directions[k] = after
        distances[k] = after @ (b.x, b.y) + before @ (here - (a.x, a.y))
    if abs(float(np.linalg.det(directions))) < PARALLEL:
        raise NotMeasured(
            "what it follows in x and in y runs parallel and cannot place it;"
            " follow another anchor in one of them"
        )
    x, y = np.linalg.solve(directions, distances)
    return float(x), float(y)


def _seen(
    follow: Follow,
    homes: Mapping[str, Home],
    values: Mapping[str, Any],
    old: Mapping[str, Pose],
    new: Mapping[str, Pose],
    back: bool,
) -> FloatArray:
    """(2, 2) what turning and tilting does to lengths on the base of a zone, as seen from above.

    On a part tilted by 2° what is 100 mm long lies within 99.94 mm.
    """
    before = after = (0.0, 0.0)
    if follow.tilt is not None and follow.tilt in homes:
        home = homes[follow.tilt]
        before, after = (home.slope_x, home.slope_y), pose_of(values[follow.tilt]).slopes
        before, after = (after, before) if back else (before, after)
    angles = (0.0, 0.0)
    if follow.rotation is not None:
        angles = old[follow.rotation].rotation, new[follow.rotation].rotation
    if before == after == (0.0, 0.0):
        return _rotation(angles[1] - angles[0])
    seen: FloatArray = _axes(angles[1], after) @ np.linalg.inv(_axes(angles[0], before))
    return seen


def _axes(degrees: float, slopes: tuple[float, float]) -> FloatArray:
    """(2, 2) unit vectors on a plane as seen from above, in columns: in a direction, and square to it."""
    one = np.array([math.cos(math.radians(degrees)), math.sin(math.radians(degrees)), 0.0])
    one[2] = one[:2] @ slopes
    one /= np.linalg.norm(one)
    normal = np.array([-slopes[0], -slopes[1], 1.0]) / math.hypot(1.0, *slopes)
    return np.column_stack([one, np.cross(normal, one)])[:2]


def _reshaped(zone: PathZone, turned: FloatArray, turn: float) -> dict[str, Any]:
    """Changes to a path, which is as long on a tilted part but seen shorter."""
    local = _rotation(-zone.rotation - turn) @ turned @ _rotation(zone.rotation)
    if np.allclose(local, np.eye(2), rtol=0.0, atol=1e-12):
        return {}
    size = np.array([zone.width, zone.height])
    places = np.array([(n.u, n.v) for n in zone.nodes]) * size @ local.T
    size = np.maximum(2.0 * np.abs(places).max(axis=0), 1e-6)
    nodes = tuple(
        n.model_copy(update={"u": u, "v": v})
        for n, (u, v) in zip(zone.nodes, (places / size).tolist(), strict=True)
    )
    return {"width": float(size[0]), "height": float(size[1]), "nodes": nodes}


def _rotation(degrees: float) -> FloatArray:
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return np.array([[c, -s], [s, c]])


def _turned(vector: FloatArray, degrees: float) -> FloatArray:
    turned: FloatArray = _rotation(degrees) @ vector
    return turned
