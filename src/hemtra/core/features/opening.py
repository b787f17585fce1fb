"""Ellipse and slot: rims that are longer than wide."""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.coverage import WHOLE, Coverage
from hemtra.core.errors import NotMeasured
from hemtra.core.features.circle import rim_plane
from hemtra.core.features.edge import seen_on
from hemtra.core.features.edge_detection import BLIND
from hemtra.core.features.radial import Rim, RimKind, residuals_round
from hemtra.core.geometry.elements import Point
from hemtra.core.geometry.outline_fit import fit_ellipse, fit_rounded_rectangle, used_of
from hemtra.core.marks import Evidence, Polyline
from hemtra.core.plan.kind import Outcome, StepContext
from hemtra.core.plan.registry import register

FEWEST = 16
FLOOR = 0.2
"""Points of the map by which a crossing may always be off the outline."""
DRAWN = 120
"""Points of the outline that is drawn."""


@dataclass(frozen=True, slots=True)
class Opening(Point):
    """A centre, the direction of the longer side in degrees, and length and width in mm.

    corner: radius in mm where the corners are rounded; of an ellipse it means nothing.
    """

    gives: ClassVar[frozenset[str]] = frozenset({"x", "y", "z", "rotation"})

    direction: float
    length: float
    width: float
    corner: float = 0.0
    coverage: Coverage = WHOLE
    """Statistics of the radial lines across its rim."""

    def outline(self) -> FloatArray:
        """(n, 3) the outline in mm; an ellipse where there are no corners."""
        turn = np.linspace(0.0, 2 * np.pi, DRAWN, endpoint=False)
        if self.corner > 0.0:
            radius = min(self.corner, self.width / 2)
            u = (self.length / 2 - radius) * np.sign(np.cos(turn)) + radius * np.cos(turn)
            v = (self.width / 2 - radius) * np.sign(np.sin(turn)) + radius * np.sin(turn)
        else:
            u, v = self.length / 2 * np.cos(turn), self.width / 2 * np.sin(turn)
        c, s = math.cos(math.radians(self.direction)), math.sin(math.radians(self.direction))
        return np.column_stack([self.x + c * u - s * v, self.y + s * u + c * v, np.full(DRAWN, self.z)])


class _OpeningKind(RimKind):
    output: ClassVar = Opening

    def _found(self, given: StepContext) -> tuple[Opening, Rim, FloatArray]:
        """The result, the rim it was found on, and the distances of its places from it."""
        rim = self._rim(given, to_the_corners=True)
        places, levels, seen = rim.places, rim.levels, rim.seen
        self._enough(places, seen, FEWEST, about=None)
        spacing = max(given.data.grid.dx, given.data.grid.dy)
        # in the plane of its rim: seen from above, that of a tilted part is shorter along the slope
        plane = rim_plane(places, levels)
        middle = np.array([plane.x, plane.y])
        shape, off = self._fit(middle + plane.flat(places - middle), FLOOR * spacing)
        along = np.array([[math.cos(shape[4]), math.sin(shape[4])]])
        shape[:2] = (middle + plane.seen(shape[None, :2] - middle))[0]
        self._enough(places, seen, FEWEST, about=shape[:2])
        level = float(np.median(levels))
        turn = (math.degrees(math.atan2(*plane.seen(along)[0, ::-1])) + 90.0) % 180.0 - 90.0
        corner = float(max(shape[5], 1e-6)) if shape.size > 5 else 0.0
        x, y, half, cross = (float(v) for v in shape[:4])
        step = math.pi * (half + cross) / seen.size
        found = Opening(
            x, y, level, turn, 2 * half, 2 * cross, corner, coverage=seen_on(seen, step, closed=True)
        )
        return found, rim, off

    @abstractmethod
    def _fit(self, places: FloatArray, floor: float) -> tuple[FloatArray, FloatArray]:
        """Centre x, y, half axes, direction in radians and perhaps corner radius; distances (n,) from it."""

    def evaluate(self, given: StepContext) -> Outcome:
        """An `Opening`; facts: length, width, direction and residual RMS."""
        found, rim, off = self._found(given)
        spacing = max(given.data.grid.dx, given.data.grid.dy)
        used = used_of(off, FLOOR * spacing)
        facts = [
            ("length", f"{found.length:.3f} mm"),
            ("width", f"{found.width:.3f} mm"),
            ("direction", f"{found.direction:.2f}°"),
            ("residual RMS", f"{1000 * float(np.sqrt(np.mean(off[used] ** 2))):.0f} µm"),
            ("lines", f"{np.count_nonzero(used)} of {rim.seen.size}"),
        ]
        if found.corner > 0.0:
            facts.insert(3, ("corner radius", f"{found.corner:.2f} mm"))
        return Outcome(found, tuple(facts), BLIND if rim.parting.blind else "")

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The crossings, used and left out, the outline, and how far they lie off it all round."""
        found, rim, off = self._found(given)
        places = rim.places
        spacing = max(given.data.grid.dx, given.data.grid.dy)
        used = used_of(off, FLOOR * spacing)
        return Evidence(
            (
                *rim.marks(used, given.data.grid),
                Polyline(found.outline(), "fit", closed=True),
            ),
            residuals_round(places - (found.x, found.y), off),
        )


@register
class EllipseKind(_OpeningKind):
    """An elliptic rim."""

    kind: ClassVar = "ellipse"
    title: ClassVar = "Ellipse"
    glyph: ClassVar = "ellipse"

    def _fit(self, places: FloatArray, floor: float) -> tuple[FloatArray, FloatArray]:
        found = fit_ellipse(places, floor)
        if found is None:
            raise NotMeasured("the rim makes no ellipse; lay the zone about it alone")
        return found


@register
class SlotKind(_OpeningKind):
    """A rectangular rim with rounded corners."""

    kind: ClassVar = "slot"
    title: ClassVar = "Slot"
    glyph: ClassVar = "slot"

    def _fit(self, places: FloatArray, floor: float) -> tuple[FloatArray, FloatArray]:
        return fit_rounded_rectangle(places, floor)
