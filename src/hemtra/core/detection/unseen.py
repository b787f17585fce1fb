"""Areas without data in a zone, and the bounds their surroundings give."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy  # its parts load when they are used first

from hemtra.core.arrays import BoolArray, FloatArray, Heights, IntArray
from hemtra.core.coverage import Coverage
from hemtra.core.detection.island_kernels import points_of, runs_of
from hemtra.core.detection.main_level import main_level
from hemtra.core.filters.supported_kernels import (
    any_missing,
    count_beyond,
    noise_of,
    points_beyond,
    residual_sample,
    rims_of,
    spans_of,
    supported_ends,
)
from hemtra.core.geometry.kernels import EVERYWHERE
from hemtra.core.maps.heightmap import Grid, HeightMap
from hemtra.core.zones.window import Window

SMALL_MM = 1.0
"""Longest side in mm of an unseen patch that its surroundings bound."""
COVERAGE_OF_EXTREMES = 95.0
"""Minimum coverage in percent for a highest or lowest point to count, as for form."""
QUIET = 3.5
"""Standard deviations of the noise within which the rim of a patch counts as even: nothing rises towards it."""
APART = 6.0
"""Standard deviations of the noise by which an isolated point stands off what three connected points reach."""
LEAST_NOISE = 0.0005
"""Minimum noise assumed, mm, so that exact data does not trim its own rounding."""
LEVEL_SURFACE = (0.0, 0.0, 0.0)
LEVEL_SAMPLE, FEWEST_FOR_LEVEL = 1024, 20
"""Points that give the main level of a zone."""
NEAR, COHERENT = 2.9, 1 / 3
"""Points of the map within which points off the level lie together, and the share of them that has two
neighbours at its own height from which on they are part of the part."""
FEW_LEFT, SPOT, LEAST_SPOT, MIXED, AMONG = 40, 8, 6, 0.2, 0.75
"""Points left off the level up to which they are checked for belonging to a spot that continues outside of the
zone; points about each that are looked at, points that such a spot has at least, the share of them on either
side of the surface, and how far apart the middles of both are, in their spread.
"""
MOST_SCATTERED = 20_000
"""Points off the level up to which they are checked for being scattered; more of them are a surface."""


@dataclass(frozen=True)
class Patches:
    """Connected patches of a zone that hold no data.

    points, shortest and longest (mm): (n,) size of each. low, high: (n,) residuals in mm between which the
    surface lies there, by its rim and the slope around it; NaN where nothing with data is about it. rim_low,
    rim_high: (n,) of the rim itself. climb: (n,) mm by which a surface continues to the middle of a patch that
    all of its rim rises to, below zero where it falls; 0 where it does neither. runs, region: its points, as
    `runs_of` gives them. total: points of the zone.
    """

    points: FloatArray
    shortest: FloatArray
    longest: FloatArray
    low: FloatArray
    high: FloatArray
    rim_low: FloatArray
    rim_high: FloatArray
    climb: FloatArray
    runs: IntArray
    region: IntArray
    total: int

    @property
    def small(self) -> BoolArray:
        """(n,) which are so small that their rim bounds what is there."""
        found: BoolArray = (self.longest <= SMALL_MM) & ~np.isnan(self.low)
        return found

    def farthest(self, top: bool) -> float:
        """Highest or lowest residual that may lie unseen; infinitely low or high where none does.

        A small patch may continue as its rim does; of a large one, only that all of its rim rises or falls
        towards it says that there is more.
        """
        sign, small = 1.0 if top else -1.0, self.small
        far = (self.high if top else self.low)[small] * sign
        slopes = self.climb * sign > 0.0
        beyond = ((self.rim_high if top else self.rim_low) + self.climb)[slopes & ~small] * sign
        return sign * float(max(far.max(initial=-np.inf), beyond.max(initial=-np.inf)))

    def coverage(self, covered: float = 1.0, extreme: tuple[float, bool] | None = None) -> Coverage:
        """Areas of the zone; covered: share of it inside the scan.

        extreme: the height of a highest (True) or lowest point, which patches far from it cannot exceed.
        """
        if not self.total:
            return Coverage(seen=0.0)
        small = self.small
        if extreme is not None:
            sides, rims = (self.shortest, self.longest), (self.rim_low, self.rim_high)
            small = small | falls_short(sides, rims, *extreme)
        missing = float(self.points.sum()) / self.total
        filled = float(self.points[small].sum()) / self.total
        gap = float(self.longest[~small].max(initial=0.0))
        return Coverage(covered * (1.0 - missing), gap, covered * filled, 0, self.total)


def falls_short(
    sides: tuple[FloatArray, FloatArray], rims: tuple[FloatArray, FloatArray], height: float, top: bool
) -> BoolArray:
    """(n,) which unseen stretches cannot exceed an extreme.

    sides: shorter and longer, mm. rims: the lowest and the highest point of each. A bore between two bosses is
    none of the highest places, were it to rise from its rim at 45°; and nothing stands out of the shadow of a
    step.
    """
    (short, long), (low, high) = sides, rims
    if not top:
        return np.asarray(low - long / 2.0 > height, np.bool_)
    return np.asarray((high + long / 2.0 < height) | (high - low >= short / 2.0), np.bool_)


@dataclass(frozen=True)
class Ends:
    """Lowest and highest residual in mm that three connected points reach, and the isolated points beyond.

    low_at, high_at: row and column in the window, None where nothing lies beyond what was asked.
    """

    low: float
    high: float
    low_at: tuple[int, int] | None
    high_at: tuple[int, int] | None
    noise: float
    spikes: int
    points: int

    @property
    def span(self) -> tuple[float, float]:
        """Residuals in mm outside of which only isolated points lie."""
        return self.low - APART * self.noise, self.high + APART * self.noise


@dataclass(frozen=True)
class Looked:
    """The points of a window that count, as kernels take them: its mask and where it reaches in each row."""

    mask: BoolArray
    spans: IntArray

    @staticmethod
    def at(shape: tuple[int, ...], inside: BoolArray | None) -> Looked:
        """Areas of a window's mask, or of the whole window."""
        mask = EVERYWHERE if inside is None else inside
        return Looked(mask, spans_of(mask, shape[0], shape[1]))

    @property
    def total(self) -> int:
        """Number of points."""
        return int(self.spans[-1, 0])


