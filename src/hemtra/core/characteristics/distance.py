"""Distances between features."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Line, Number, Point, Triple, length_of
from hemtra.core.geometry.frames import Frame
from hemtra.core.marks import Dimension, Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, Reading, StepContext
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
        "frame": Input(
            Frame, "in", "The frame whose x, y or z it is measured along; of the scan without.", optional=True
        ),
    }

    along: Literal["space", "x", "y", "z", "direction"] = setting(
        "space",
        "along",
        "In space, so that a tilted part reads the same; or only its part along x, y, z or a direction.",
        choices={"space": "in space", "direction": "a direction"},
    )
    direction: float = setting(
        0.0,
        "direction",
        "Seen from above, counter-clockwise from x of the frame.",
        unit="°",
        when={"along": ("direction",)},
        ge=-360.0,
        le=360.0,
    )
    signed: bool = setting(
        False,
        "signed",
        "Below zero where the end lies before the start; without it the size alone.",
        when={"along": ("x", "y", "z", "direction")},
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm; facts: its parts along x, y and z."""
        start, end = self._ends(given)
        dx, dy, dz = (f"{abs(b - a):.3f} mm" for a, b in zip(start, end, strict=True))
        return Outcome(self._read(given).number("mm"), (("dx", dx), ("dy", dy), ("dz", dz)))

    def read(self, given: StepContext) -> Reading | None:
        """In mm; in a frame of their own places are measured one by one."""
        return self._read(given) if not given.inputs.get("frame") else None

    def _read(self, given: StepContext) -> Reading:
        (ax, ay, az), (bx, by, bz) = self._ends(given)
        dx, dy, dz = bx - ax, by - ay, bz - az
        if self.along == "space":
            value = length_of(dx, dy, dz)
        else:
            ux, uy, uz = self._unit(given)
            value = dx * ux + dy * uy + dz * uz
            value = value if self.signed else abs(value)
        return Reading(value, Point((ax + bx) / 2, (ay + by) / 2, (az + bz) / 2))

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension between the two; a part of it along its direction from the start."""
        start, end = self._ends(given)
        if self.along != "space":
            unit = self._unit(given)
            reach = sum((b - a) * u for a, b, u in zip(start, end, unit, strict=True))
            foot = tuple(b - reach * u for b, u in zip(end, unit, strict=True))
            lead = Polyline(np.array([start, foot]), "dimension")
            return Evidence((Dimension(Point(*foot), Point(*end), f"{outcome.value.value:.3f} mm"), lead))
        return Evidence((Dimension(Point(*start), Point(*end), f"{outcome.value.value:.3f} mm"),))

    def _unit(self, given: StepContext) -> tuple[float, float, float]:
        """The direction it is measured along, in the scan."""
        turn = math.radians(self.direction)
        vector = {
            "x": (1.0, 0.0, 0.0),
            "y": (0.0, 1.0, 0.0),
            "z": (0.0, 0.0, 1.0),
            "direction": (math.cos(turn), math.sin(turn), 0.0),
        }[self.along]
        frame = given.optional_input("frame", Frame)
        if frame is None:
            return vector
        origin, tip = frame.outward(np.array([(0.0, 0.0, 0.0), vector]))
        x, y, z = (tip - origin).tolist()
        return x, y, z

    def _ends(self, given: StepContext) -> tuple[Triple, Triple]:
        start, end = given.one("start", Point), given.one("end", Point)
        a, b = start.place, end.place
        if isinstance(end, Line):
            return a, _foot(a, end)
        if isinstance(start, Line):
            return _foot(b, start), b
        return a, b


def _foot(place: Triple, line: Line) -> Triple:
    """The point of a line nearest to a place."""
    (ux, uy, uz), (x, y, z) = line.unit, line.place
    along = (place[0] - x) * ux + (place[1] - y) * uy + (place[2] - z) * uz
    return x + along * ux, y + along * uy, z + along * uz
