"""Arc: the circle through the points of a section."""

from __future__ import annotations

import math
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.section import Cut, section_marks
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Arc
from hemtra.core.geometry.line_fit import robust_circle
from hemtra.core.marks import Evidence, Histogram
from hemtra.core.plan.kind import Given, Input, Kind, Outcome
from hemtra.core.plan.registry import register

FEWEST = 5
FLOOR = 0.003
"""mm by which a point may always be off the circle."""
FLATTEST = 1e4
"""Times the width of the zone beyond which a radius is a straight line."""
BINS = 24


@register
class ArcKind(Kind):
    """A circle fitted to a section."""

    kind: ClassVar = "arc"
    title: ClassVar = "Arc on a section"
    glyph: ClassVar = "arc"
    output: ClassVar = Arc
    section_input: ClassVar = "section"
    inputs: ClassVar = {"section": Input(Cut, "on", "The section the circle is fitted to.")}

    least_span: float = setting(
        30.0,
        "least span",
        "Part of the circle that must be seen for its radius to be trusted.",
        unit="°",
        ge=1.0,
        le=180.0,
    )

    def evaluate(self, given: Given) -> Outcome:
        """An `Arc`; facts: radius, span, residual."""
        cut = given.one("section", Cut)
        x, z, circle, used = self._fitted(given)
        cx, cz, radius = circle
        span = self._span(x[used], z[used], circle)
        if span < self.least_span:
            raise NotMeasured(
                f"only {span:.0f}° of the circle are seen, and {self.least_span:.0f}° are asked for;"
                " a radius from so little cannot be trusted"
            )
        left = np.hypot(x - cx, z - cz)[used] - radius
        place = cut.place(cx, cz)
        facts = (
            ("radius", f"{radius:.4f} mm"),
            ("span", f"{span:.0f}°"),
            ("residual", f"{1000 * float(np.sqrt(np.mean(left**2))):.1f} µm rms"),
        )
        return Outcome(Arc(place.x, place.y, place.z, radius, cut.direction, span), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The arc, and how far the points lie off it."""
        x, z, (cx, cz, radius), used = self._fitted(given)
        angle = np.arctan2(z[used] - cz, x[used] - cx)
        middle = math.atan2(float(np.sin(angle).mean()), float(np.cos(angle).mean()))
        off = (angle - middle + np.pi) % (2 * np.pi) - np.pi
        turn = middle + np.linspace(float(off.min()), float(off.max()), 60)
        left = np.hypot(x - cx, z - cz) - radius
        reach = max(float(np.abs(left).max()), 1e-4) * 1.02
        edges = np.linspace(-reach, reach, BINS + 1)
        counts, kept = (np.histogram(part, edges)[0].astype(np.float64) for part in (left, left[used]))
        line = section_marks(given.one("section", Cut), cx + radius * np.cos(turn), cz + radius * np.sin(turn))
        return Evidence((line,), Histogram("distance from the arc", "mm", edges, counts, kept))

    def _fitted(self, given: Given) -> tuple[FloatArray, FloatArray, tuple[float, float, float], BoolArray]:
        cut = given.one("section", Cut)
        inside = cut.within(given.zone)
        x, z = cut.x[inside], cut.z[inside]
        if x.size < FEWEST:
            raise NotMeasured(f"the section holds {x.size} points here; an arc needs {FEWEST}")
        cx, cz, radius, used = robust_circle(x, z, FLOOR)
        width = float(np.ptp(x)) or 1.0
        if not math.isfinite(radius) or radius > FLATTEST * width or radius <= 0.0:
            raise NotMeasured("the points lie on a straight line; that has no radius")
        return x, z, (cx, cz, radius), used

    @staticmethod
    def _span(x: FloatArray, z: FloatArray, circle: tuple[float, float, float]) -> float:
        """Degrees between the outermost points, without the widest gap."""
        angle = np.sort(np.degrees(np.arctan2(z - circle[1], x - circle[0])))
        gaps = np.append(np.diff(angle), angle[0] + 360.0 - angle[-1])
        return 360.0 - float(gaps.max())
