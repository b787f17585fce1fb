"""Circle: the rim of a boss or a hole, found on radial scan lines."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.features.edge import ticks
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Circle
from hemtra.core.geometry.line_fit import robust_circle, robust_linear
from hemtra.core.marks import Evidence, Histogram, Polyline, Strokes
from hemtra.core.plan.kind import Given, Kind, Outcome
from hemtra.core.plan.registry import register
from hemtra.core.scan.edge_lines import crossings
from hemtra.core.scan.zones import RingZone

LEAST_INNER = 0.1
"""Share of the radius within which a zone without a hole is not looked at: radial lines crowd there."""
FEWEST, MOST_LINES = 8, 720
FLOOR = 0.2
"""Points of the map by which a crossing may always be off the circle."""
QUARTERS, SIDE_SHARE = 4, 0.05
"""Sides of a rim, and the share of its points that shows one of them."""
BINS = 24


@dataclass(frozen=True, slots=True)
class FoundCircle(Circle):
    """A circle with the share of radial lines it was seen on and how far they scatter, rms in mm."""

    share: float = 0.0
    scatter: float = 0.0
    places: FloatArray | None = field(default=None, compare=False)
    """(n, 2) everywhere it was seen, in mm; form must not leave out what lies off the circle."""


@register
class CircleKind(Kind):
    """A round rim."""

    kind: ClassVar = "circle"
    title: ClassVar = "Circle"
    glyph: ClassVar = "circle"
    output: ClassVar = FoundCircle
    needs_zone: ClassVar = True

    change: Literal["falls", "rises"] = setting(
        "falls",
        "outward",
        "How the surface changes from the middle outward: it falls at the rim of a boss and rises at that of a"
        " hole.",
        choices={"falls": "falls (boss)", "rises": "rises (hole)"},
    )
    pick: Literal["strongest", "first", "last"] = setting(
        "strongest",
        "take",
        "Which of several edges on a radial line counts.",
        choices={"strongest": "strongest", "first": "innermost", "last": "outermost"},
    )
    on: Literal["height", "brightness"] = setting(
        "height",
        "seen by",
        "Steps of the surface, or of its brightness, as of something printed.",
        choices={"height": "height", "brightness": "brightness"},
    )
    least_step: float = setting(
        0.3,
        "least step",
        "Steps lower than this are no rim.",
        unit="mm",
        when={"on": ("height",)},
        gt=0.0,
        le=1000.0,
    )
    least_contrast: float = setting(
        30.0,
        "least contrast",
        "Differences of brightness smaller than this are no rim; the scale goes to 255.",
        when={"on": ("brightness",)},
        gt=0.0,
        le=255.0,
    )
    least_seen: float = setting(
        50.0,
        "least seen",
        "Share of the radial lines that must show the rim.",
        unit="%",
        ge=0.0,
        le=100.0,
    )

    @property
    def _least(self) -> float:
        return self.least_step if self.on == "height" else self.least_contrast

    def evaluate(self, given: Given) -> Outcome:
        """A `FoundCircle` at the height of its rim; facts: diameter, scatter and lines."""
        places, levels, lines = self._rim(given)
        share, circle = len(places) / lines, None
        if len(places) >= FEWEST and 100.0 * share >= self.least_seen:
            pitch = max(given.data.grid.dx, given.data.grid.dy)
            circle = robust_circle(places[:, 0], places[:, 1], FLOOR * pitch)
        if circle is None or not _all_round(places - circle[:2]):
            raise NotMeasured(
                f"a rim shows on {len(places)} of {lines} radial lines, or on one side only;"
                " lay the zone about the circle, or let smaller steps count"
            )
        x, y, radius, used = circle
        left = np.hypot(places[:, 0] - x, places[:, 1] - y) - radius
        scatter = float(np.sqrt(np.mean(left[used] ** 2)))
        design = np.column_stack([np.ones(len(places)), places - (x, y)])
        level, _ = robust_linear(design, levels, 0.002)
        found = FoundCircle(x, y, float(level[0]), radius, share=share, scatter=scatter, places=places)
        facts = (
            ("diameter", f"{2 * radius:.3f} mm"),
            ("scatter", f"{scatter * 1000:.0f} µm"),
            ("lines", f"{np.count_nonzero(used)} of {lines}"),
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
        reach = max(float(np.abs(left).max()), 1e-3) * 1.02
        edges = np.linspace(-reach, reach, BINS + 1)
        counts, kept = (np.histogram(part, edges)[0].astype(np.float64) for part in (left, left[used]))
        return Evidence(
            (
                Strokes(ticks(places[used], levels[used], 0.0, pitch), "used-data"),
                Strokes(ticks(places[~used], levels[~used], 0.0, pitch), "left-out"),
                Polyline(np.column_stack([round_, np.full(len(round_), circle.z)]), "fit"),
            ),
            Histogram("distance from the circle", "mm", edges, counts, kept),
        )

    def _rim(self, given: Given) -> tuple[FloatArray, FloatArray, int]:
        """Places (n, 2) and heights (n,) of the rim in mm, and how many radial lines were looked along."""
        zone, grid = given.zone, given.data.grid
        if zone is None:
            raise NotMeasured("it has no zone; draw one about the circle")
        given.window()
        outer = min(zone.width, zone.height) / 2
        inner = outer * (zone.inner if isinstance(zone, RingZone) else LEAST_INNER)
        middle, reach = (outer + inner) / 2, (outer - inner) / 2
        count = int(np.clip(round(2 * math.pi * middle / max(grid.dx, grid.dy)), 4 * QUARTERS, MOST_LINES))
        angle = 2 * np.pi * np.arange(count) / count
        ux, uy = np.cos(angle), np.sin(angle)
        lines = np.column_stack([zone.x + middle * ux, zone.y + middle * uy, ux, uy])
        found = crossings(
            given.data, lines, reach, self.change, self.pick, self._least, grey=self.on == "brightness"
        )
        places = lines[:, :2] + found[:, :1] * lines[:, 2:]
        kept = ~np.isnan(found[:, 0])
        kept[kept] = zone.contains(places[kept, 0], places[kept, 1])
        if zone.band is not None:
            kept[kept] = zone.band.holds(places[kept, 0], places[kept, 1], found[kept, 1])
        return places[kept], found[kept, 1], count


def _all_round(offsets: FloatArray) -> bool:
    """Whether the rim was seen on at least three of four sides; offsets (n, 2) from its centre."""
    angle = np.arctan2(offsets[:, 1], offsets[:, 0])
    sides = np.floor((angle + np.pi) / (2 * np.pi) * QUARTERS).astype(np.int64) % QUARTERS
    counts = np.bincount(sides, minlength=QUARTERS)
    return int(np.count_nonzero(counts >= SIDE_SHARE * len(offsets))) >= QUARTERS - 1
