"""Coordinates and positions of features in the part's frame."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Number, Point, Triple
from hemtra.core.geometry.frames import Frame
from hemtra.core.marks import Dimension, Evidence, Polyline
from hemtra.core.plan.kind import Input, Kind, Outcome, Reading, StepContext
from hemtra.core.plan.registry import register
from hemtra.core.plan.usual_limits import form_limits

_FRAME = Input(
    Frame, "in", "The frame it counts in: an outline or a datum frame; that of the scan without.", optional=True
)


def _inward(given: StepContext) -> FloatArray:
    """(3,) the point seen in the frame."""
    point, frame = given.one("point", Point), given.optional_input("frame", Frame) or Frame()
    place: FloatArray = frame.inward(np.array([[point.x, point.y, point.z]]))[0]
    return place


@register
class PositionKind(Kind):
    """One coordinate of a point."""

    kind: ClassVar = "position"
    title: ClassVar = "Coordinate"
    glyph: ClassVar = "position"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {"point": Input(Point, "point", "The point whose place is wanted."), "frame": _FRAME}

    axis: Literal["x", "y", "z", "r"] = setting(
        "x",
        "along",
        "Which coordinate: x, y or z of the frame, or the distance from its origin in x and y.",
        choices={"r": "distance from the origin"},
    )

    def evaluate(self, given: StepContext) -> Outcome:
        """In mm; facts: all three."""
        place = tuple(_inward(given).tolist())
        facts = tuple((axis, f"{value:.3f} mm") for axis, value in zip("xyz", place, strict=True))
        return Outcome(self._read(given, place).number("mm"), facts)

    def read(self, given: StepContext) -> Reading | None:
        """In mm; in a frame of their own places are measured one by one."""
        return None if given.inputs.get("frame") else self._read(given, given.one("point", Point).place)

    def _read(self, given: StepContext, place: Triple) -> Reading:
        x, y, z = place
        return Reading(
            np.hypot(x, y) if self.axis == "r" else {"x": x, "y": y, "z": z}[self.axis],
            given.one("point", Point),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The dimension from the frame's axis."""
        x, y, z = _inward(given)
        foot = {"x": (0.0, y, z), "y": (x, 0.0, z), "z": (x, y, 0.0), "r": (0.0, 0.0, z)}[self.axis]
        frame = given.optional_input("frame", Frame) or Frame()
        start = frame.outward(np.array([foot]))[0]
        end = given.one("point", Point)
        return Evidence((Dimension(Point(*map(float, start)), end, f"{outcome.value.value:.3f} mm"),))


@register
class TruePositionKind(Kind):
    """Diameter of the smallest circle about the nominal place that holds the point (ISO 1101)."""

    kind: ClassVar = "true-position"
    limits_from: ClassVar = staticmethod(form_limits)
    title: ClassVar = "Position"
    glyph: ClassVar = "true-position"
    output: ClassVar = Number
    unit: ClassVar = "mm"
    inputs: ClassVar = {
        "point": Input(Point, "point", "The point, or the centre of a circle."),
        "frame": _FRAME,
    }

    x: float = setting(0.0, "nominal x", "Where it should be, in the frame.", unit="mm", ge=-1e5, le=1e5)
    y: float = setting(0.0, "nominal y", "Where it should be, in the frame.", unit="mm", ge=-1e5, le=1e5)

    def evaluate(self, given: StepContext) -> Outcome:
        """Twice the distance in x and y from the nominal place, in mm; facts: both parts."""
        x, y, _ = (float(c) for c in _inward(given))
        value = 2.0 * math.hypot(x - self.x, y - self.y)
        facts = (("dx", f"{x - self.x:+.3f} mm"), ("dy", f"{y - self.y:+.3f} mm"))
        return Outcome(Number(value, "mm", given.one("point", Point)), facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The circle about the nominal place."""
        frame = given.optional_input("frame", Frame) or Frame()
        turn = np.linspace(0.0, 2 * np.pi, 49)
        radius, z = outcome.value.value / 2, float(_inward(given)[2])
        ring = np.column_stack([self.x + radius * np.cos(turn), self.y + radius * np.sin(turn), np.full(49, z)])
        return Evidence((Polyline(frame.outward(ring), "dimension", closed=True),))
