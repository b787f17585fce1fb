"""Groove or ridge on a section: two flanks, a floor between them, depth and width."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, Facts, SectionFeature, section_marks
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.geometry.section_kernels import FEW, HIDDEN, NONE, grooves
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Absent, Outcome, StepContext
from hemtra.core.plan.registry import register

FLOOR = 0.003
"""Minimum tolerance of a point about the base beside it, mm."""


@dataclass(frozen=True, slots=True)
class Groove(Point):
    """A groove or ridge: the middle between its flanks at the level its width is taken at; mm.

    spread: mm by which each of its flanks may be off, judging by the points.
    """

    depth: float
    width: float
    spread: float = 0.0


@register
class GrooveKind(SectionFeature):
    """A groove or a ridge."""

    kind: ClassVar = "groove"
    title: ClassVar = "Groove or ridge"
    glyph: ClassVar = "groove"
    output: ClassVar = Groove

    side: Literal["groove", "ridge"] = setting("groove", "is a", "Whether it goes down or stands up.")
    shoulder: float = setting(
        20.0,
        "base",
        "Share of the zone at either end that is the base beside it.",
        unit="%",
        ge=2.0,
        le=45.0,
    )
    floor: Literal["deepest", "flat"] = setting(
        "deepest",
        "its floor is",
        "The deepest points, as of a round groove; or all points nearly as deep, so that noise adds nothing.",
        choices={"deepest": "the deepest points"},
    )
    at: float = setting(
        50.0,
        "width at",
        "Depth, as a share of the whole, at which the width is taken; 0 is the base.",
        unit="%",
        ge=1.0,
        le=99.0,
    )
    least_depth: float = setting(
        0.1, "minimum depth", "Shallower grooves are ignored.", unit="mm", gt=0.0, le=1000.0
    )

    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """Rows of `grooves`."""
        return grooves(
            x,
            z,
            inside,
            self._sign,
            self.shoulder / 100.0,
            self.at / 100.0,
            self.least_depth,
            FLOOR,
            self.floor == "flat",
            fine,
        )

    def refused(self, cut: Cut, row: FloatArray) -> Absent:
        """That there is none, with the depth of nothing. Raises `NotMeasured`."""
        code, depth, _, _, a, b, *_ = row.tolist()
        if code == FEW:
            raise NotMeasured(f"the section holds {depth:.0f} points here; a groove needs 12")
        if code == HIDDEN:
            end = "floor" if self.side == "groove" else "top"
            raise NotMeasured(f"its {end} is not seen; make the zone taller, or scan it from another side")
        if code == NONE:
            # that there is none is known, and so is how deep nothing is
            middle = float(cut.x[0] + cut.x[-1]) / 2
            return Absent(
                f"it is only {depth:.3f} mm deep; move the zone, or allow less depth",
                cut.place(middle, a + b * middle),
                {"depth": depth, "width": 0.0},
            )
        raise NotMeasured("it reaches to the end of the zone; make the zone wider")

    def shape(self, cut: Cut, row: Sequence[Any]) -> Groove:
        """A `Groove`."""
        _, depth, left, right, a, b, *walls = row
        middle = (left + right) / 2
        place = cut.place(middle, a + b * middle - self._sign * self.at / 100.0 * depth)
        upright = 1.0 / np.hypot(1.0, b)
        room = np.maximum(cut.room(*walls[:2]), cut.room(*walls[2:]))
        return Groove(place.x, place.y, place.z, depth * upright, (right - left) / upright, room)

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """Depth, width and centre."""
        upright = 1.0 / math.hypot(1.0, row[5])
        return (
            ("depth", f"{row[1] * upright:.4f} mm"),
            ("width", f"{(row[3] - row[2]) / upright:.4f} mm"),
            ("centre", f"{(row[2] + row[3]) / 2:.3f} mm"),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The base beside it."""
        cut, row = given.one("section", Cut), self.row(given)
        x = cut.x[cut.within(given.zone)]
        ends = np.array([x[0], x[-1]])
        return Evidence((section_marks(cut, ends, row[4] + row[5] * ends),))

    @property
    def _sign(self) -> float:
        return 1.0 if self.side == "groove" else -1.0
