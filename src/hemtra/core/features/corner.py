"""Corner: where two lines fitted to a section meet."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, Facts, SectionFeature, section_marks
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Point
from hemtra.core.geometry.section_kernels import FEW, corners
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register

FEWEST = 4
"""Points on either side of a corner."""
BLUNTEST = 3.0
"""Smallest angle between the two lines, degrees."""
FLOOR = 0.003
"""Minimum tolerance of a point about its line, mm."""


@register
class CornerKind(SectionFeature):
    """The corner between two straight flanks of a section."""

    kind: ClassVar = "corner"
    title: ClassVar = "Corner"
    glyph: ClassVar = "corner"
    output: ClassVar = Point

    clear: float = setting(
        0.3,
        "leave out",
        "What lies nearer to the corner than this is not fitted: corners are rounded.",
        unit="mm",
        ge=0.0,
        le=100.0,
    )

    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """Rows of `corners`."""
        return corners(x, z, inside, self.clear, FEWEST, FLOOR)

    def found(self, cut: Cut, row: FloatArray) -> Point:
        """A `Point`."""
        code, a, b, c, d, *_ = row.tolist()
        if code == FEW:
            raise NotMeasured(f"only {a:.0f} points lie in the zone; a corner needs {2 * FEWEST}")
        if code:
            raise NotMeasured("one flank is too short; make the zone longer, or leave out less")
        turn = abs(math.degrees(math.atan(d) - math.atan(b)))
        if turn < BLUNTEST:
            raise NotMeasured(f"its two flanks differ by {turn:.1f}° only; that is no corner")
        x = (a - c) / (d - b)
        return cut.place(x, a + b * x)

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """The angle between the flanks, place and height."""
        point, turn = self.value(cut, row), math.degrees(math.atan(row[4]) - math.atan(row[2]))
        return (
            ("angle", f"{180.0 - abs(turn):.2f}°"),
            ("at", f"{point.x:.3f}, {point.y:.3f} mm"),
            ("height", f"{point.z:.3f} mm"),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The two flanks up to the corner."""
        cut, (_, a, b, c, d, first, last) = given.one("section", Cut), self.row(given)
        x = (a - c) / (d - b)
        left, right = np.array([first, x]), np.array([x, last])
        return Evidence((section_marks(cut, left, a + b * left), section_marks(cut, right, c + d * right)))
