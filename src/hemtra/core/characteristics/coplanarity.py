"""Coplanarity: how far several points depart from one plane."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import Number, Point
from hemtra.core.marks import Dimension, Evidence
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register

FEWEST = 4
NARROW = 1e-3
"""Ratio of the spread of points across and along below which they lie on one line."""


@register
class CoplanarityKind(Kind):
    """Greatest minus least distance of several points from their common plane."""

    kind: ClassVar = "coplanarity"
    title: ClassVar = "Coplanarity"
    glyph: ClassVar = "coplanarity"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "points": Input(Point, "points", "The points that should lie in one plane; four or more.", many=True)
    }

    def evaluate(self, given: Given) -> Outcome:
        """Least-squares plane of the points, perpendicular distances, in mm."""
        points, deviation, _ = self._deviations(given)
        highest = int(np.argmax(deviation))
        at = Point(*(float(c) for c in points[highest]))
        facts = (("highest", f"{deviation.max():+.3f} mm"), ("lowest", f"{deviation.min():+.3f} mm"))
        return Outcome(Number(float(np.ptp(deviation)), "mm", at), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """Each point's distance from the plane."""
        points, deviation, normal = self._deviations(given)
        feet = points - deviation[:, None] * normal
        return Evidence(
            tuple(
                Dimension(Point(*map(float, foot)), Point(*map(float, point)), f"{off:+.3f}")
                for foot, point, off in zip(feet, points, deviation, strict=True)
            )
        )

    def _deviations(self, given: Given) -> tuple[FloatArray, FloatArray, FloatArray]:
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
