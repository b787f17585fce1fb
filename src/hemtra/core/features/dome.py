"""Sphere and cylinder cap: fitted to rounded tops."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import partial
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Round
from hemtra.core.geometry.outline_fit import settled, used_of
from hemtra.core.marks import Evidence, Histogram, Polyline, Region
from hemtra.core.plan.kind import Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register

FEWEST, MOST = 30, 20_000
"""Minimum and maximum number of points in a fit."""
FLOOR = 0.003
"""Minimum tolerance of a point, mm."""
BINS = 24
FLATTEST = 50.0
"""Radius beyond which a surface is flat, in widths of the zone."""


@dataclass(frozen=True, slots=True)
class Dome(Round):
    """A sphere: its centre, and the radius in mm. Of a cylinder the middle of its axis and where that points.

    direction: degrees counter-clockwise from x. climb: mm per mm along it. length: mm that were seen.
    """

    direction: float = 0.0
    climb: float = 0.0
    length: float = 0.0


@register
class DomeKind(Kind):
    """A sphere or a cylinder cap fitted to a rounded surface."""

    kind: ClassVar = "dome"
    title: ClassVar = "Sphere or cylinder cap"
    glyph: ClassVar = "dome"
    output: ClassVar = Dome
    needs_zone: ClassVar = True

    shape: Literal["ball", "cylinder"] = setting(
        "ball",
        "is a",
        "Spherical or cylindrical surface.",
        choices={"ball": "sphere", "cylinder": "cylinder cap"},
    )
    least_data: float = least_data()

    def evaluate(self, given: StepContext) -> Outcome:
        """A `Dome`; facts: radius, top, residual and points."""
        points, _ = self._points(given)
        found, left = self._fitted(points)
        used = used_of(left, FLOOR)
        facts = [
            ("radius", f"{found.radius:.4f} mm"),
            ("top", f"{found.z + found.radius:.4f} mm"),
            ("residual RMS", f"{1000 * float(np.sqrt(np.mean(left[used] ** 2))):.1f} µm"),
            ("points", f"{np.count_nonzero(used)} of {left.size}"),
        ]
        if self.shape == "cylinder":
            facts.insert(2, ("direction", f"{found.direction:.3f}°"))
        return Outcome(found, tuple(facts))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The points, the crest, and how far they lie off."""
        points, mask = self._points(given)
        found, left = self._fitted(points)
        used = used_of(left, FLOOR)
        reach = max(float(np.abs(left).max()), 1e-4) * 1.02
        edges = np.linspace(-reach, reach, BINS + 1)
        counts, kept = (np.histogram(part, edges)[0].astype(np.float64) for part in (left, left[used]))
        view = given.window(self.least_data)
        grid = view.grid(given.data)
        return Evidence(
            (Region(grid, mask, "used-data"), Polyline(_crest(found, self.shape, points), "fit")),
            Histogram("distance from the surface", "mm", edges, counts, kept),
        )

    def _points(self, given: StepContext) -> tuple[FloatArray, BoolArray]:
        """(n, 3) points of the zone in mm, thinned where there are many, and where they all are."""
        view = given.window(self.least_data)
        z = given.data.z[view.rows, view.cols]
        mask = ~np.isnan(z)
        if view.inside is not None:
            mask &= view.inside
        i, j = np.nonzero(mask)
        if i.size < FEWEST:
            raise NotMeasured(f"the zone holds {i.size} points; a rounded surface needs {FEWEST}")
        thin = slice(None, None, max(1, math.ceil(i.size / MOST)))
        grid = view.grid(given.data)
        x, y = grid.x0 + grid.dx * j[thin], grid.y0 + grid.dy * i[thin]
        return np.column_stack([x, y, z[i[thin], j[thin]].astype(np.float64)]), mask

    def _fitted(self, points: FloatArray) -> tuple[Dome, FloatArray]:
        """The surface, and how far each point lies off it in mm, positive outside."""
        middle = points.mean(axis=0)
        local = points - middle
        width = float(np.ptp(local[:, :2], axis=0).max())
        start = _sphere_start(local) if self.shape == "ball" else _cylinder_start(local)
        if start is None or not np.isfinite(start).all() or abs(start[-1]) > FLATTEST * width:
            raise NotMeasured("surface is flat: radius undefined")
        distance = _sphere_distance if self.shape == "ball" else _cylinder_distance
        found, left = settled(partial(distance, local), start, FLOOR)
        radius = abs(float(found[-1]))
        if radius > FLATTEST * width:
            raise NotMeasured("surface is flat: radius undefined")
        if self.shape == "ball":
            x, y, z = (float(v) for v in found[:3] + middle)
            return Dome(x, y, z, radius), left
        turn, climb, across, height = (float(v) for v in found[:4])
        c, s = math.cos(turn), math.sin(turn)
        x, y, z = -s * across + middle[0], c * across + middle[1], height + middle[2]
        length = float(np.ptp(c * local[:, 0] + s * local[:, 1]))
        degrees = (math.degrees(turn) + 90.0) % 180.0 - 90.0
        if round((math.degrees(turn) - degrees) / 180.0) % 2:  # seen from its other end
            climb = -climb
        return Dome(float(x), float(y), float(z), radius, degrees, climb, length), left


