"""Line and level on a section."""

from __future__ import annotations

import math
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, section_marks
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Line, Point
from hemtra.core.geometry.line_fit import robust_linear
from hemtra.core.marks import Evidence
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register

FLOOR = 0.003
"""mm by which a point may always be off its line."""
ROUNDS = 30


@register
class ProfileLineKind(Kind):
    """A straight line through points of a section."""

    kind: ClassVar = "profile-line"
    title: ClassVar = "Line on a section"
    glyph: ClassVar = "section"
    output: ClassVar = Line
    section_input: ClassVar = "section"
    inputs: ClassVar = {"section": Input(Cut, "on", "The section the line is fitted to.")}

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

    def evaluate(self, given: Given) -> Outcome:
        """A `Line` whose climb is along the section; facts: angle against it, residual and points."""
        cut = given.one("section", Cut)
        x, z, line, used = self._fitted(given)
        left = (z - line[0] - line[1] * x)[used]
        low, high = float(x[used].min()), float(x[used].max())
        middle = (low + high) / 2
        p = cut.place(middle, line[0] + line[1] * middle)
        base = cut.base
        ux, uy = math.cos(math.radians(cut.direction)), math.sin(math.radians(cut.direction))
        climb = float(line[1]) + base.slope_x * ux + base.slope_y * uy
        found = Line(p.x, p.y, p.z, cut.direction, high - low, climb)
        facts = (
            ("angle", f"{math.degrees(math.atan(float(line[1]))):.3f}°"),
            ("residual", f"{1000 * float(np.sqrt(np.mean(left**2))):.1f} µm rms"),
            ("points", f"{np.count_nonzero(used)} of {x.size}"),
        )
        return Outcome(found, facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The line where it was fitted."""
        x, _, line, used = self._fitted(given)
        ends = np.array([x[used].min(), x[used].max()])
        return Evidence((section_marks(given.one("section", Cut), ends, line[0] + line[1] * ends),))

    def _fitted(self, given: Given) -> tuple[FloatArray, FloatArray, FloatArray, BoolArray]:
        """Points (n,), height and slope of the line, and which points were used."""
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        if x.size < 2:
            raise NotMeasured(f"the section holds {x.size} points here; a line needs two")
        design = np.column_stack([np.ones(x.size), x])
        used = np.ones(x.size, np.bool_)
        if self.fit == "robust":
            line, used = robust_linear(design, z, FLOOR)
            return x, z, line, used
        line = np.linalg.lstsq(design, z, rcond=None)[0]
        count = max(2, round(self.share / 100.0 * x.size))
        for _ in range(ROUNDS if self.fit != "all" else 0):
            left = z - design @ line
            chosen = np.zeros(x.size, np.bool_)
            chosen[np.argsort(-left if self.fit == "upper" else left, kind="stable")[:count]] = True
            line = np.linalg.lstsq(design[chosen], z[chosen], rcond=None)[0]
            settled, used = bool((chosen == used).all()), chosen
            if settled:
                break
        return x, z, line, used


@register
class ProfileLevelKind(Kind):
    """The mean height of a stretch of a section."""

    kind: ClassVar = "profile-level"
    title: ClassVar = "Level on a section"
    glyph: ClassVar = "spot"
    output: ClassVar = Point
    section_input: ClassVar = "section"
    inputs: ClassVar = {"section": Input(Cut, "on", "The section whose level is wanted.")}

    take: Literal["mean", "median"] = setting(
        "mean", "take", "Which height stands for the stretch.", choices={"mean": "mean", "median": "median"}
    )

    def evaluate(self, given: Given) -> Outcome:
        """A `Point` in the middle of the stretch; facts: spread and points."""
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        if x.size == 0:
            raise NotMeasured("the section holds no point here; move the zone onto the data")
        level = float(z.mean() if self.take == "mean" else np.median(z))
        facts = (
            ("height", f"{level:.4f} mm"),
            ("spread", f"{1000 * float(z.std()):.1f} µm"),
            ("points", str(x.size)),
        )
        return Outcome(cut.place(float(x.mean()), level), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The level over its stretch."""
        cut, point = given.one("section", Cut), outcome.value
        x = cut.x[cut.within(given.zone)]
        ends = np.array([x.min(), x.max()])
        level = point.z - cut.base.height_at(point.x, point.y)
        return Evidence((section_marks(cut, ends, np.full(2, level)),))
