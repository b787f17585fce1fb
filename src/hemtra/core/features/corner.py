"""Corner: where two lines fitted to a section meet."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

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

    def unfit(self, rows: FloatArray) -> BoolArray:
        """Also those whose flanks are nearly one line."""
        straight: BoolArray = _turn(rows.T) < BLUNTEST
        return super().unfit(rows) | straight

    def refused(self, cut: Cut, row: FloatArray) -> None:
        """Raises `NotMeasured`."""
        if row[0] == FEW:
            raise NotMeasured(f"only {row[1]:.0f} points lie in the zone; a corner needs {2 * FEWEST}")
        if row[0]:
            raise NotMeasured("one flank is too short; make the zone longer, or leave out less")
        raise NotMeasured(f"its two flanks differ by {_turn(row):.1f}° only; that is no corner")

    def shape(self, cut: Cut, row: Sequence[Any]) -> Point:
        """A `Point`."""
        _, a, b, c, d, *_ = row
        x = (a - c) / (d - b)
        return cut.place(x, a + b * x)

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """The angle between the flanks, place and height."""
        point = self.value(cut, row)
        return (
            ("angle", f"{180.0 - _turn(row):.2f}°"),
            ("at", f"{point.x:.3f}, {point.y:.3f} mm"),
            ("height", f"{point.z:.3f} mm"),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The two flanks up to the corner."""
        cut, (_, a, b, c, d, first, last) = given.one("section", Cut), self.row(given)
        x = (a - c) / (d - b)
        left, right = np.array([first, x]), np.array([x, last])
        return Evidence((section_marks(cut, left, a + b * left), section_marks(cut, right, c + d * right)))


def _turn(row: FloatArray) -> Any:
    """Angle between the flanks in degrees, of a row of numbers or of many, (numbers, n)."""
    return np.abs(np.degrees(np.arctan(row[4]) - np.arctan(row[2])))