def _sphere_start(p: FloatArray) -> FloatArray | None:
    """Centre and radius by the algebraic fit."""
    design = np.column_stack([p, np.ones(len(p))])
    solution, _, rank, _ = np.linalg.lstsq(design, (p**2).sum(axis=1), rcond=None)
    if rank < 4:
        return None
    centre = solution[:3] / 2
    square = float(solution[3] + centre @ centre)
    return np.array([*centre, math.sqrt(square)]) if square > 0 else None


def _cylinder_start(p: FloatArray) -> FloatArray | None:
    """Direction in radians, climb, offset across, height of the axis and radius, from a paraboloid."""
    x, y, z = p.T
    design = np.column_stack([np.ones(x.size), x, y, x * x, x * y, y * y])
    c = np.linalg.lstsq(design, z, rcond=None)[0]
    values, vectors = np.linalg.eigh(np.array([[2 * c[3], c[4]], [c[4], 2 * c[5]]]))
    # bent least along the axis
    flat = int(np.argmin(np.abs(values)))
    bend = float(values[1 - flat])
    if bend == 0.0:
        return None
    turn = math.atan2(float(vectors[1, flat]), float(vectors[0, flat]))
    slope_along = c[1] * math.cos(turn) + c[2] * math.sin(turn)
    slope_across = -c[1] * math.sin(turn) + c[2] * math.cos(turn)
    across = -slope_across / bend
    radius = abs(1.0 / bend)
    return np.array([turn, slope_along, across, c[0] - math.copysign(radius, -bend), radius])


def _sphere_distance(p: FloatArray, s: FloatArray) -> FloatArray:
    off: FloatArray = np.sqrt(((p - s[:3]) ** 2).sum(axis=1)) - abs(s[3])
    return off


def _cylinder_distance(p: FloatArray, s: FloatArray) -> FloatArray:
    turn, climb, across, height, radius = s
    c, si = math.cos(turn), math.sin(turn)
    origin = np.array([-si * across, c * across, height])
    axis = np.array([c, si, climb]) / math.sqrt(1.0 + climb * climb)
    v = p - origin
    along = v @ axis
    off: FloatArray = np.sqrt(np.maximum((v**2).sum(axis=1) - along**2, 0.0)) - abs(radius)
    return off


def _crest(dome: Dome, shape: str, points: FloatArray) -> FloatArray:
    """(n, 3) the line along the top of a cylinder, or across that of a sphere."""
    half = dome.length / 2 if shape == "cylinder" else float(np.ptp(points[:, 0])) / 2
    t = np.linspace(-half, half, 40)
    if shape == "cylinder":
        c, s = math.cos(math.radians(dome.direction)), math.sin(math.radians(dome.direction))
        return np.column_stack([dome.x + c * t, dome.y + s * t, dome.z + dome.radius + dome.climb * t])
    sign = 1.0 if points[:, 2].mean() > dome.z else -1.0
    top = dome.z + sign * np.sqrt(np.maximum(dome.radius**2 - t**2, 0.0))
    return np.column_stack([dome.x + t, np.full(t.size, dome.y), top])
