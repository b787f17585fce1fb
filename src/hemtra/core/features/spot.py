"""Spot: the height of a small zone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray, Heights
from hemtra.core.detection.main_level import OUTLIER_REACH, main_level
from hemtra.core.detection.unseen import (
    COVERAGE_OF_EXTREMES,
    Looked,
    ends_of,
    patches_of,
    without_scatter,
)
from hemtra.core.errors import NotMeasured
from hemtra.core.filters.disc import disc_means
from hemtra.core.form_fields import setting
from hemtra.core.geometry import kernels
from hemtra.core.geometry.elements import Point
from hemtra.core.maps.heightmap import Grid
from hemtra.core.marks import Evidence, Histogram, Polyline, Region
from hemtra.core.plan.kind import Kind, Outcome, StepContext, least_data
from hemtra.core.plan.registry import register
from hemtra.core.text import percent
from hemtra.core.zones.window import Window
from hemtra.core.zones.zone import AnyZone

HISTOGRAM_BINS = 48


@dataclass(frozen=True, slots=True)
class SpotPoint(Point):
    """A spot's point with the heights in mm between which the data was used."""

    low: float
    high: float
    used: int
    zone: AnyZone | None = field(default=None, compare=False)
    """Whether its points scatter; form must not leave out points off its level."""


