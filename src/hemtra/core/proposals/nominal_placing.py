"""Places the mesh of a drawing on the reference scan: by its outline, by best fit, or by three points.

Best fit is the iterative closest point method on a height map (Besl and McKay 1992, with the distance to the
tangent plane of Chen and Medioni 1991): each point of the scan is compared with the surface below it, along the
normal there, and a small motion takes away the residual; points far off count less and less.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import FloatArray
from hemtra.core.detection.part_box import part_box
from hemtra.core.errors import HemtraError, NotMeasured
from hemtra.core.evaluation.engine import Engine
from hemtra.core.features.outline import FoundOutline
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.mesh import Mesh, from_above, map_of_mesh
from hemtra.core.maps.section import sample
from hemtra.core.plan.document import Plan, Step
from hemtra.core.plan.nominal import Nominal, Placement, nominal_of
from hemtra.core.zones.zone import RectangleZone

MOST_POINTS = 40_000
"""Points of the scan that take part in a best fit."""
ROUNDS = 60
SETTLED = 1e-6
"""Motion below which a fit has settled, mm and radians."""
STEEPEST = 1.0
"""Slope beyond which a place says more of the sensor than of the surface."""
FIRST_REACH = 2.0
"""Largest distance from the surface of points in the first round, mm."""
LEAST_REACH = 0.02
WIDE = 3.0
"""Robust standard deviations up to which points count."""
FEWEST = 200
"""Points that a best fit needs."""
COARSE = 2.0
"""Spacing of the map on which the outline is compared, in spacings of the scan."""


@dataclass(frozen=True)
class Pose:
    """matrix (3, 3) and offset (3,) in mm that bring corners of a mesh onto the reference scan."""

    matrix: FloatArray
    offset: FloatArray

    def after(self, turn: FloatArray, shift: FloatArray) -> Pose:
        """The same, after the mesh itself was turned by (3,) radians and moved by (3,) mm."""
        small = scipy.spatial.transform.Rotation.from_rotvec(turn).as_matrix()
        return Pose(self.matrix @ small, self.matrix @ shift + self.offset)

    @property
    def numbers(self) -> dict[str, float]:
        """x, y, z, and rotation about z, tilts about x and y in degrees."""
        turned = scipy.spatial.transform.Rotation.from_matrix(self.matrix).as_euler("ZYX", degrees=True)
        x, y, z = self.offset
        named = {"x": x, "y": y, "z": z, "rotation": turned[0], "tilt_y": turned[1], "tilt_x": turned[2]}
        return {name: round(float(value), 6) for name, value in named.items()}


def nominal_from(
    mesh: Mesh,
    name: str,
    reference: HeightMap,
    placed: Placement,
    pairs: Sequence[tuple[Sequence[float], Sequence[float]]] = (),
) -> Nominal:
    """The nominal surface of a mesh in the top view.

    pairs: of points, each x, y, z in mm on the mesh and on the scan; needed where it is placed by points. A
    best fit begins with the pairs, or else with the outline. Raises `NotMeasured` where it cannot be placed.
    """
    by_pairs = placed == "points" or bool(pairs)
    pose = by_points(pairs) if by_pairs else by_outline(mesh, reference)
    if placed == "best fit":
        pose = best_fit(mesh, reference, pose)
    data = from_above(mesh.moved(pose.matrix, pose.offset), reference.grid, reference.shape)
    off = np.asarray(reference.z, np.float64) - data.z
    known = off[~np.isnan(off)]
    if known.size < FEWEST:
        raise NotMeasured("mesh and reference scan hardly overlap; place it by three points")
    return nominal_of(name, placed, pose.numbers, float(np.sqrt(np.mean(known**2))), data)


def by_points(pairs: Sequence[tuple[Sequence[float], Sequence[float]]]) -> Pose:
    """The motion that brings points of a mesh onto places of the scan, by least squares (Kabsch 1976)."""
    if len(pairs) < 3:
        raise NotMeasured("three points are needed, on the mesh and on the scan")
    points, places = (np.array([pair[k] for pair in pairs], np.float64) for k in (0, 1))
    if points.shape != (len(pairs), 3) or places.shape != points.shape:
        raise NotMeasured("each point needs x, y and z, on the mesh and on the scan")
    about, onto = points.mean(axis=0), places.mean(axis=0)
    if np.linalg.svd(points - about, compute_uv=False)[1] < 1e-3:
        raise NotMeasured("the points lie on one line; take three that do not")
    turn, _ = scipy.spatial.transform.Rotation.align_vectors(places - onto, points - about)
    matrix: FloatArray = turn.as_matrix()
    return Pose(matrix, onto - matrix @ about)


def by_outline(mesh: Mesh, reference: HeightMap) -> Pose:
    """Place the contour of a mesh, in the top view, on the scan; heights by their median."""
    spacing = COARSE * max(reference.grid.dx, reference.grid.dy)
    low, high = mesh.box
    # the belt below a part makes its edge a step, as on a scan
    own = _grounded(map_of_mesh(mesh, spacing), float(low[2]))
    width, height = (float(high[k] - low[k]) for k in (0, 1))
    middle = (low + high) / 2
    zone = RectangleZone(x=float(middle[0]), y=float(middle[1]), width=width + 6.0, height=height + 6.0)
    plan = Plan(name="nominal", steps=(Step(id="outline", name="outline", kind="outline", zone=zone),))
    taught = Engine(own).taught(plan)
    lesson = taught.step("outline").taught
    if lesson is None or lesson.trouble:
        raise NotMeasured(f"the mesh has no contour to find: {lesson.trouble if lesson else 'nothing taught'}")
    first, second = (Engine(data).run(taught).steps["outline"] for data in (own, reference))
    here, there = first.value, second.value
    if not isinstance(here, FoundOutline) or not isinstance(there, FoundOutline):
        reason = second.reason or first.reason
        raise NotMeasured(f"the outline of the mesh was not found on the reference scan: {reason}")
    turn = math.radians(there.rotation - here.rotation)
    c, s = math.cos(turn), math.sin(turn)
    matrix = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    flat = matrix @ np.array([here.x, here.y, 0.0])
    pose = Pose(matrix, np.array([there.x - flat[0], there.y - flat[1], 0.0]))
    raised = from_above(mesh.moved(pose.matrix, pose.offset), reference.grid, reference.shape)
    off = reference.z - raised.z
    if np.isnan(off).all():
        raise NotMeasured("the mesh lies outside the data of the reference scan")
    return replace(pose, offset=pose.offset + np.array([0.0, 0.0, np.nanmedian(off)]))


def best_fit(mesh: Mesh, reference: HeightMap, start: Pose) -> Pose:
    """The pose near a first one at which the scan lies closest to the mesh, robustly."""
    own = map_of_mesh(mesh, min(reference.grid.dx, reference.grid.dy))
    surface = _with_slopes(own)
    points, pose, reach = _points_of(reference), start, FIRST_REACH
    for _ in range(ROUNDS):
        local = (points - pose.offset) @ pose.matrix
        off, rows = _off(surface, local)
        near = np.abs(off) <= reach
        if np.count_nonzero(near) < FEWEST:
            raise NotMeasured("mesh and reference scan do not come close; place it by three points first")
        # a motion of the mesh by (turn, shift) moves the scan back by it
        step, *_ = np.linalg.lstsq(rows[near], off[near], rcond=None)
        pose = pose.after(step[:3], step[3:])
        left = off[near] - rows[near] @ step
        reach = max(WIDE * 1.4826 * float(np.median(np.abs(left - np.median(left)))), LEAST_REACH)
        if np.abs(step).max() < SETTLED:
            return pose
    return pose


def _grounded(data: HeightMap, ground: float) -> HeightMap:
    """With a level base where nothing is."""
    z, g = np.where(np.isnan(data.z), np.float32(ground), data.z), data.grid
    wide = np.pad(z, 12, constant_values=ground)
    return HeightMap(wide, None, g.dx, g.dy, g.x0 - 12 * g.dx, g.y0 - 12 * g.dy)


def _points_of(reference: HeightMap) -> FloatArray:
    """(n, 3) points of the part, thinned evenly."""
    rows, cols = np.nonzero(~np.isnan(reference.z))
    box = part_box(reference)
    x, y = reference.x[cols], reference.y[rows]
    if box is not None:
        inside = (x >= box[0]) & (x <= box[1]) & (y >= box[2]) & (y <= box[3])
        rows, cols, x, y = rows[inside], cols[inside], x[inside], y[inside]
    every = max(1, rows.size // MOST_POINTS)
    chosen = slice(None, None, every)
    return np.column_stack([x, y, reference.z[rows, cols]])[chosen].astype(np.float64)


@dataclass(frozen=True)
class _Sloped:
    height: HeightMap
    x: HeightMap
    y: HeightMap


def _with_slopes(data: HeightMap) -> _Sloped:
    """A map with its slopes along x and y, NaN where one side of a place is missing."""
    g, z = data.grid, np.asarray(data.z, np.float64)
    if min(z.shape) < 2:
        raise HemtraError("The mesh is too small to be fitted.")
    along_y, along_x = np.gradient(z, g.dy, g.dx)
    slopes = (HeightMap(slope, None, g.dx, g.dy, g.x0, g.y0) for slope in (along_x, along_y))
    return _Sloped(data, *slopes)


def _off(surface: _Sloped, points: FloatArray) -> tuple[FloatArray, FloatArray]:
    """(k,) mm of points off the surface along its normal, and (k, 6) what turn and shift of the mesh add."""
    x, y, z = points.T
    height, gx, gy = (sample(one, x, y) for one in (surface.height, surface.x, surface.y))
    with np.errstate(invalid="ignore"):
        known = ~np.isnan(height + gx + gy) & (np.hypot(gx, gy) < STEEPEST)
    x, y, z, height, gx, gy = (one[known] for one in (x, y, z, height, gx, gy))
    normal = np.column_stack([-gx, -gy, np.ones_like(gx)]) / np.sqrt(1.0 + gx**2 + gy**2)[:, None]
    off = (z - height) * normal[:, 2]
    return off, np.hstack([np.cross(np.column_stack([x, y, z]), normal), normal])
