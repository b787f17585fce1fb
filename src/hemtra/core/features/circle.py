"""Circle: the rim of a boss or a hole, found on radial scan lines."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
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
        (x, y, radius), left, used, level = _round(places, levels, FLOOR * pitch)
        self._enough(places, seen, FEWEST, about=np.array((x, y)))
        scatter = float(np.sqrt(np.mean(left[used] ** 2)))
        found = FoundCircle(
            x,
            y,
            level,
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
        _, left, used, _ = _round(places, levels, FLOOR * pitch)
        angle = np.linspace(0.0, 2 * np.pi, 73)
        round_ = np.column_stack(
            [circle.x + circle.radius * np.cos(angle), circle.y + circle.radius * np.sin(angle)]
        )
        return Evidence(
            (
                Strokes(ticks(places[used], levels[used], 0.0, pitch), "used-data"),
                Strokes(ticks(places[~used], levels[~used], 0.0, pitch), "left-out"),
                Polyline(np.column_stack([round_, np.full(len(round_), circle.z)]), "fit"),
            ),
            residuals_round(places - (circle.x, circle.y), left),
        )


def _round(
    places: FloatArray, levels: FloatArray, floor: float
) -> tuple[tuple[float, float, float], FloatArray, BoolArray, float]:
    """Centre and radius in mm, distances from it and which places count, and the height of the centre.

    The circle lies in the plane of its rim: seen from above, that of a tilted part is shorter along the slope.
    """
    middle = places.mean(axis=0)
    design = np.column_stack([np.ones(len(places)), places - middle])
    # most of the rim is level with its middle, which is start enough
    start = np.array([float(np.median(levels)), 0.0, 0.0])
    level, _ = settle_linear(design, levels, start, 0.002)
    slope = np.array([level[1], level[2]])
    steep = float(np.hypot(*slope))
    uphill = slope / steep if steep > 0.0 else slope
    longer = math.hypot(1.0, steep) - 1.0
    flat = places + longer * ((places - middle) @ uphill)[:, None] * uphill
    x, y, radius, used = robust_circle(flat[:, 0], flat[:, 1], floor)
    left = np.hypot(flat[:, 0] - x, flat[:, 1] - y) - radius
    off = np.array([x, y]) - middle
    centre = middle + off - longer / (1.0 + longer) * float(off @ uphill) * uphill
    height = float(level[0] + slope @ (centre - middle))
    return (float(centre[0]), float(centre[1]), radius), left, used, height
