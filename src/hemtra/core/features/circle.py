"""Circle: the rim of a boss or a hole, found on radial scan lines."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.coverage import WHOLE, Coverage
from hemtra.core.features.edge import seen_on, ticks
from hemtra.core.features.opening import residuals_round
from hemtra.core.features.radial import RimKind
from hemtra.core.geometry.elements import Circle
from hemtra.core.geometry.fit_kernels import settle_linear
from hemtra.core.geometry.line_fit import robust_circle
from hemtra.core.marks import Evidence, Polyline, Strokes
from hemtra.core.plan.kind import Given, Outcome
from hemtra.core.plan.registry import register

FEWEST = 8
FLOOR = 0.2
"""Points of the map by which a crossing may always be off the circle."""


@dataclass(frozen=True, slots=True)
class FoundCircle(Circle):
    """A circle with the share of radial lines it was seen on and how far they scatter, rms in mm."""

    share: float = 0.0
    scatter: float = 0.0
    places: FloatArray | None = field(default=None, compare=False)
    """(n, 2) everywhere it was seen, in mm; form must not leave out what lies off the circle."""
    coverage: Coverage = WHOLE
    """Of the radial lines across it."""


@register
class CircleKind(RimKind):
    """A round rim."""

    kind: ClassVar = "circle"
    title: ClassVar = "Circle"
    glyph: ClassVar = "circle"
    output: ClassVar = FoundCircle

    def evaluate(self, given: Given) -> Outcome:
        """A `FoundCircle` at the height of its rim; facts: diameter, scatter and lines."""
        places, levels, seen = self._rim(given)
        self._enough(places, seen, FEWEST, about=None)
        pitch = max(given.data.grid.dx, given.data.grid.dy)
        circle = robust_circle(places[:, 0], places[:, 1], FLOOR * pitch)
        self._enough(places, seen, FEWEST, about=np.array(circle[:2]))
        x, y, radius, used = circle
        left = np.hypot(places[:, 0] - x, places[:, 1] - y) - radius
        scatter = float(np.sqrt(np.mean(left[used] ** 2)))
        design = np.column_stack([np.ones(len(places)), places - (x, y)])
        # most of the rim is level with its middle, which is start enough
        start = np.array([float(np.median(levels)), 0.0, 0.0])
        level, _ = settle_linear(design, levels, start, 0.002)
        found = FoundCircle(
            x,
            y,
            float(level[0]),
            radius,
            share=float(seen.mean()),
            scatter=scatter,
            places=places,
            coverage=seen_on(seen, 2 * math.pi * radius / seen.size, closed=True),
        )
        facts = (
            ("diameter", f"{2 * radius:.3f} mm"),
            ("scatter", f"{scatter * 1000:.0f} µm"),
            ("lines", f"{np.count_nonzero(used)} of {seen.size}"),
        )
        return Outcome(found, facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The crossings, used and left out, the circle, and how far they lie off it."""
        circle: FoundCircle = outcome.value
        places, levels, _ = self._rim(given)
        pitch = max(given.data.grid.dx, given.data.grid.dy)
        *_, used = robust_circle(places[:, 0], places[:, 1], FLOOR * pitch)
        angle = np.linspace(0.0, 2 * np.pi, 73)
        round_ = np.column_stack(
            [circle.x + circle.radius * np.cos(angle), circle.y + circle.radius * np.sin(angle)]
        )
        left = np.hypot(places[:, 0] - circle.x, places[:, 1] - circle.y) - circle.radius
        return Evidence(
            (
                Strokes(ticks(places[used], levels[used], 0.0, pitch), "used-data"),
                Strokes(ticks(places[~used], levels[~used], 0.0, pitch), "left-out"),
                Polyline(np.column_stack([round_, np.full(len(round_), circle.z)]), "fit"),
            ),
            residuals_round(places - (circle.x, circle.y), left),
        )
