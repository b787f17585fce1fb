"""Angles between features."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.features.plane import FittedPlane
from hemtra.core.geometry.elements import LEVEL, Number, Plane, Point
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import form_limits

SQUARE = np.array([(-5.0, -5.0), (5.0, -5.0), (5.0, 5.0), (-5.0, 5.0)])
"""Drawn half size of a plane without a border of its own, mm."""


@register
class TiltKind(Kind):
    """Angle between two planes."""

    kind: ClassVar = "tilt"
    limits_from: ClassVar = staticmethod(form_limits)
    title: ClassVar = "Tilt"
    glyph: ClassVar = "tilt"
    output: ClassVar = Number
    unit: ClassVar = "°"
    inputs: ClassVar = {
        "plane": Input(Plane, "plane", "The plane whose tilt is wanted."),
        "to": Input(
            Plane, "against", "The plane it should be parallel to; without it the level.", optional=True
        ),
    }

    def evaluate(self, given: StepContext) -> Outcome:
        """0 to 90 degrees."""
        plane, to = given.one("plane", Plane), given.optional_input("to", Plane) or LEVEL
        return Outcome(Number(plane.angle_to(to), "°", Point(plane.x0, plane.y0, plane.z0)))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The plane and, through its centre, a parallel of what it is compared with."""
        plane, to = given.one("plane", Plane), given.optional_input("to", Plane) or LEVEL
        outline = (
            plane.zone.outline() if isinstance(plane, FittedPlane) else SQUARE + np.array((plane.x0, plane.y0))
        )
        x, y = outline[:, 0], outline[:, 1]
        parallel = plane.z0 + to.height_at(x, y) - to.height_at(plane.x0, plane.y0)
        return Evidence(
            (
                Polyline(_lifted(outline, plane.height_at(x, y)), "fit", closed=True),
                Polyline(_lifted(outline, parallel), "dimension", closed=True),
            )
        )


def _lifted(outline: FloatArray, z: FloatArray) -> FloatArray:
    return np.column_stack([outline, z])
