"""Line and level on a section."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, Facts, SectionFeature, section_marks
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import LEVEL, Line, Point
from hemtra.core.geometry.section_kernels import ALL, LOWER, ROBUST, UPPER, levels, lines
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register

FEWEST = 5
"""Points that show a line and not two strays."""
FLOOR = 0.003
"""Minimum tolerance of a point about its line, mm."""
OFF, BENT = 10.0, 11.0
"""Codes of a row for a line that too few of the points lie on, and for one whose points follow no line."""
STRAYS, NOISE = 0.02, 0.01
"""rms square to a line by which its points may stray: as a share of its length, and in mm; beyond both, what
bends within it turns it by several degrees."""


@register
class ProfileLineKind(SectionFeature):
    """A straight line through points of a section."""

    kind: ClassVar = "profile-line"
    title: ClassVar = "Line on a section"
    glyph: ClassVar = "section"
    output: ClassVar = Line

    fit: Literal["robust", "all", "upper", "lower"] = setting(
        "robust",
        "through",
        "Which points of the zone count: all but outliers, all, or a share of the upper or lower ones.",
        choices={
            "robust": "all but outliers",
            "all": "all points",
            "upper": "the upper ones",
            "lower": "the lower ones",
        },
    )
    share: float = setting(
        50.0,
        "share",
        "How many of the points, ranked by their distance from the line.",
        unit="%",
        when={"fit": ("upper", "lower")},
        gt=0.0,
        le=100.0,
    )

    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """Rows of `lines`."""
        modes = {"robust": ROBUST, "all": ALL, "upper": UPPER, "lower": LOWER}
        return lines(x, z, inside, modes[self.fit], self.share / 100.0, FLOOR, FEWEST)

    def measured(
        self,
        x: FloatArray,
        z: FloatArray,
        inside: BoolArray,
        columns: BoolArray,
        middle: FloatArray,
        fine: int = 1,
    ) -> FloatArray:
        """Without the lines that less than the least data lies on, or that are none."""
        rows = super().measured(x, z, inside, columns, middle, fine)
        if self.fit != "robust":
            return rows
        unseen = np.count_nonzero(columns & np.isnan(z), axis=1)
        share = 100.0 * rows[:, 6] / np.maximum(rows[:, 7] + unseen, 1)
        off, steep = (rows[:, 0] == 0) & (share < self.least_data), np.hypot(1.0, rows[:, 2])
        rows[off, 0], rows[off, 1] = OFF, share[off]
        strays, long = rows[:, 5] / steep, (rows[:, 4] - rows[:, 3]) * steep
        rows[(rows[:, 0] == 0) & (strays > np.maximum(STRAYS * long, NOISE)), 0] = BENT
        return rows

    def refused(self, cut: Cut, row: FloatArray) -> None:
        """Raises `NotMeasured`."""
        if row[0] == OFF:
            raise NotMeasured(
                f"only {row[1]:.0f} % of the points here lie on one line; minimum {self.least_data:g} %"
            )
        if row[0] == BENT:
            raise NotMeasured("the points here follow no straight line; make the zone smaller")
        raise NotMeasured(f"the section holds {row[7]:.0f} points here; a line needs {FEWEST}")

    def shape(self, cut: Cut, row: Sequence[Any]) -> Line:
        """A `Line` whose climb is along the section."""
        _, a, b, low, high, *_ = row
        middle = (low + high) / 2
        p = cut.place(middle, a + b * middle)
        if cut.base is LEVEL:
            return Line(p.x, p.y, p.z, cut.direction, high - low, b)
        start, end = (cut.place(x, a + b * x) for x in (low, high))
        length = math.hypot(end.x - start.x, end.y - start.y)
        return Line(p.x, p.y, p.z, cut.direction, length, (end.z - start.z) / length)

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """Angle against the section, residual and points."""
        return (
            ("angle", f"{math.degrees(math.atan(row[2])):.3f}°"),
            ("residual RMS", f"{1000 * row[5]:.1f} µm"),
            ("points", f"{row[6]:.0f} of {row[7]:.0f}"),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The line where it was fitted."""
        row = self.row(given)
        return Evidence((section_marks(given.one("section", Cut), row[3:5], row[1] + row[2] * row[3:5]),))


@register
class ProfileLevelKind(SectionFeature):
    """The mean height of a stretch of a section."""

    kind: ClassVar = "profile-level"
    title: ClassVar = "Level on a section"
    glyph: ClassVar = "spot"
    output: ClassVar = Point

    take: Literal["mean", "median"] = setting("mean", "take", "Which height stands for the stretch.")

    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """Rows of `levels`."""
        return levels(x, z, inside)

    def refused(self, cut: Cut, row: FloatArray) -> None:
        """Raises `NotMeasured`."""
        raise NotMeasured("the section holds no point here; move the zone onto the data")

    def shape(self, cut: Cut, row: Sequence[Any]) -> Point:
        """A `Point` in the middle of the stretch."""
        return cut.place(row[4], self._level(row))

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """Height, spread and points."""
        return (
            ("height", f"{self._level(row):.4f} mm"),
            ("spread", f"{1000 * row[3]:.1f} µm"),
            ("points", f"{row[5]:.0f}"),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The level over its stretch."""
        row = self.row(given)
        ends = np.array([row[6], 2 * row[4] - row[6]])
        return Evidence((section_marks(given.one("section", Cut), ends, np.full(2, self._level(row))),))

    def _level(self, row: Sequence[Any] | FloatArray) -> Any:
        return row[1] if self.take == "mean" else row[2]
