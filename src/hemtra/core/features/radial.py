"""Detection on lines outward from the middle of a zone: parameters and crossings of all rims."""

from __future__ import annotations

import math
from abc import ABC
from typing import Literal, NamedTuple

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.detection.edge_lines import Parting, parting
from hemtra.core.errors import NotMeasured
from hemtra.core.features.edge import crossed
from hemtra.core.features.edge_detection import SeenBySteps
from hemtra.core.form_fields import setting
from hemtra.core.maps.heightmap import Grid
from hemtra.core.marks import Curve, Strokes
from hemtra.core.plan.kind import StepContext
from hemtra.core.zones.zone import EllipseZone, RingZone

LEAST_INNER = 0.1
"""Share of the radius within which a zone without a hole is not looked at: radial lines crowd there."""
MOST_LINES = 720
QUARTERS, SIDE_SHARE = 4, 0.05
"""Sides of a rim, and the share of its points that shows one of them."""


class Rim(NamedTuple):
    """Rim points on radial lines: places (n, 2) and heights (n,) in mm; seen: (lines,) that show it."""

    places: FloatArray
    levels: FloatArray
    seen: BoolArray
    parting: Parting
    middle: tuple[float, float]
    """x and y in mm from which the lines go out."""

    def marks(self, used: BoolArray, grid: Grid) -> tuple[Strokes, Strokes]:
        """Its places, used (n,) and left out."""
        across = np.degrees(np.arctan2(*(self.places - self.middle).T[::-1]))
        apart = min(grid.dx, grid.dy) if self.parting.parts else 0.0
        return crossed(self.places, self.levels, used, across, (max(grid.dx, grid.dy), apart))


class RimKind(SeenBySteps, ABC):
    """A rim found on radial scan lines."""

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
        choices={"first": "innermost", "last": "outermost"},
    )

    def _rim(self, given: StepContext, *, to_the_corners: bool = False) -> Rim:
        """The rim as radial lines show it.

        to_the_corners: lines reach as far as the zone does in any direction, not only all round.
        """
        zone, grid = given.zone, given.data.grid
        if zone is None:
            raise NotMeasured("it has no zone; draw one about the rim")
        given.window()
        outer = min(zone.width, zone.height) / 2
        if to_the_corners:
            # what lies beyond the zone must not be taken for the stronger edge
            corners = not isinstance(zone, EllipseZone | RingZone)
            outer = math.hypot(zone.width, zone.height) / 2 if corners else max(zone.width, zone.height) / 2
        inner = outer * (zone.inner if isinstance(zone, RingZone) and not to_the_corners else LEAST_INNER)
        middle, reach = (outer + inner) / 2, (outer - inner) / 2
        count = int(np.clip(round(2 * math.pi * middle / max(grid.dx, grid.dy)), 4 * QUARTERS, MOST_LINES))
        angle = 2 * np.pi * np.arange(count) / count
        ux, uy = np.cos(angle), np.sin(angle)
        lines = np.column_stack([zone.x + middle * ux, zone.y + middle * uy, ux, uy])
        found = self._seen(given.data, lines, reach, self._wanted(self.change, self.pick))
        places = lines[:, :2] + found[:, :1] * lines[:, 2:]
        kept = ~np.isnan(found[:, 0])
        kept[kept] = zone.contains(places[kept, 0], places[kept, 1])
        if zone.band is not None:
            kept[kept] = zone.band.holds(places[kept, 0], places[kept, 1], found[kept, 1])
        return Rim(places[kept], found[kept, 1], kept, parting(found[kept]), (zone.x, zone.y))

    def _enough(self, places: FloatArray, seen: BoolArray, fewest: int, *, about: FloatArray | None) -> None:
        """Raise `NotMeasured` unless a rim shows on enough lines and, seen from `about`, all round."""
        lines = seen.size
        enough = len(places) >= fewest and 100.0 * len(places) >= self.least_seen * lines
        if not enough or (about is not None and not all_round(places - about)):
            raise NotMeasured(
                f"a rim shows on {len(places)} of {lines} radial lines, or on one side only;"
                " lay the zone about it, or let smaller steps count"
            )


def all_round(offsets: FloatArray) -> bool:
    """Whether the rim was seen on at least three of four sides; offsets (n, 2) from its centre."""
    angle = np.arctan2(offsets[:, 1], offsets[:, 0])
    sides = np.floor((angle + np.pi) / (2 * np.pi) * QUARTERS).astype(np.int64) % QUARTERS
    counts = np.bincount(sides, minlength=QUARTERS)
    return int(np.count_nonzero(counts >= SIDE_SHARE * len(offsets))) >= QUARTERS - 1


def residuals_round(offsets: FloatArray, off: FloatArray) -> Curve:
    """Distances (n,) from an outline over the angle of each point, whose offsets (n, 2) are from its centre."""
    angle = np.degrees(np.arctan2(offsets[:, 1], offsets[:, 0]))
    order = np.argsort(angle)
    return Curve("distance from the outline, all round", angle[order], 1000.0 * off[order], (), "µm", "°")
