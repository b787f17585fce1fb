"""Circle: the rim of a boss or a hole, found on radial scan lines."""

from __future__ import annotations

import math
from dataclasses import astuple, dataclass, field, replace
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.coverage import WHOLE, Coverage
from hemtra.core.detection.edge_lines import ends_below
from hemtra.core.detection.margin_kernels import parted_by_circle
from hemtra.core.features.edge import known_to, seen_on
from hemtra.core.features.edge_detection import BLIND
from hemtra.core.features.radial import Rim, RimKind, residuals_round
from hemtra.core.geometry.elements import Circle
from hemtra.core.geometry.fit_kernels import settle_linear
from hemtra.core.geometry.line_fit import robust_circle
from hemtra.core.geometry.squared import flattened, seen_from_above
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register

FEWEST = 8
FLOOR = 0.2
"""Points of the map by which a crossing may always be off the circle."""


@dataclass(frozen=True, slots=True)
class FoundCircle(Circle):
    """A circle with the share of radial lines it was seen on and their residual RMS in mm."""

    share: float = 0.0
    rms: float = 0.0
    places: FloatArray | None = field(default=None, compare=False)
    """(n, 2) everywhere it was seen, in mm; form must not leave out what lies off the circle."""
    coverage: Coverage = WHOLE
    """Statistics of the radial lines across it."""
    spread: float = 0.0
    """Uncertainty of position and size, as the points of the map show it, mm."""


@register
class CircleKind(RimKind):
    """A round rim."""

    kind: ClassVar = "circle"
    title: ClassVar = "Circle"
    glyph: ClassVar = "circle"
    output: ClassVar = FoundCircle
    revision: ClassVar[int] = 2

    def evaluate(self, given: StepContext) -> Outcome:
        """A `FoundCircle` at the height of its rim; facts: diameter, residual RMS and lines."""
        rim = self._rim(given)
        places, seen = rim.places, rim.seen
        self._enough(places, seen, FEWEST, about=None)
        round_ = self._round(given, rim)
        radius, used = round_.radius, round_.used
        self._enough(places, seen, FEWEST, about=np.array((round_.x, round_.y)))
        rms = float(np.sqrt(np.mean(round_.left[used] ** 2)))
        found = FoundCircle(
            round_.x,
            round_.y,
            round_.z,
            radius,
            share=float(seen.mean()),
            rms=rms,
            places=places,
            coverage=seen_on(seen, 2 * math.pi * radius / seen.size, closed=True),
            spread=round_.spread,
        )
        facts = (
            ("diameter", f"{2 * radius:.3f} mm"),
            ("residual RMS", f"{rms * 1000:.0f} µm"),
            ("lines", f"{np.count_nonzero(used)} of {seen.size}"),
            *known_to(round_.spread),
            *self._at_level(round_.z, rim.parting.step),
        )
        return Outcome(found, facts, BLIND if rim.parting.blind else "")

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The crossings, used and left out, the circle, and how far they lie off it."""
        circle: FoundCircle = outcome.value
        rim = self._rim(given)
        fitted = self._round(given, rim)
        angle = np.linspace(0.0, 2 * np.pi, 73)
        round_ = np.column_stack(
            [circle.x + circle.radius * np.cos(angle), circle.y + circle.radius * np.sin(angle)]
        )
        return Evidence(
            (
                *rim.marks(fitted.used, given.data.grid),
                Polyline(np.column_stack([round_, np.full(len(round_), circle.z)]), "fit"),
            ),
            residuals_round(rim.places - (circle.x, circle.y), fitted.left),
        )

    def _round(self, given: StepContext, rim: Rim) -> Round:
        """The circle of a rim: of its crossings, or of all points about it where these only part them."""
        grid, zone = given.data.grid, given.zone
        first = fitted_round(rim.places, rim.levels, FLOOR * max(grid.dx, grid.dy))
        if not rim.parting.parts or self.wall == "foot" or zone is None:
            return first
        good = rim.seen.copy()
        good[rim.seen] = first.used
        below, falls = ends_below(rim.parting.step, self.wall), 1.0 if self.change == "falls" else -1.0
        circle, plane = (first.x, first.y, first.radius), (first.z, *first.slopes, below)
        *move, grown, spread = parted_by_circle(
            given.data.z, astuple(grid), circle, plane, (zone.x, zone.y), falls, rim.parting.shadow, good
        )
        if not math.hypot(*move, grown) <= max(grid.dx, grid.dy):
            return first
        return first.moved(np.array(move), grown, spread, rim.places)


@dataclass(frozen=True, slots=True)
class Round:
    """A circle in the plane of its rim: centre and radius in mm, and the slopes of that plane.

    left: (n,) mm from it to each place; used: (n,) which places count. spread: mm by which it may lie off.
    """

    x: float
    y: float
    z: float
    radius: float
    slopes: tuple[float, float]
    left: FloatArray
    used: BoolArray
    spread: float = 0.0

    def flat(self, offsets: FloatArray) -> FloatArray:
        """(n, 2) offsets seen from above, as they are in its plane."""
        return flattened(offsets, self.slopes)

    def seen(self, offsets: FloatArray) -> FloatArray:
        """(n, 2) offsets in its plane, as they are seen from above."""
        return seen_from_above(offsets, self.slopes)

    def moved(self, move: FloatArray, grown: float, spread: float, places: FloatArray) -> Round:
        """Moved in its plane and grown, in mm."""
        x, y = (np.array([self.x, self.y]) + self.seen(move[None]))[0]
        height = self.z + self.slopes[0] * (x - self.x) + self.slopes[1] * (y - self.y)
        left = np.hypot(*self.flat(places - (x, y)).T) - self.radius - grown
        radius = self.radius + grown
        return Round(float(x), float(y), float(height), radius, self.slopes, left, self.used, spread)


def fitted_round(places: FloatArray, levels: FloatArray, floor: float) -> Round:
    """The circle through places (n, 2) at such heights (n,), all in mm.

    It lies in the plane of its rim: seen from above, that of a tilted part is shorter along the slope.
    """
    plane = rim_plane(places, levels)
    flat = plane.flat(places - (plane.x, plane.y))
    *move, radius, used = robust_circle(flat[:, 0], flat[:, 1], floor)
    found = plane.moved(np.array(move), radius, 0.0, places)
    return replace(found, used=used)


def rim_plane(places: FloatArray, levels: FloatArray) -> Round:
    """The plane of a rim through places (n, 2) at such heights (n,), all in mm, as a circle of no radius."""
    middle = places.mean(axis=0)
    design = np.column_stack([np.ones(len(places)), places - middle])
    # most of the rim is level with its middle, which is start enough
    start = np.array([float(np.median(levels)), 0.0, 0.0])
    level, _ = settle_linear(design, levels, start, 0.002)
    x, y = (float(v) for v in middle)
    none, nothing = np.empty(0), np.empty(0, np.bool_)
    return Round(x, y, float(level[0]), 0.0, (float(level[1]), float(level[2])), none, nothing)