def patches_of(
    z: Heights,
    looked: Looked,
    grid: Grid,
    surface: tuple[float, float, float] = LEVEL_SURFACE,
    span: tuple[float, float] = (-np.inf, np.inf),
    noise: float | None = None,
) -> Patches:
    """The unseen patches of a window z (rows, cols); residuals count from a surface in its grid indices.

    span: residuals in mm outside of which lie isolated points, which say nothing of what is beside them.
    noise: its standard deviation in mm, where it is known.
    """
    if not any_missing(z, looked.mask, looked.spans):
        none = np.empty(0)
        empty = np.empty((0, 3), np.int64)
        return Patches(none, none, none, none, none, none, none, none, empty, empty[:, 0], looked.total)
    missing = np.isnan(z)
    if looked.mask.size:
        missing &= looked.mask
    runs, region = runs_of(missing)
    count = int(region.max()) + 1
    found = rims_of(z, surface, span, (grid.dy, grid.dx), runs, region, count)
    tall, wide = (found[:, 2] - found[:, 1] + 1) * grid.dy, (found[:, 4] - found[:, 3] + 1) * grid.dx
    noise = noise_in(z, looked) if noise is None else noise
    known = found[:, 5] > 0
    mean, low, high = (np.where(known, found[:, k], np.nan) for k in (6, 7, 8))
    spread = high - low
    # an even rim has nothing but noise to show; where it slopes, it may continue as steeply to the middle
    even = spread <= 2.0 * QUIET * noise
    shortest, longest = np.minimum(tall, wide), np.maximum(tall, wide)
    # and where all of its rim rises or falls towards it, it continues to its middle
    # of a long one the middle is as far as it is narrow
    reach = np.where(longest <= SMALL_MM, longest, shortest) / 2.0
    climb = found[:, 9] * reach
    sure = QUIET * noise * np.sqrt(2.0 / np.maximum(found[:, 5], 1.0)) * reach / min(grid.dx, grid.dy)
    climb[np.abs(climb) <= sure] = 0.0
    bounds = (
        np.where(even, mean, low - spread / 2.0) + np.minimum(climb, 0.0),
        np.where(even, mean, high + spread / 2.0) + np.maximum(climb, 0.0),
    )
    return Patches(found[:, 0], shortest, longest, *bounds, low, high, climb, runs, region, looked.total)


