"""Heights: of a point above a plane, and of one point above another."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from hemtra.core.geometry.elements import LEVEL, Number, Plane, Point
from hemtra.core.marks import Dimension, Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register


@register
class HeightKind(Kind):
    """Perpendicular distance of a point above a plane."""

    kind: ClassVar = "height"
    title: ClassVar = "Height above plane"
    glyph: ClassVar = "height"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "point": Input(Point, "point", "The point whose height is wanted."),
        "plane": Input(Plane, "above", "The plane it is measured from, at right angles to it."),
    }

    def evaluate(self, given: StepContext) -> Outcome:
        """Positive above the plane, in mm."""
        point, plane = given.one("point", Point), given.one("plane", Plane)
        return Outcome(Number(plane.distance(point), "mm", point))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension from the plane to the point."""
        point, plane = given.one("point", Point), given.one("plane", Plane)
        return Evidence((Dimension(plane.foot(point), point, f"{outcome.value.value:.3f} mm"),))


@register
class StepKind(Kind):
    """Height of one point above another."""

    kind: ClassVar = "step"
    title: ClassVar = "Step"
    glyph: ClassVar = "step"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "upper": Input(Point, "upper", "The point that lies higher when the step is positive."),
        "lower": Input(Point, "lower", "The point it is compared with."),
        "plane": Input(
            Plane,
            "square to",
            "The step is measured at right angles to this plane, so that a tilted part reads the same;"
            " without it along z.",
            optional=True,
        ),
    }

    def evaluate(self, given: StepContext) -> Outcome:
        """Upper minus lower in mm."""
        upper, lower = given.one("upper", Point), given.one("lower", Point)
        plane = given.optional_input("plane", Plane) or LEVEL
        return Outcome(Number(plane.distance(upper) - plane.distance(lower), "mm", upper))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension at the upper point, with its extension line from the lower one."""
        upper, lower = given.one("upper", Point), given.one("lower", Point)
        plane = given.optional_input("plane", Plane) or LEVEL
        nx, ny, nz = plane.normal
        step = outcome.value.value
        level = Point(upper.x - step * nx, upper.y - step * ny, upper.z - step * nz)
        extension = np.array([[lower.x, lower.y, lower.z], [level.x, level.y, level.z]])
        return Evidence((Dimension(level, upper, f"{step:.3f} mm"), Polyline(extension, "dimension")))
