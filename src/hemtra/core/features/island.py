"""Islands: connected regions above or below a level, or of some intensity, with centroid and main axis."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import model_validator

from hemtra.core.arrays import BoolArray, FloatArray, Heights, IntArray
from hemtra.core.detection.island_kernels import points_of, regions_beside, runs_of
from hemtra.core.detection.unseen import Looked, Patches, filled, patches_of
from hemtra.core.errors import NotMeasured
from hemtra.core.form_fields import setting
from hemtra.core.geometry.elements import Line, Point
from hemtra.core.maps.heightmap import Grid
from hemtra.core.marks import Evidence, Label, Polyline, Region, Role
from hemtra.core.plan.kind import Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register
from hemtra.core.zones.window import Window
from hemtra.core.zones.zone import AnyZone, EllipseZone, RectangleZone

ROUND = 1.05
"""Ratio of the main axes below which an island has no direction."""
MOST_NUMBERS = 60
"""Islands that have their number drawn."""
ROUND_FILL = 0.9
"""Share of the rectangle about an unseen patch that it fills, from which on it is square."""
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
    """Total area of the islands counted, in mm²."""


@dataclass(frozen=True)
class Regions:
    """The regions of a window: runs (n, 3) as `runs_of` gives them, and the region of each, (n,).

    sizes: points of each region. heights: sums of heights above what the zone follows. chosen: those that
    count, the largest first. patches: what of the window was not seen.
    """

    view: Window
    grid: Grid
    runs: IntArray
    label: IntArray
    sizes: FloatArray
    heights: FloatArray
    chosen: IntArray
    patches: Patches
    filled: Heights
    """Heights above the base with small patches filled."""

    def mask(self, which: BoolArray) -> BoolArray:
        """The points of some runs on the window's grid."""
        rows, cols = self.view.rows, self.view.cols
        mask = np.zeros((rows.stop - rows.start, cols.stop - cols.start), np.bool_)
        mask[points_of(self.runs[which])] = True
        return mask


