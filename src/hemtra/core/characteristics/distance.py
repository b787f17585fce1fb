"""Distances between features."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.geometry.elements import Line, Number, Point
from hemtra.core.marks import Dimension, Evidence
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register


@register
class DistanceKind(Kind):
    """Distance of a point from another point, or at right angles from a line."""

    kind: ClassVar = "distance"
    title: ClassVar = "Distance"
    glyph: ClassVar = "distance"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "start": Input(
            Point, "from", "Where it starts: a point, the centre of a circle, or the middle of an edge."
        ),
        "end": Input(
            Point, "to", "Where it ends: a point, or an edge, to which it is measured at right angles."
        ),
    }

    def evaluate(self, given: Given) -> Outcome:
        """In space, in mm, so that a tilted part reads the same; facts: its parts along x, y and z."""
        start, end = self._ends(given)
        parts = end - start
        middle = (start + end) / 2
        value = float(np.linalg.norm(parts))
        facts = tuple(
            (name, f"{abs(part):.3f} mm") for name, part in zip(("dx", "dy", "dz"), parts, strict=True)
        )
        return Outcome(Number(value, "mm", Point(*(float(m) for m in middle))), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The dimension between the two."""
        start, end = (Point(*(float(c) for c in place)) for place in self._ends(given))
        return Evidence((Dimension(start, end, f"{outcome.value.value:.3f} mm"),))

    def _ends(self, given: Given) -> tuple[FloatArray, FloatArray]:
        start, end = given.one("start", Point), given.one("end", Point)
        a, b = (np.array([p.x, p.y, p.z]) for p in (start, end))
        if isinstance(end, Line):
            return a, b + end.vector * float((a - b) @ end.vector)
        if isinstance(start, Line):
            return a + start.vector * float((b - a) @ start.vector), b
        return a, b
