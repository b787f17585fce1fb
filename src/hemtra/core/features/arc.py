"""Arc: the circle through the points of a section."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, Facts, SectionFeature, section_marks
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Arc
from hemtra.core.geometry.profile_fits import robust_arc
from hemtra.core.geometry.section_kernels import FEW, STRAIGHT, arcs
from hemtra.core.marks import Evidence, Histogram
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register

FEWEST = 5
FLOOR = 0.003
"""Minimum tolerance of a point about the circle, mm."""
FLATTEST = 1e4
"""Radius beyond which an arc is a straight line, in widths of the zone."""
STEEPEST = 0.5
"""Share of its radius that a place of the arc must lie above its centre not to be a wall."""
BINS = 24


def _bend(cut: Cut, row: FloatArray) -> FloatArray:
    """(n,) 1/mm by which an arc found on a cut bends downwards at each point, 0 where it is a wall."""
    _, cx, cz, radius = row[:4]
    half = np.sqrt(np.maximum(radius**2 - (cut.x - cx) ** 2, (STEEPEST * radius) ** 2))
    bend: FloatArray = np.where(cut.z > cz, 1.0, -1.0) * radius**2 / half**3
    return np.where(np.abs(cut.x - cx) < math.sqrt(1.0 - STEEPEST**2) * radius, bend, 0.0)


@register
class ArcKind(SectionFeature):
    """A circle fitted to a section."""

    kind: ClassVar = "arc"
    title: ClassVar = "Arc on a section"
    glyph: ClassVar = "arc"
    output: ClassVar = Arc
    revision: ClassVar = 3

    least_span: float = setting(
        30.0,
        "minimum span",
        "Part of the circle that must be seen for its radius to be trusted.",
        unit="°",
        ge=1.0,
        le=180.0,
    )

    def row(self, given: StepContext) -> FloatArray:
        """Of a section, what interpolation takes off its bend is given back, as a first fit gives it."""
        row, cut = super().row(given), given.one(self.section_input, Cut)
        if row[0] != 0.0 or cut.sag == 0.0:
            return row
        raised = replace(cut, z=cut.z + cut.sag * _bend(cut, row))
        return super().row(replace(given, inputs={**given.inputs, self.section_input: (raised,)}))

    def measure(
        self, x: FloatArray, z: FloatArray, inside: BoolArray, middle: FloatArray, fine: int = 1
    ) -> FloatArray:
        """Rows of `arcs`."""
        return arcs(x, z, inside, FEWEST, FLOOR, FLATTEST)

    def unfit(self, rows: FloatArray) -> BoolArray:
        """Also those that show too little of the circle."""
        return super().unfit(rows) | (rows[:, 5] < self.least_span)

    def refused(self, cut: Cut, row: FloatArray) -> None:
        """Raises `NotMeasured`."""
        if row[0] == FEW:
            raise NotMeasured(f"the section holds {row[7]:.0f} points here; an arc needs {FEWEST}")
        if row[0] == STRAIGHT:
            raise NotMeasured("the points lie on a straight line; that has no radius")
        raise NotMeasured(
            f"only {row[5]:.0f}° of the circle are seen, and {self.least_span:.0f}° are asked for;"
            " a radius from so little cannot be trusted"
        )

    def shape(self, cut: Cut, row: Sequence[Any]) -> Arc:
        """An `Arc`."""
        _, cx, cz, radius, _, span, *_ = row
        place = cut.place(cx, cz)
        return Arc(place.x, place.y, place.z, radius, cut.direction, span)

    def facts(self, cut: Cut, row: FloatArray) -> Facts:
        """Radius, span, residual."""
        return (
            ("radius", f"{row[3]:.4f} mm"),
            ("span", f"{row[5]:.0f}°"),
            ("residual RMS", f"{1000 * row[4]:.1f} µm"),
        )

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The arc, and how far the points lie off it."""
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        cx, cz, radius, weight = robust_arc(x, z, FLOOR)
        used = weight > 0.0
        angle = np.arctan2(z[used] - cz, x[used] - cx)
        middle = math.atan2(float(np.sin(angle).mean()), float(np.cos(angle).mean()))
        off = (angle - middle + np.pi) % (2 * np.pi) - np.pi
        turn = middle + np.linspace(float(off.min()), float(off.max()), 60)
        left = np.hypot(x - cx, z - cz) - radius
        reach = max(float(np.abs(left).max()), 1e-4) * 1.02
        edges = np.linspace(-reach, reach, BINS + 1)
        counts, kept = (np.histogram(part, edges)[0].astype(np.float64) for part in (left, left[used]))
        line = section_marks(cut, cx + radius * np.cos(turn), cz + radius * np.sin(turn))
        return Evidence((line,), Histogram("distance from the arc", "mm", edges, counts, kept))
