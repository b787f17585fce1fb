"""Islands: connected regions above or below a level, or of some brightness, with centroid and main axis."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar, Literal, Self

import numpy as np
import scipy  # its parts load when they are used first
from pydantic import model_validator

from hemtra.core.arrays import BoolArray, FloatArray, IntArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form import setting
from hemtra.core.geometry.elements import Line, Point
from hemtra.core.marks import Evidence, Polyline, Region
from hemtra.core.plan.kind import Given, Kind, Outcome, least_data
from hemtra.core.plan.registry import register
from hemtra.core.scan.zones import Window

ROUND = 1.05
"""Ratio of the main axes below which an island has no direction."""
FEWEST = 3
"""Points of the map below which a region is a stray one."""


@dataclass(frozen=True, slots=True)
class Island(Point):
    """A region: centroid, direction of its main axis in degrees, length along it in mm, and area in mm²."""

    gives: ClassVar[frozenset[str]] = frozenset({"x", "y", "z", "rotation"})

    direction: float
    length: float
    area: float
    volume: float = 0.0
    """Between the surface and the level, of all islands counted, in mm³."""
    count: int = 1
    total_area: float = 0.0
    """Of all islands counted, in mm²."""


@register
class IslandKind(Kind):
    """The largest region of a zone that stands above or lies below a level."""

    kind: ClassVar = "island"
    title: ClassVar = "Island"
    glyph: ClassVar = "island"
    output: ClassVar = Island
    needs_zone: ClassVar = True

    side: Literal["above", "below", "brightness"] = setting(
        "above",
        "lies",
        "Whether the island stands above the level, lies below it, or is told by its brightness.",
        choices={"above": "above a level", "below": "below a level", "brightness": "in a brightness range"},
    )
    level: float = setting(
        0.5,
        "level",
        "Height that parts the island from what is around it, counted from what the zone follows.",
        unit="mm",
        when={"side": ("above", "below")},
        ge=-1000.0,
        le=1000.0,
    )
    darkest: float = setting(
        0.0, "from", "Brightness it has at least, 0 to 255.", when={"side": ("brightness",)}, ge=0.0, le=255.0
    )
    brightest: float = setting(
        255.0, "to", "Brightness it has at most, 0 to 255.", when={"side": ("brightness",)}, ge=0.0, le=255.0
    )
    least_area: float = setting(
        1.0, "least area", "Regions smaller than this are none.", unit="mm²", ge=0.0, le=1e6
    )
    greatest_area: float = setting(
        1e6, "greatest area", "Regions larger than this are none.", unit="mm²", gt=0.0, le=1e9
    )
    least_fill: float = setting(
        0.0,
        "least fill",
        "Share of the rectangle about it that a region fills; long bent ones fill little.",
        unit="%",
        ge=0.0,
        le=100.0,
    )
    number: int = setting(
        1, "number", "Which one, the largest first, gives place and direction.", ge=1, le=10_000
    )

    least_data: float = least_data()
    none: Literal["unmeasured", "zero"] = setting(
        "unmeasured",
        "without any",
        "Whether a zone without islands is not measured, or holds none: then count and area are zero.",
        choices={"unmeasured": "not measured", "zero": "counts zero"},
    )

    @model_validator(mode="after")
    def _ranges_have_room(self) -> Self:
        if self.darkest >= self.brightest:
            raise ValueError("the brightness must end above where it starts")
        if self.least_area >= self.greatest_area:
            raise ValueError("the greatest area must be above the least")
        return self

    def evaluate(self, given: Given) -> Outcome:
        """An `Island`; facts: area, centroid, direction, and how many there are."""
        view, labels, chosen, height = self._regions(given)
        grid = view.grid(given.data)
        cell = grid.dx * grid.dy
        if not chosen.size and self.none == "zero":
            assert given.zone is not None
            place = given.zone
            ground = given.base.height_at(place.x, place.y)
            empty = Island(place.x, place.y, ground, place.rotation, 0.0, 0.0, count=0)
            return Outcome(empty, (("area", "0 mm²"), ("of", "0")))
        if len(chosen) < self.number:
            what = f"{self.side} {self.level:g} mm" if self.side != "brightness" else "in its brightness range"
            few = f"only {len(chosen)} regions" if chosen.size else "nothing"
            lie = "lie" if chosen.size > 1 else "lies"
            raise NotMeasured(f"{few} of at least {self.least_area:g} mm² {lie} {what} in the zone")
        mask = labels == chosen[self.number - 1]
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
        area = float(mask.sum()) * cell
        every = np.isin(labels, chosen)
        z = given.data.z[view.rows, view.cols]
        rise = np.abs(np.where(every, height, 0.0) - self.level) if self.side != "brightness" else np.zeros(1)
        volume = float(np.nansum(rise[every], dtype=np.float64)) * cell if self.side != "brightness" else 0.0
        level = float(np.nanmean(z[mask], dtype=np.float64)) if not np.isnan(z[mask]).all() else 0.0
        total = float(every.sum()) * cell
        island = Island(cx, cy, level, direction, float(np.ptp(along)), area, volume, len(chosen), total)
        facts = [("area", f"{area:.2f} mm²"), ("at", f"{cx:.3f}, {cy:.3f} mm"), ("of", f"{len(chosen)}")]
        note = ""
        if math.sqrt(spread[1] / spread[0]) >= ROUND:
            facts.append(("direction", f"{direction:.2f}°"))
        else:
            note = "too round to have a direction"
        return Outcome(island, tuple(facts), note)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """The regions, and the main axis of the chosen one."""
        island: Island = outcome.value
        view, labels, chosen, _ = self._regions(given)
        if not chosen.size:
            return Evidence()
        one = labels == chosen[self.number - 1]
        a, b = Line(island.x, island.y, island.z, island.direction, island.length).ends()
        axis = Polyline(np.array([(p.x, p.y, p.z) for p in (a, b)]), "fit")
        grid, others = view.grid(given.data), np.isin(labels, chosen) & ~one
        return Evidence((Region(grid, one, "used-data"), Region(grid, others, "left-out"), axis))

    def _regions(self, given: Given) -> tuple[Window, IntArray, IntArray, FloatArray]:
        """The window, its labelled regions, the labels that count, the largest first, and heights in mm."""
        view = given.window(self.least_data)
        grid, z = view.grid(given.data), given.data.z[view.rows, view.cols]
        base = given.base
        x = grid.x0 + grid.dx * np.arange(z.shape[1])
        y = grid.y0 + grid.dy * np.arange(z.shape[0])
        ground = base.height_at(x, np.array(base.y0))[None, :] + (base.slope_y * (y - base.y0))[:, None]
        height = z - ground.astype(np.float32)
        mask = self._mask(given, view, height)
        if view.inside is not None:
            mask &= view.inside
        labels, count = scipy.ndimage.label(mask)
        sizes = np.bincount(labels.ravel(), minlength=1)
        area = sizes * grid.dx * grid.dy
        good = (area >= self.least_area) & (area <= self.greatest_area) & (sizes >= FEWEST)
        good[0] = False
        if self.least_fill > 0.0 and count:
            boxes = scipy.ndimage.find_objects(labels)
            whole = np.array([0, *((b[0].stop - b[0].start) * (b[1].stop - b[1].start) for b in boxes)])
            good &= 100.0 * sizes >= self.least_fill * np.maximum(whole, 1)
        chosen = np.flatnonzero(good)
        return view, labels, chosen[np.argsort(-sizes[chosen], kind="stable")], height

    def _mask(self, given: Given, view: Window, height: FloatArray) -> BoolArray:
        if self.side != "brightness":
            above: BoolArray = height > self.level if self.side == "above" else height < self.level
            return above
        if given.data.intensity is None:
            raise NotMeasured("the scan has no intensity to tell islands by; take a level")
        grey = given.data.intensity[view.rows, view.cols]
        found: BoolArray = (grey >= self.darkest) & (grey <= self.brightest) & ~np.isnan(height)
        return found