def without_scatter(
    z: Heights,
    looked: Looked,
    surface: tuple[float, float, float] = LEVEL_SURFACE,
    noise: float | None = None,
) -> tuple[Heights, int]:
    """A window without its patches of scattered points, as a shiny spot gives them, and how many those are.

    Points off the main level that lie together are part of the part, unless they lie on both sides of it and
    hardly any has two neighbours at its own height: then nothing of the part can look like that.
    """
    sample = residual_sample(z, looked.mask, looked.spans, surface, LEVEL_SAMPLE)
    if sample.size < FEWEST_FOR_LEVEL:
        return z, 0
    reach = APART * (noise_in(z, looked) if noise is None else noise)
    low, high = main_level(sample)
    span = low - reach, high + reach
    off, below, above = points_beyond(z, looked.mask, looked.spans, surface, span, MOST_SCATTERED)
    if not len(off) or below + above > MOST_SCATTERED:
        return z, 0
    places, r = off[:, :2].astype(np.intp), off[:, 2]
    patch, similar = _together(places, r, reach)
    count = int(patch.max()) + 1
    sizes, ups = np.bincount(patch, minlength=count), np.bincount(patch, r > high, minlength=count)
    coherent = np.bincount(patch, similar >= 2, minlength=count) >= COHERENT * sizes
    left_out = ((sizes >= 3) & (ups > 0) & (ups < sizes) & ~coherent)[patch]
    if looked.mask.size and 0 < np.count_nonzero(~left_out) <= FEW_LEFT:
        left_out |= _on_the_border(z, surface, (low - reach, high + reach), places, ~left_out)
    if not left_out.any():
        return z, 0
    kept, (i, j) = z.copy(), places[left_out].T
    for down in (-1, 0, 1):
        for right in (-1, 0, 1):
            # what lies between them or beside them is no better, though it is nearer to the level
            kept[np.clip(i + down, 0, z.shape[0] - 1), np.clip(j + right, 0, z.shape[1] - 1)] = np.nan
    return kept, int(np.count_nonzero(left_out))


def _together(places: IntArray, r: FloatArray, reach: float) -> tuple[IntArray, IntArray]:
    """(n,) the patch that each of some points lies in, and (n,) how many neighbours lie at its own height."""
    n = len(places)
    pairs = scipy.spatial.cKDTree(places).query_pairs(NEAR, output_type="ndarray")
    touch = np.abs(places[pairs[:, 0]] - places[pairs[:, 1]]).max(axis=1) <= 1
    alike = touch & (np.abs(r[pairs[:, 0]] - r[pairs[:, 1]]) <= reach)
    similar = np.bincount(pairs[alike].ravel(), minlength=n)
    graph = scipy.sparse.coo_matrix((np.ones(len(pairs)), pairs.T), shape=(n, n))
    _, patch = scipy.sparse.csgraph.connected_components(graph, directed=False)
    return patch, similar


