"""Distance between two planes."""

from __future__ import annotations

from typing import ClassVar, Literal

from hemtra.core.errors import NotMeasured
from hemtra.core.features.plane import FittedPlane
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Plane, Point
from hemtra.core.marks import Dimension, Evidence
from hemtra.core.plan.kind import Input, Kind, Outcome, StepContext
from hemtra.core.plan.registry import register


@register
class PlaneDistanceKind(Kind):
    """Distance of one plane above another, at right angles to the other."""

    kind: ClassVar = "plane-distance"
    title: ClassVar = "Distance between planes"
    glyph: ClassVar = "height"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "plane": Input(Plane, "plane", "The plane whose distance is wanted."),
        "datum": Input(Plane, "above", "The plane it is measured from, at right angles to it."),
    }

    at: Literal["middle", "least", "greatest"] = setting(
        "middle",
        "taken at",
        "Where it is taken: planes that are not parallel are closer at one end. Minimum and"
        " maximum are those within the zone of the plane.",
        choices={
            "middle": "the middle of the plane",
            "least": "the minimum distance",
            "greatest": "the maximum distance",
        },
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """Positive above the datum, in mm; facts: the angle between the planes, least and greatest distance."""
        plane, datum = given.one("plane", Plane), given.one("datum", Plane)
        point = self._point(plane, datum)
        facts = [("angle", f"{plane.angle_to(datum):.3f}°")]
        if isinstance(plane, FittedPlane):
            ends = [datum.distance(corner) for corner in _corners(plane)]
            facts += [("minimum", f"{min(ends):.3f} mm"), ("maximum", f"{max(ends):.3f} mm")]
        return Outcome(Number(datum.distance(point), "mm", point), tuple(facts))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension from the datum to the plane."""
        plane, datum = given.one("plane", Plane), given.one("datum", Plane)
        point = self._point(plane, datum)
        return Evidence((Dimension(datum.foot(point), point, f"{outcome.value.value:.3f} mm"),))

    def _point(self, plane: Plane, datum: Plane) -> Point:
        """The place of the plane at which the distance is taken."""
        if self.at == "middle":
            return Point(plane.x0, plane.y0, plane.z0)
        if not isinstance(plane, FittedPlane):
            raise NotMeasured("the plane has no zone to have ends; take the distance at its middle")
        return (min if self.at == "least" else max)(_corners(plane), key=datum.distance)


def _corners(plane: FittedPlane) -> list[Point]:
    """The corners of the zone of a plane, on the plane: a linear function is least and greatest at one."""
    return [Point(x, y, plane.height_at(x, y)) for x, y in plane.zone.outline().tolist()]
