"""Coplanarity: how far several points depart from one plane."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.characteristics.surface_points import Extent, Surface, Surfaces
from hemtra.core.errors import NotMeasured
from hemtra.core.features.spot import SpotPoint
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Plane, Point
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.marks import Dimension, Evidence
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import form_limits

FEWEST = 4
NARROW = 1e-3
"""Ratio of the spread of points across and along below which they lie on one line."""


@register
class CoplanarityKind(Kind):
    """Greatest minus least distance of several points from their common plane."""

    kind: ClassVar = "coplanarity"
    limits_from: ClassVar = staticmethod(form_limits)
    title: ClassVar = "Coplanarity"
    glyph: ClassVar = "coplanarity"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    looks_at_data: ClassVar = True
    revision: ClassVar = 2
    least_coverage: ClassVar = 75.0
    inputs: ClassVar = {
        "points": Input(Point, "points", "The points that should lie in one plane; four or more.", many=True)
    }

    of: Literal["points", "levels"] = setting(
        "points",
        "taken of",
        "All points of the spots' zones, which proves coplanarity; or the levels of the spots only, which"
        " leaves out what stands off their level.",
        choices={"points": "all points of the spots", "levels": "the levels only"},
    )
    cell: float = setting(
        2.0,
        "mean over",
        "Heights are averaged over cells of this size, so that noise does not count as form. Deviations larger"
        " than the noise still count in full.",
        unit="mm",
        when={"of": ("points",)},
        gt=0.0,
        le=100.0,
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """Distance in mm of two planes parallel to the least-squares plane that hold all points (ISO 1101)."""
        points, deviation, _ = self._deviations(given)
        highest = int(np.argmax(deviation))
        at = Point(*(float(c) for c in points[highest]))
        spots = [p for p in given.many("points", Point) if isinstance(p, SpotPoint) and p.zone is not None]
        if self.of == "levels" or not spots:
            ends = (("highest", f"{deviation.max():+.3f} mm"), ("lowest", f"{deviation.min():+.3f} mm"))
            note = "the levels only: this does not prove coplanarity" if spots else ""
            return Outcome(Number(float(np.ptp(deviation)), "mm", at), ends, note)
        plane = self._plane(given)
        surfaces = [Surface(spot.zone, plane) for spot in spots if spot.zone is not None]
        extent = _extent(surfaces, given.data, self.cell, plane)
        low, high = min(extent.low, float(deviation.min())), max(extent.high, float(deviation.max()))
        facts = (
            ("highest", f"{high:+.3f} mm"),
            ("lowest", f"{low:+.3f} mm"),
            ("isolated points", str(extent.coverage.spikes)),
        )
        room = extent.possible_width - extent.width
        possible = (Number(high - low + room, "mm", at),)
        return Outcome(Number(high - low, "mm", at), facts, possible=possible, coverage=extent.coverage)

    def ideal(self, given: StepContext) -> Mapping[str, tuple[Plane, ...]]:
        """All spots in the plane of their levels."""
        spots = given.many("points", Point)
        if self.of == "levels" or not all(isinstance(p, SpotPoint) and p.zone is not None for p in spots):
            return {}
        return {"points": (self._plane(given),) * len(spots)}

    def _plane(self, given: StepContext) -> Plane:
        points, _, normal = self._deviations(given)
        return Plane(*map(float, (*points.mean(axis=0), -normal[0] / normal[2], -normal[1] / normal[2])))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Each point's distance from the plane."""
        points, deviation, normal = self._deviations(given)
        feet = points - deviation[:, None] * normal
        return Evidence(
            tuple(
                Dimension(Point(*map(float, foot)), Point(*map(float, point)), f"{off:+.3f}")
                for foot, point, off in zip(feet, points, deviation, strict=True)
            )
        )

    def _deviations(self, given: StepContext) -> tuple[FloatArray, FloatArray, FloatArray]:
        """(n, 3) points, (n,) distances from their plane, and its normal."""
        points = np.array([(p.x, p.y, p.z) for p in given.many("points", Point)])
        if len(points) < FEWEST:
            raise NotMeasured(f"it has {len(points)} points; coplanarity needs {FEWEST}")
        middle = points.mean(axis=0)
        _, spread, axes = np.linalg.svd(points - middle)
        if spread[1] <= NARROW * spread[0]:
            raise NotMeasured("its points lie on one line; take points that span a plane")
        normal: FloatArray = axes[2] * (1.0 if axes[2][2] >= 0.0 else -1.0)
        return points, (points - middle) @ normal, normal


def _extent(surfaces: list[Surface], data: HeightMap, cell: float, plane: Plane) -> Extent:
    """Distances of surfaces from a plane, up to the ends of their zones."""
    held = Surfaces(surfaces, data, cell)
    return held.extent(plane, held.rims())