@register
class SpotKind(Kind):
    """Height of a small zone."""

    kind: ClassVar = "spot"
    title: ClassVar = "Spot"
    glyph: ClassVar = "spot"
    output: ClassVar = SpotPoint
    needs_zone: ClassVar = True
    revision: ClassVar = 3
    levelled: ClassVar = True

    take: Literal["mean", "median", "highest", "lowest", "percentile"] = setting(
        "mean",
        "take",
        "Which height stands for the zone.",
    )
    percentile: float = setting(
        50.0,
        "percentile",
        "Share of the data below the height taken.",
        unit="%",
        when={"take": ("percentile",)},
        ge=0.0,
        le=100.0,
    )
    disc: float = setting(
        0.0,
        "averaging ⌀",
        "Highest and lowest are means over discs of this diameter, so that one stray point does not decide;"
        " 0 takes single points.",
        unit="mm",
        when={"take": ("highest", "lowest")},
        ge=0.0,
        le=1000.0,
    )
    outliers: Literal["drop", "keep"] = setting(
        "drop",
        "outliers",
        f"Drop heights farther than {OUTLIER_REACH:g} standard deviations from the zone's main level. Highest"
        " and lowest take all points but isolated ones: what three points beside each other show is part of the"
        " part.",
        when={"take": ("mean", "median", "percentile")},
    )

    least_data: float = least_data()

    @classmethod
    def coverage_required(cls, params: Mapping[str, Any]) -> float:
        """A peak may lie where nothing was seen."""
        return COVERAGE_OF_EXTREMES if params.get("take") in ("highest", "lowest") else 0.0

    @property
    def counts_spikes(self) -> bool:
        """Highest and lowest do."""
        return self.take in ("highest", "lowest")

    def evaluate(self, given: StepContext) -> Outcome:
        """A `SpotPoint` at the centroid of the used points, or at the extreme itself."""
        view, data = given.window(self.least_data), given.data
        if self.take in ("highest", "lowest"):
            return self._extreme(given, view)
        # the tilt of what it follows is none of its own
        heights = np.sort(view.heights(data, given.tilt))
        low, high = main_level(heights) if self.outliers == "drop" else (heights[0], heights[-1])
        kept = heights[np.searchsorted(heights, low) : np.searchsorted(heights, high, "right")]
        x, y, z = _centroid(given, view, low, high)
        if self.take != "mean":
            z = float(np.percentile(kept, 50.0 if self.take == "median" else self.percentile))
        z += given.tilt.height_at(x, y)
        share = kept.size / heights.size
        facts = (
            ("height", f"{z:.4f} mm"),
            ("spread", f"{float(kept.std()) * 1000:.1f} µm"),
            ("points", f"{kept.size:,} · {percent(share)}".replace(",", " ")),
        )
        return Outcome(SpotPoint(x, y, z, float(low), float(high), kept.size, given.zone), facts)

    def explain(self, given: StepContext, outcome: Outcome) -> Evidence:
        """Used and left-out points, the level over the zone, and the histogram of heights."""
        spot: SpotPoint = outcome.value
        view, data = given.window(), given.data
        z = view.above(given.tilt, data)
        inside = np.ones(z.shape, dtype=np.bool_) if view.inside is None else view.inside
        used = inside & (z >= np.float32(spot.low)) & (z <= np.float32(spot.high))
        present = inside & ~np.isnan(z)
        assert given.zone is not None
        outline, tilt = given.zone.outline(), given.tilt
        rise = tilt.height_at(*outline.T) - tilt.height_at(spot.x, spot.y)
        level = np.column_stack([outline, spot.z + rise])
        heights = z[present].astype(np.float64)
        edges = _edges(spot, heights)
        # what lies far off, on another level, is counted in the outermost bins
        heights = np.clip(heights, edges[0], edges[-1])
        picture = Histogram(
            "heights in the zone",
            "mm",
            edges,
            np.histogram(heights, edges)[0].astype(np.float64),
            np.histogram(z[used], edges)[0].astype(np.float64),
        )
        grid = view.grid(data)
        return Evidence(
            (
                Region(grid, used, "used-data"),
                Region(grid, present & ~used, "left-out"),
                Polyline(level, "fit", closed=True),
            ),
            picture,
        )

    def _extreme(self, given: StepContext, view: Window) -> Outcome:
        """The highest or lowest that three connected points reach, or a disc does."""
        data, top = given.data, self.take == "highest"
        grid, z = view.grid(data), np.ascontiguousarray(view.above(given.tilt, data))
        looked = Looked.at(z.shape, view.inside)
        z, scattered = without_scatter(z, looked)
        ends = ends_of(z, looked)
        patches = patches_of(z, looked, grid, span=ends.span)
        at, height = (ends.high_at, ends.high) if top else (ends.low_at, ends.low)
        if self.disc > 0:
            at, height = self._disc(z, view, grid)
        if at is None or not np.isfinite(height):
            raise NotMeasured("no three points beside each other hold data; make the zone larger")
        coverage = replace(
            patches.coverage(view.covered, (height, top)),
            spikes=ends.spikes + scattered,
            points=ends.points + scattered,
        )
        x, y = grid.x0 + grid.dx * at[1], grid.y0 + grid.dy * at[0]
        ground = given.tilt.height_at(x, y)
        found = SpotPoint(x, y, height + ground, ends.low, ends.high, ends.points - ends.spikes, given.zone)
        far = patches.farthest(top)
        possible = (replace(found, z=far + ground),) if (far > height) == top and np.isfinite(far) else ()
        facts = (
            ("height", f"{found.z:.4f} mm"),
            ("isolated points", str(ends.spikes + scattered)),
            ("points", f"{ends.points:,}".replace(",", " ")),
        )
        return Outcome(found, facts, possible=possible, coverage=coverage)

    def _disc(self, z: Heights, view: Window, grid: Grid) -> tuple[tuple[int, int], float]:
        """Place where the mean over a disc is farthest out, and that mean in mm."""
        inside = True if view.inside is None else view.inside
        means = disc_means(
            np.where(inside, z, np.nan).astype(np.float64), self.disc / 2 / grid.dx, self.disc / 2 / grid.dy
        )
        if np.isnan(means).all():
            raise NotMeasured("no averaging disc in the zone is half filled with data; make it smaller")
        place = np.nanargmax(means) if self.take == "highest" else np.nanargmin(means)
        i, j = np.unravel_index(int(place), means.shape)
        return (int(i), int(j)), float(means[i, j])


def _edges(spot: SpotPoint, heights: FloatArray) -> FloatArray:
    """Bins around the used heights, with as much room on either side as they take, where there is data."""
    width = max(spot.high - spot.low, 0.004)
    low = max(spot.low - width, float(heights.min()) - 0.1 * width)
    high = min(spot.high + width, float(heights.max()) + 0.1 * width)
    return np.linspace(low, high, HISTOGRAM_BINS + 1)


def _centroid(given: StepContext, view: Window, low: float, high: float) -> tuple[float, float, float]:
    """Centroid and mean height in mm of the points between two heights."""
    z = view.above(given.tilt, given.data)
    mask = kernels.EVERYWHERE if view.inside is None else view.inside
    middle = (low + high) / 2
    m = kernels.plane_moments(z, mask, 0.0, 0.0, middle, low - middle, high - middle, 1)
    grid, (rows, cols) = view.grid(given.data), z.shape
    x = grid.x0 + grid.dx * ((cols - 1) / 2 + m[1] / m[0])
    y = grid.y0 + grid.dy * ((rows - 1) / 2 + m[2] / m[0])
    return float(x), float(y), float(middle + m[6] / m[0])
