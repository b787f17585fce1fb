"""Island: the largest connected region above or below a level, with its centroid and main axis."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
from scipy import ndimage

from hemtra.core.arrays import BoolArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Line, Point
from hemtra.core.marks import Evidence, Polyline, Region
from hemtra.core.plan.kind import Given, Kind, Outcome
from hemtra.core.plan.registry import register
from hemtra.core.scan.zones import Window

ROUND = 1.05
"""Ratio of the main axes below which an island has no direction."""


@dataclass(frozen=True, slots=True)
class Island(Point):
    """A region: centroid, direction of its main axis in degrees, length along it in mm, and area in mm²."""

    gives: ClassVar[frozenset[str]] = frozenset({"x", "y", "z", "rotation"})

    direction: float
    length: float
    area: float


@register
class IslandKind(Kind):
    """The largest region of a zone that stands above or lies below a level."""

    kind: ClassVar = "island"
    title: ClassVar = "Island"
    glyph: ClassVar = "island"
    output: ClassVar = Island
    needs_zone: ClassVar = True

    side: Literal["above", "below"] = setting(
        "above",
        "lies",
        "Whether the island stands above the level or lies below it.",
        choices={"above": "above", "below": "below"},
    )
    level: float = setting(
        0.5,
        "level",
        "Height that parts the island from what is around it, counted from what the zone follows.",
        unit="mm",
        ge=-1000.0,
        le=1000.0,
    )
    least_area: float = setting(
        1.0, "least area", "Regions smaller than this are none.", unit="mm²", ge=0.0, le=1e6
    )

    def evaluate(self, given: Given) -> Outcome:
        """An `Island`; facts: area, centroid and direction."""
        view, mask = self._largest(given)
        grid = view.grid(given.data)
        z = given.data.z[view.rows, view.cols]
        i, j = np.nonzero(mask)
        x, y = grid.x0 + grid.dx * j, grid.y0 + grid.dy * i
        cx, cy = float(x.mean()), float(y.mean())
        u, v = x - cx, y - cy
        spread, axes = np.linalg.eigh(np.cov(np.vstack([u, v]), bias=True) + 1e-12 * np.eye(2))
        main = axes[:, 1]
        along = u * main[0] + v * main[1]
        # towards the side on which it reaches farther, so that half a turn can be told
        if float(np.mean(along**3)) < 0.0:
            main, along = -main, -along
        direction = math.degrees(math.atan2(float(main[1]), float(main[0])))
        area = float(mask.sum()) * grid.dx * grid.dy
        island = Island(cx, cy, float(z[mask].mean(dtype=np.float64)), direction, float(np.ptp(along)), area)
        facts = [("area", f"{area:.2f} mm²"), ("at", f"{cx:.3f}, {cy:.3f} mm")]
        note = ""
        if math.sqrt(spread[1] / spread[0]) >= ROUND:
            facts.append(("direction", f"{direction:.2f}°"))
        else:
            note = "too round to have a direction"
        return Outcome(island, tuple(facts), note)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The region and its main axis."""
        island: Island = outcome.value
        view, mask = self._largest(given)
        a, b = Line(island.x, island.y, island.z, island.direction, island.length).ends()
        axis = Polyline(np.array([(p.x, p.y, p.z) for p in (a, b)]), "fit")
        return Evidence((Region(view.grid(given.data), mask, "used-data"), axis))

    def _largest(self, given: Given) -> tuple[Window, BoolArray]:
        view = given.window()
        grid, z = view.grid(given.data), given.data.z[view.rows, view.cols]
        base = given.base
        x = grid.x0 + grid.dx * np.arange(z.shape[1])
        y = grid.y0 + grid.dy * np.arange(z.shape[0])
        ground = base.height_at(x, np.array(base.y0))[None, :] + (base.slope_y * (y - base.y0))[:, None]
        height = z - ground.astype(np.float32)
        mask = height > self.level if self.side == "above" else height < self.level
        if view.inside is not None:
            mask &= view.inside
        labels, count = ndimage.label(mask)
        sizes = np.bincount(labels.ravel(), minlength=1)
        sizes[0] = 0
        largest = int(np.argmax(sizes))
        if count == 0 or sizes[largest] * grid.dx * grid.dy < self.least_area or sizes[largest] < 3:
            raise NotMeasured(
                f"nothing of at least {self.least_area:g} mm² lies {self.side} {self.level:g} mm in the zone"
            )
        region: BoolArray = labels == largest
        return view, region
