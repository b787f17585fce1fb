"""Groove or ridge on a section: two flanks, a floor between them, depth and width."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, section_marks
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.geometry.line_fit import robust_linear
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register

FLOOR = 0.003
"""mm by which a point may always be off the ground beside it."""
FEWEST = 3


@dataclass(frozen=True, slots=True)
class Groove(Point):
    """A groove or ridge: the middle between its flanks at the level its width is taken at; mm."""

    depth: float
    width: float


@register
class GrooveKind(Kind):
    """A groove or a ridge."""

    kind: ClassVar = "groove"
    title: ClassVar = "Groove or ridge"
    glyph: ClassVar = "groove"
    output: ClassVar = Groove
    section_input: ClassVar = "section"
    inputs: ClassVar = {"section": Input(Cut, "on", "The section it lies on.")}

    side: Literal["groove", "ridge"] = setting(
        "groove", "is a", "Whether it goes down or stands up.", choices={"groove": "groove", "ridge": "ridge"}
    )
    shoulder: float = setting(
        20.0,
        "ground",
        "Share of the zone at either end that is the ground beside it.",
        unit="%",
        ge=2.0,
        le=45.0,
    )
    at: float = setting(
        50.0,
        "width at",
        "Depth, as a share of the whole, at which the width is taken; 0 is the ground.",
        unit="%",
        ge=1.0,
        le=99.0,
    )
    least_depth: float = setting(0.1, "least depth", "What is shallower is none.", unit="mm", gt=0.0, le=1000.0)

    def evaluate(self, given: Given) -> Outcome:
        """A `Groove`; facts: depth, width."""
        cut = given.one("section", Cut)
        x, z, line = self._ground(given)
        down = (line[0] + line[1] * x - z) * (1.0 if self.side == "groove" else -1.0)
        # the floor is known by the mean of what lies deepest, not by one point
        deepest = np.sort(down)[-max(FEWEST, x.size // 50) :]
        depth = float(deepest.mean())
        if depth < self.least_depth:
            raise NotMeasured(f"it is only {depth:.3f} mm deep; move the zone, or allow less depth")
        level = self.at / 100.0 * depth
        inside = np.flatnonzero(down >= level)
        left, right = (
            _crossing(x, down, level, int(k), step) for k, step in ((inside[0], -1), (inside[-1], 1))
        )
        sign = 1.0 if self.side == "groove" else -1.0
        middle = (left + right) / 2
        place = cut.place(middle, line[0] + line[1] * middle - sign * level)
        upright = 1.0 / float(np.hypot(1.0, line[1]))
        facts = (
            ("depth", f"{depth * upright:.4f} mm"),
            ("width", f"{right - left:.4f} mm"),
            ("centre", f"{middle:.3f} mm"),
        )
        return Outcome(Groove(place.x, place.y, place.z, depth * upright, (right - left) / upright), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The ground beside it."""
        x, _, line = self._ground(given)
        ends = np.array([x[0], x[-1]])
        return Evidence((section_marks(given.one("section", Cut), ends, line[0] + line[1] * ends),))

    def _ground(self, given: Given) -> tuple[FloatArray, FloatArray, FloatArray]:
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        if x.size < 4 * FEWEST:
            raise NotMeasured(f"the section holds {x.size} points here; a groove needs {4 * FEWEST}")
        reach = self.shoulder / 100.0 * float(x[-1] - x[0])
        beside = (x <= x[0] + reach) | (x >= x[-1] - reach)
        line, _ = robust_linear(np.column_stack([np.ones(beside.sum()), x[beside]]), z[beside], FLOOR)
        return x, z, line


def _crossing(x: FloatArray, down: FloatArray, level: float, k: int, step: int) -> float:
    """Where the depth falls below a level outside point k."""
    other = k + step
    if not 0 <= other < x.size:
        raise NotMeasured("it reaches to the end of the zone; make the zone wider")
    share = (down[k] - level) / (down[k] - down[other])
    return float(x[k] + share * (x[other] - x[k]))
