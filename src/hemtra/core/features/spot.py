"""Spot: the height of a small zone."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.form import setting
from hemtra.core.geometry import kernels
from hemtra.core.geometry.elements import Point
from hemtra.core.marks import Evidence, Histogram, Polyline, Region
from hemtra.core.plan.kind import Given, Kind, Outcome, least_data
from hemtra.core.plan.registry import register
from hemtra.core.scan.disc import disc_means
from hemtra.core.scan.zones import Window

NORMAL_SHORTH = 1.349
"""Width of the shortest half of a normal distribution in standard deviations."""
OUTLIER_REACH = 4.0
"""Standard deviations beyond which a height is an outlier: one good point in 16 000."""
OUTLIER_FLOOR = 0.002
"""mm within which a height is never an outlier, so that exact data does not trim its own rounding."""
HISTOGRAM_BINS = 48


@dataclass(frozen=True, slots=True)
class SpotPoint(Point):
    """A spot's point with the heights in mm between which the data was used."""

    low: float
    high: float
    used: int


@register
class SpotKind(Kind):
    """One height for a small zone."""

    kind: ClassVar = "spot"
    title: ClassVar = "Spot"
    glyph: ClassVar = "spot"
    output: ClassVar = SpotPoint
    needs_zone: ClassVar = True

    take: Literal["mean", "median", "highest", "lowest", "percentile"] = setting(
        "mean",
        "take",
        "Which height stands for the zone.",
        choices={
            "mean": "mean",
            "median": "median",
            "highest": "highest",
            "lowest": "lowest",
            "percentile": "percentile",
        },
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
        f"Drop heights farther than {OUTLIER_REACH:g} standard deviations from the zone's main level.",
        choices={"drop": "drop", "keep": "keep"},
    )

    least_data: float = least_data()

    def evaluate(self, given: Given) -> Outcome:
        """A `SpotPoint` at the centroid of the used points, or at the extreme itself."""
        view, data = given.window(self.least_data), given.data
        heights = np.sort(view.heights(data))
        low, high = main_level(heights) if self.outliers == "drop" else (heights[0], heights[-1])
        kept = heights[np.searchsorted(heights, low) : np.searchsorted(heights, high, "right")]
        if self.take in ("highest", "lowest"):
            x, y, z = self._extreme(given, view, low, high)
        else:
            x, y, mean = _centroid(given, view, low, high)
            z = mean
            if self.take != "mean":
                z = float(np.percentile(kept, 50.0 if self.take == "median" else self.percentile))
        spread = float(kept.std())
        share = kept.size / heights.size
        facts = (
            ("height", f"{z:.4f} mm"),
            ("spread", f"{spread * 1000:.1f} µm"),
            ("points", f"{kept.size:,} · {share:.0%}".replace(",", " ").replace("%", " %")),
        )
        return Outcome(SpotPoint(x, y, z, float(low), float(high), kept.size), facts)

    def explain(self, given: Given, outcome: Outcome) -> Evidence:
        """Used and left-out points, the level over the zone, and the histogram of heights."""
        spot: SpotPoint = outcome.value
        view, data = given.window(), given.data
        z = data.z[view.rows, view.cols]
        inside = np.ones(z.shape, dtype=np.bool_) if view.inside is None else view.inside
        used = inside & (z >= np.float32(spot.low)) & (z <= np.float32(spot.high))
        present = inside & ~np.isnan(z)
        assert given.zone is not None
        outline = given.zone.outline()
        level = np.column_stack([outline, np.full(len(outline), spot.z)])
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

    def _extreme(self, given: Given, view: Window, low: float, high: float) -> tuple[float, float, float]:
        data = given.data
        grid = view.grid(data)
        z: FloatArray = data.z[view.rows, view.cols].astype(np.float64)
        inside = True if view.inside is None else view.inside
        z = np.where(inside & (z >= low) & (z <= high), z, np.nan)
        if self.disc > 0:
            z = disc_means(z, self.disc / 2 / grid.dx, self.disc / 2 / grid.dy)
        if np.isnan(z).all():
            raise NotMeasured("no averaging disc in the zone is half filled with data; make it smaller")
        place = np.nanargmax(z) if self.take == "highest" else np.nanargmin(z)
        i, j = np.unravel_index(int(place), z.shape)
        return grid.x0 + grid.dx * int(j), grid.y0 + grid.dy * int(i), float(z[i, j])


def main_level(heights: FloatArray) -> tuple[float, float]:
    """The heights between which the main level of sorted heights (n,) in mm lies.

    Centre and spread come from the shortest interval that holds half of the heights (the shorth; Rousseeuw &
    Leroy 1987), which up to half of the data on other levels does not disturb.
    """
    half = heights.size // 2
    if half < 2:
        return float(heights[0]), float(heights[-1])
    widths = heights[half:] - heights[: heights.size - half]
    first = int(np.argmin(widths))
    centre = float(heights[first : first + half + 1].mean())
    sigma = float(widths[first]) / NORMAL_SHORTH
    reach = max(OUTLIER_REACH * sigma, OUTLIER_FLOOR)
    # twice more with the mean and spread of what was kept, which the half interval knows only roughly
    for _ in range(2):
        ends = np.searchsorted(heights, [centre - reach, centre + reach])
        kept = heights[ends[0] : ends[1]]
        centre, reach = float(kept.mean()), max(OUTLIER_REACH * float(kept.std()), OUTLIER_FLOOR)
    ends = np.searchsorted(heights, [centre - reach, centre + reach])
    return float(heights[ends[0]]), float(heights[ends[1] - 1])


def _edges(spot: SpotPoint, heights: FloatArray) -> FloatArray:
    """Bins around the used heights, with as much room on either side as they take, where there is data."""
    width = max(spot.high - spot.low, 0.004)
    low = max(spot.low - width, float(heights.min()) - 0.1 * width)
    high = min(spot.high + width, float(heights.max()) + 0.1 * width)
    return np.linspace(low, high, HISTOGRAM_BINS + 1)


def _centroid(given: Given, view: Window, low: float, high: float) -> tuple[float, float, float]:
    """Centroid and mean height in mm of the points between two heights."""
    z = given.data.z[view.rows, view.cols]
    mask = kernels.EVERYWHERE if view.inside is None else view.inside
    middle = (low + high) / 2
    m = kernels.plane_moments(z, mask, 0.0, 0.0, middle, low - middle, high - middle, 1)
    grid, (rows, cols) = view.grid(given.data), z.shape
    x = grid.x0 + grid.dx * ((cols - 1) / 2 + m[1] / m[0])
    y = grid.y0 + grid.dy * ((rows - 1) / 2 + m[2] / m[0])
    return float(x), float(y), float(middle + m[6] / m[0])
