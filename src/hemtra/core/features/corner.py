"""Corner: where two lines fitted to a section meet."""

from __future__ import annotations

import math
from typing import ClassVar

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

FEWEST = 4
"""Points on either side of a corner."""
BLUNTEST = 3.0
"""Degrees by which the two lines must differ."""
FLOOR = 0.003
"""mm by which a point may always be off its line."""


@register
class CornerKind(Kind):
    """The corner between two straight flanks of a section."""

    kind: ClassVar = "corner"
    title: ClassVar = "Corner"
    glyph: ClassVar = "corner"
    output: ClassVar = Point
    section_input: ClassVar = "section"
    inputs: ClassVar = {"section": Input(Cut, "on", "The section whose corner is wanted.")}

    clear: float = setting(
        0.3,
        "leave out",
        "What lies nearer to the corner than this is not fitted: corners are rounded.",
        unit="mm",
        ge=0.0,
        le=100.0,
    )

    def evaluate(self, given: Given) -> Outcome:
        """A `Point`; facts: the angle between the flanks."""
        cut = given.one("section", Cut)
        left, right = self._flanks(given, cut)
        turn = math.degrees(math.atan(right[1]) - math.atan(left[1]))
        if abs(turn) < BLUNTEST:
            raise NotMeasured(f"its two flanks differ by {abs(turn):.1f}° only; that is no corner")
        x = (left[0] - right[0]) / (right[1] - left[1])
        point = cut.place(x, left[0] + left[1] * x)
        facts = (
            ("angle", f"{180.0 - abs(turn):.2f}°"),
            ("at", f"{point.x:.3f}, {point.y:.3f} mm"),
            ("height", f"{point.z:.3f} mm"),
        )
        return Outcome(point, facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The two flanks up to the corner."""
        cut = given.one("section", Cut)
        left, right = self._flanks(given, cut)
        inside = cut.x[cut.within(given.zone)]
        x = (left[0] - right[0]) / (right[1] - left[1])
        spans = np.array([inside.min(), x]), np.array([x, inside.max()])
        return Evidence(
            tuple(
                section_marks(cut, span, line[0] + line[1] * span)
                for line, span in zip((left, right), spans, strict=True)
            )
        )

    def _flanks(self, given: Given, cut: Cut) -> tuple[FloatArray, FloatArray]:
        """Both flanks as height at x = 0 and slope."""
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        if x.size < 2 * FEWEST:
            raise NotMeasured(f"only {x.size} points lie in the zone; a corner needs {2 * FEWEST}")
        split = _best_split(x, z)
        corner = (x[split - 1] + x[split]) / 2
        for _ in range(2):
            near = np.abs(x - corner) < self.clear
            parts = (x < corner) & ~near, (x >= corner) & ~near
            if min(np.count_nonzero(part) for part in parts) < FEWEST:
                raise NotMeasured("one flank is too short; make the zone longer, or leave out less")
            left, right = (
                robust_linear(np.column_stack([np.ones(np.count_nonzero(part)), x[part]]), z[part], FLOOR)[0]
                for part in parts
            )
            if abs(right[1] - left[1]) > 1e-6:
                meet = (left[0] - right[0]) / (right[1] - left[1])
                corner = float(np.clip(meet, x[FEWEST], x[-FEWEST - 1]))
        return left, right


def _best_split(x: FloatArray, z: FloatArray) -> int:
    """Index of the first point of the right flank: both flanks' least squares together are least."""
    u, w = x - x.mean(), z - z.mean()

    def misfit(u: FloatArray, w: FloatArray) -> FloatArray:
        """Sum of squared residuals of a line through the first k + 1 points, for each k."""
        n = np.arange(1, u.size + 1)
        su, sw = np.cumsum(u), np.cumsum(w)
        uu, uw, ww = (
            np.cumsum(u * u) - su * su / n,
            np.cumsum(u * w) - su * sw / n,
            np.cumsum(w * w) - sw * sw / n,
        )
        return np.maximum(ww - np.divide(uw * uw, uu, out=np.zeros(u.size), where=uu > 1e-12), 0.0)

    left, right = misfit(u, w), misfit(u[::-1], w[::-1])[::-1]
    splits = np.arange(FEWEST, x.size - FEWEST + 1)
    return int(splits[np.argmin(left[splits - 1] + right[splits])])