@register
class IslandKind(Kind):
    """The largest region of a zone that stands above or lies below a level."""

    kind: ClassVar = "island"
    title: ClassVar = "Island"
    glyph: ClassVar = "island"
    output: ClassVar = Island
    needs_zone: ClassVar = True
    revision: ClassVar = 2

    side: Literal["above", "below", "brightness"] = setting(
        "above",
        "lies",
        "Whether the island stands above the level, lies below it, or differs in intensity.",
        choices={"above": "above a level", "below": "below a level", "brightness": "in an intensity range"},
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
        0.0, "from", "Minimum intensity, 0 to 255.", when={"side": ("brightness",)}, ge=0.0, le=255.0
    )
    brightest: float = setting(
        255.0, "to", "Maximum intensity, 0 to 255.", when={"side": ("brightness",)}, ge=0.0, le=255.0
    )
    least_area: float = setting(1.0, "minimum area", "Smaller regions are ignored.", unit="mm²", ge=0.0, le=1e6)
    greatest_area: float = setting(
        1e6, "maximum area", "Regions larger than this are none.", unit="mm²", gt=0.0, le=1e9
    )
    least_height: float = setting(
        0.0,
        "minimum height",
        "Regions whose mean height over the base, or depth below it, is less are none.",
        unit="mm",
        when={"side": ("above", "below")},
        ge=0.0,
        le=1000.0,
    )
    greatest_height: float = setting(
        1000.0,
        "maximum height",
        "Regions whose mean height over the base, or depth below it, is more are none.",
        unit="mm",
        when={"side": ("above", "below")},
        gt=0.0,
        le=1000.0,
    )
    least_fill: float = setting(
        0.0,
        "minimum fill",
        "Share of the rectangle about it that a region fills; long bent ones fill little.",
        unit="%",
        ge=0.0,
        le=100.0,
    )
    number: int = setting(
        1, "number", "Which one, the largest first, gives place and direction.", ge=1, le=10_000
    )

    volume_from: Literal["level", "base"] = setting(
        "level",
        "volume from",
        "The level, so that what lies under it does not count, or the base that heights count from.",
        choices={"level": "the level", "base": "the base"},
        when={"side": ("above", "below")},
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
            raise ValueError("the intensity range must end above its start")
        if self.least_area >= self.greatest_area:
            raise ValueError("the maximum area must be above the minimum")
        return self

    def evaluate(self, given: StepContext) -> Outcome:
        """An `Island`; facts: area, centroid, direction, and how many there are."""
        found = self._regions(given)
        grid, chosen = found.grid, found.chosen
        cell = grid.dx * grid.dy
        if not chosen.size and self.none == "zero":
            assert given.zone is not None
            place = given.zone
            ground = given.base.height_at(place.x, place.y)
            empty = Island(place.x, place.y, ground, place.rotation, 0.0, 0.0, count=0)
            return Outcome(empty, (("area", "0 mm²"), ("of", "0")), possible=self._possible(empty, found))
        if len(chosen) < self.number:
            what = f"{self.side} {self.level:g} mm" if self.side != "brightness" else "in its intensity range"
            few = f"only {len(chosen)} regions" if chosen.size else "nothing"
            lie = "lie" if chosen.size > 1 else "lies"
            raise NotMeasured(f"{few} of at least {self.least_area:g} mm² {lie} {what} in the zone")
        one = found.runs[found.label == chosen[self.number - 1]]
        i, j = points_of(one)
        x, y = grid.x0 + grid.dx * j, grid.y0 + grid.dy * i
        cx, cy = float(x.mean()), float(y.mean())
        u, v = x - cx, y - cy
        spread, axes = np.linalg.eigh(np.cov(np.vstack([u, v]), bias=True) + 1e-12 * np.eye(2))
        main = axes[:, 1]
        along = u * main[0] + v * main[1]
        # towards the side on which it reaches farther, so that half a turn is unambiguous
        if float(np.mean(along**3)) < 0.0:
            main, along = -main, -along
        direction = math.degrees(math.atan2(float(main[1]), float(main[0])))
        area = float(i.size) * cell
        every = found.sizes[chosen]
        points = float(every.sum())
        rise = abs(float(found.heights[chosen].sum()) - self._under * points)
        volume = 0.0 if self.side == "brightness" else rise * cell
        z = given.data.z[found.view.rows, found.view.cols][i, j]
        level = float(np.nanmean(z, dtype=np.float64)) if not np.isnan(z).all() else 0.0
        total = points * cell
        island = Island(cx, cy, level, direction, float(np.ptp(along)), area, volume, len(chosen), total)
        facts = [("area", f"{area:.2f} mm²"), ("at", f"{cx:.3f}, {cy:.3f} mm"), ("of", f"{len(chosen)}")]
        note = ""
        if math.sqrt(spread[1] / spread[0]) >= ROUND:
            facts.append(("direction", f"{direction:.2f}°"))
        else:
            note = "too round to have a direction"
        return Outcome(island, tuple(facts), note, self._possible(island, found))

    @property
    def _under(self) -> float:
        """Height in mm that volumes count from."""
        return self.level if self.volume_from == "level" else 0.0

    def _possible(self, island: Island, found: Regions) -> tuple[Island, ...]:
        """The islands with what was not seen taken for empty, and for full as far as its surroundings allow."""
        patches = found.patches
        if not patches.points.size or self.side == "brightness":
            return ()
        sign = 1.0 if self.side == "above" else -1.0
        near, far = (patches.rim_low, patches.rim_high) if sign > 0 else (patches.rim_high, patches.rim_low)
        cell = found.grid.dx * found.grid.dy
        counted, rise = self._in_patches(found)
        # where no surroundings are known there is nothing that could continue
        reaches = np.nan_to_num(sign * (far - self.level), nan=-1.0) > 0.0
        surely = (np.nan_to_num(sign * (near - self.level), nan=-1.0) > 0.0) & patches.small
        low = np.where(surely, np.minimum(counted, patches.points), 0.0)
        high = np.where(reaches, patches.points, counted)
        rises = [np.nan_to_num(np.maximum(sign * (end - self._under), 0.0)) for end in (near, far)]
        least, most = np.where(surely, patches.points * rises[0], 0.0), np.where(reaches, high * rises[1], rise)
        least, most = np.minimum(least, rise), np.maximum(most, rise)
        counts = self._counts(found, reaches)
        area, volume = island.total_area, island.volume
        return (
            replace(
                island,
                total_area=max(area + cell * float((low - counted).sum()), 0.0),
                volume=max(volume + cell * float((least - rise).sum()), 0.0),
                count=counts[0],
            ),
            replace(
                island,
                total_area=area + cell * float((high - counted).sum()),
                volume=volume + cell * float((most - rise).sum()),
                count=counts[1],
            ),
        )

    def _in_patches(self, found: Regions) -> tuple[FloatArray, FloatArray]:
        """(n,) points of each patch that the islands hold, as it was filled, and the sum of their heights."""
        patches, count = found.patches, found.patches.points.size
        i, j = points_of(patches.runs)
        patch = np.repeat(patches.region, patches.runs[:, 2] - patches.runs[:, 1] + 1)
        held = found.mask(np.isin(found.label, found.chosen))[i, j]
        rise = np.abs(found.filled[i, j].astype(np.float64) - self._under)
        return (
            np.bincount(patch[held], minlength=count).astype(np.float64),
            np.bincount(patch[held], rise[held], minlength=count).astype(np.float64),
        )

    def _counts(self, found: Regions, reaches: BoolArray) -> tuple[int, int]:
        """Minimum and maximum number of islands, since missing patches may join some and create others."""
        count, patches = found.chosen.size, found.patches
        large = reaches & ~patches.small
        if not large.any():
            return count, count
        cell = found.grid.dx * found.grid.dy
        labels = np.full(found.filled.shape, -1, np.int64)
        i, j = points_of(found.runs)
        labels[i, j] = np.repeat(found.label, found.runs[:, 2] - found.runs[:, 1] + 1)
        kept = large[patches.region]
        pairs = np.unique(regions_beside(labels, patches.runs[kept], patches.region[kept]), axis=0)
        chosen, joined, more = set(found.chosen.tolist()), 0, 0
        for patch in np.unique(pairs[:, 0]):
            beside = pairs[pairs[:, 0] == patch, 1].tolist()
            taken = [label for label in beside if label in chosen]
            joined += max(len(taken) - 1, 0)
            size = cell * (patches.points[patch] + sum(found.sizes[label] for label in beside))
            if not taken and self.least_area <= size <= self.greatest_area:
                more += 1
        return count - min(joined, max(count - 1, 0)), count + more

    def unseen_inside(self, given: StepContext) -> tuple[tuple[AnyZone, float], ...]:
        """Zones about larger patches without data inside the islands, and the share of them that these fill."""
        found = self._regions(given)
        patches, grid = found.patches, found.grid
        if not patches.points.size:
            return ()
        far = patches.rim_high if self.side == "above" else patches.rim_low
        sign = 1.0 if self.side == "above" else -1.0
        boxes = [_box_of(*points_of(found.runs[found.label == label])) for label in found.chosen]
        holes: list[tuple[AnyZone, float]] = []
        for k in np.flatnonzero(~patches.small & (np.nan_to_num(sign * (far - self.level), nan=-1.0) > 0.0)):
            i, j = points_of(patches.runs[patches.region == k])
            top, bottom, left, right = _box_of(i, j)
            # what reaches beyond an island is a shadow beside it
            if not any(a < top and bottom < b and c < left and right < d for a, b, c, d in boxes):
                continue
            rows, cols = bottom - top + 1, right - left + 1
            place = {
                "x": grid.x0 + grid.dx * (left + right) / 2,
                "y": grid.y0 + grid.dy * (top + bottom) / 2,
                "width": cols * grid.dx,
                "height": rows * grid.dy,
            }
            fill = i.size / (rows * cols)
            holes.append((EllipseZone(**place) if fill < ROUND_FILL else RectangleZone(**place), fill))
        return tuple(holes)

    def holds(self, given: StepContext, x: float, y: float) -> bool:
        """Whether a place in mm lies in one of the islands that count."""
        found = self._regions(given)
        grid, mask = found.grid, found.mask(np.isin(found.label, found.chosen))
        i, j = round((y - grid.y0) / grid.dy), round((x - grid.x0) / grid.dx)
        return 0 <= i < mask.shape[0] and 0 <= j < mask.shape[1] and bool(mask[i, j])

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """The regions, and the main axis of the chosen one."""
        island: Island = outcome.value
        found = self._regions(given)
        chosen, grid = found.chosen, found.grid
        if not chosen.size:
            return Evidence()
        a, b = Line(island.x, island.y, island.z, island.direction, island.length).ends()
        axis = Polyline(np.array([(p.x, p.y, p.z) for p in (a, b)]), "fit")
        numbers = []
        for number, label in enumerate(chosen[:MOST_NUMBERS], start=1):
            i, j = points_of(found.runs[found.label == label])
            x, y = float(grid.x0 + grid.dx * j.mean()), float(grid.y0 + grid.dy * i.mean())
            numbers.append(Label(Point(x, y, island.z), str(number)))
        this = found.label == chosen[self.number - 1]
        others = np.isin(found.label, chosen) & ~this
        roles: tuple[tuple[BoolArray, Role], ...] = ((this, "used-data"), (others, "left-out"))
        masks = [Region(grid, found.mask(which), role) for which, role in roles]
        return Evidence((*masks, axis, *numbers))

    def _regions(self, given: StepContext) -> Regions:
        """All regions of the zone, and which of them count, the largest first."""
        view = given.window(self.least_data)
        grid, z = view.grid(given.data), given.data.z[view.rows, view.cols]
        height = view.above(given.base, given.data)
        patches = patches_of(height, Looked.at(height.shape, view.inside), grid)
        if self.side != "brightness":
            height = filled(height, patches)
        if self.side == "brightness":
            if given.data.intensity is None:
                raise NotMeasured("the scan has no intensity to find islands by; take a level")
            grey = given.data.intensity[view.rows, view.cols]
            mask = (grey >= self.darkest) & (grey <= self.brightest) & ~np.isnan(z)
        else:
            # NaN is neither above nor below
            mask = height > self.level if self.side == "above" else height < self.level
        if view.inside is not None:
            mask &= view.inside
        runs, label = runs_of(mask)
        count = int(label.max()) + 1 if label.size else 0
        long = runs[:, 2] - runs[:, 1] + 1
        sizes = np.bincount(label, weights=long, minlength=count).astype(np.float64)
        area = sizes * grid.dx * grid.dy
        good = (area >= self.least_area) & (area <= self.greatest_area) & (sizes >= FEWEST)
        if self.least_fill > 0.0 and count:
            good &= 100.0 * sizes >= self.least_fill * _boxes(runs, label, count)
        i, j = points_of(runs)
        by_run = np.add.reduceat(height[i, j], np.cumsum(long) - long, dtype=np.float64) if count else long
        heights = np.bincount(label, weights=by_run, minlength=count).astype(np.float64)
        if self.side != "brightness" and count:
            mean = np.abs(heights) / np.maximum(sizes, 1.0)
            good &= (mean >= self.least_height) & (mean <= self.greatest_height)
        chosen = np.flatnonzero(good)
        chosen = chosen[np.argsort(-sizes[chosen], kind="stable")]
        return Regions(view, grid, runs, label, sizes, heights, chosen, patches, height)


def _box_of(i: IntArray, j: IntArray) -> tuple[int, int, int, int]:
    """First and last row, first and last column of points."""
    return int(i.min()), int(i.max()), int(j.min()), int(j.max())


def _boxes(runs: IntArray, label: IntArray, count: int) -> FloatArray:
    """(count,) points of the rectangle about each region."""
    low, high = np.full((count, 2), np.iinfo(np.int64).max), np.full((count, 2), -1)
    for axis, first, last in ((0, 0, 0), (1, 1, 2)):
        np.minimum.at(low[:, axis], label, runs[:, first])
        np.maximum.at(high[:, axis], label, runs[:, last])
    sides = high - low + 1
    area: FloatArray = (sides[:, 0] * sides[:, 1]).astype(np.float64)
    return area