def _on_the_border(
    z: Heights,
    surface: tuple[float, float, float],
    span: tuple[float, float],
    places: IntArray,
    asked: BoolArray,
) -> BoolArray:
    """Which of the points requested belong to a scattered patch that continues outside of the zone.

    Outside lie walls and other levels, too: what has neighbours at its own height is one of these, and what
    is longer than a spot of light is a wall.
    """
    everywhere = Looked.at(z.shape, None)
    around, below, above = points_beyond(z, everywhere.mask, everywhere.spans, surface, span, MOST_SCATTERED)
    found = np.zeros(len(places), np.bool_)
    if below + above > MOST_SCATTERED:
        return found
    all_places, r = around[:, :2].astype(np.intp), around[:, 2]
    reach = (span[1] - span[0]) / 2.0
    _, similar = _together(all_places, r, min(reach, APART * noise_in(z, everywhere)))
    lone = similar < 2
    all_places, r = all_places[lone], r[lone]
    for n in np.flatnonzero(asked):
        near = np.abs(all_places - places[n]).max(axis=1, initial=0) <= SPOT
        up, here = r[near] > span[1], all_places[near].astype(np.float64)
        if near.sum() < LEAST_SPOT or not MIXED <= up.mean() <= 1.0 - MIXED:
            continue
        # above and below lie among each other, and not on either side of an edge
        apart = np.linalg.norm(here[up].mean(axis=0) - here[~up].mean(axis=0))
        found[n] = apart < AMONG * np.linalg.norm(here.std(axis=0))
    return found


def noise_in(z: Heights, looked: Looked) -> float:
    """Standard deviation of the noise of a window in mm, never quite nothing."""
    return max(noise_of(z, looked.mask, looked.spans), LEAST_NOISE)


def ends_of(
    z: Heights,
    looked: Looked,
    surface: tuple[float, float, float] = LEVEL_SURFACE,
    noise: float | None = None,
) -> Ends:
    """Extremes of the residuals of a window z (rows, cols) against a surface in its grid indices."""
    ends = farther_ends(z, looked, surface, (np.inf, -np.inf))
    ends = replace(ends, noise=noise_in(z, looked) if noise is None else noise)
    spikes, points = count_beyond(z, looked.mask, looked.spans, surface, ends.span)
    return replace(ends, spikes=spikes, points=points)


def farther_ends(
    z: Heights,
    looked: Looked,
    surface: tuple[float, float, float],
    start: tuple[float, float],
) -> Ends:
    """The same beyond residuals that are known already, without noise and isolated points."""
    low, i, j, high, p, q = supported_ends(z, looked.mask, looked.spans, surface, start).tolist()
    low_at = None if i < 0 else (int(i), int(j))
    high_at = None if p < 0 else (int(p), int(q))
    return Ends(low, high, low_at, high_at, 0.0, 0, 0)


def zone_coverage(view: Window, data: HeightMap) -> Coverage:
    """Share of a zone with data."""
    z = data.z[view.rows, view.cols]
    return patches_of(z, Looked.at(z.shape, view.inside), view.grid(data)).coverage(view.covered)


def filled(z: Heights, patches: Patches) -> Heights:
    """A window with its small patches filled from what lies beside them in their rows, or from their rims."""
    chosen = patches.small[patches.region] if patches.region.size else np.empty(0, np.bool_)
    if not chosen.any():
        return z
    runs, region = patches.runs[chosen], patches.region[chosen]
    rows, first, last = runs.T
    cols = z.shape[1]
    rim = ((patches.rim_low + patches.rim_high) / 2)[region]
    left = np.where(first > 0, z[rows, np.maximum(first - 1, 0)], np.nan)
    right = np.where(last + 1 < cols, z[rows, np.minimum(last + 1, cols - 1)], np.nan)
    left, right = np.where(np.isnan(left), right, left), np.where(np.isnan(right), left, right)
    left, right = np.where(np.isnan(left), rim, left), np.where(np.isnan(right), rim, right)
    long = last - first + 1
    i, j = points_of(runs)
    part = (j - np.repeat(first, long) + 1) / np.repeat(long + 1, long)
    whole = z.copy()
    whole[i, j] = np.repeat(left, long) + part * np.repeat(right - left, long)
    return whole
