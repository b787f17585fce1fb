"""All points of surfaces between two parallel planes: what form, parallelism and coplanarity have in common."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, Heights
from hemtra.core.coverage import Coverage
from hemtra.core.detection.unseen import (
    APART,
    QUIET,
    Ends,
    Looked,
    Patches,
    ends_of,
    farther_ends,
    noise_in,
    patches_of,
    without_scatter,
)
from hemtra.core.filters.supported_kernels import cell_sums
from hemtra.core.geometry.elements import Plane, Point
from hemtra.core.maps.heightmap import Grid, HeightMap
from hemtra.core.zones.window import Window, window
from hemtra.core.zones.zone import AnyZone

AROUND, AT_LEVEL = 2, 4.0
"""Points either way that give the level of a raised region, and standard deviations of the noise within it."""
FEWEST_FOR_RIM = 6
"""Cells from which the plane is taken on which a surface continues to the end of its zone."""
HALF_FULL = 0.5
"""Share of a cell that must hold data for its mean to count."""


@dataclass(frozen=True)
class Surface:
    """A zone of the part whose points count, and a plane near them.

    span: perpendicular residuals in mm from that plane within which points count; all of them where None.
    """

    zone: AnyZone
    near: Plane
    span: tuple[float, float] | None = None


@dataclass(frozen=True)
class Extent:
    """Distances of surface points from a plane, in mm square to it, and their places.

    low, high: of what was seen. least, most: where unseen patches may lie too.
    """

    low: float
    high: float
    lowest: Point
    highest: Point
    least: float
    most: float
    coverage: Coverage

    @property
    def width(self) -> float:
        """Distance in mm of the two parallel planes that hold all points."""
        return self.high - self.low

    @property
    def possible_width(self) -> float:
        """The same in mm, if what was not seen lies as far out as it may."""
        return self.most - self.least


class Surfaces:
    """The points of one or more surfaces, isolated ones left out.

    Means over cells carry most of what is known of them, so that noise is not form. What three connected points
    show beyond the cells, by more than noise explains, counts in full: a burr, a dent, a scratch.
    """

    def __init__(self, surfaces: Sequence[Surface], data: HeightMap, size: float) -> None:
        """size: mm of a cell."""
        self._pieces = [_Piece(surface, data) for surface in surfaces]
        self.cells: FloatArray = np.concatenate([piece.cells(size) for piece in self._pieces])
        """(n, 3) mean positions in mm of the points in each cell."""
        self._quiet = max((piece.cell_noise for piece in self._pieces), default=0.0) * QUIET

    def rims(self) -> FloatArray:
        """(n, 3) the ends of their zones, which cells do not reach, on a plane through the cells of each."""
        return np.concatenate([piece.rim for piece in self._pieces])

    def extent(self, plane: Plane, also: FloatArray | None = None) -> Extent:
        """Largest distances above and below a plane.

        also: (n, 3) places in mm that are known to be of them from fits; then cells count only where they lie
        beyond these by more than the noise of a cell.
        """
        low, high, lowest, highest = _farthest(plane, self.cells)
        if also is not None and len(also):
            known = _farthest(plane, also)
            if low > known[0] - self._quiet:
                low, lowest = known[0], known[2]
            if high < known[1] + self._quiet:
                high, highest = known[1], known[3]
        least, most, coverage, upright = low, high, None, plane.normal[2]
        for piece in self._pieces:
            ends = piece.beyond(plane, (low, high))
            if ends.low_at is not None and ends.low * upright < low:
                low = min(low, piece.level(plane, ends.low_at, -ends.low, -1.0) * -upright)
                lowest = piece.point(ends.low_at)
            if ends.high_at is not None and ends.high * upright > high:
                high = max(high, piece.level(plane, ends.high_at, ends.high, 1.0) * upright)
                highest = piece.point(ends.high_at)
            patches = piece.patches(plane)
            least = min(least, patches.farthest(top=False) * upright)
            most = max(most, patches.farthest(top=True) * upright)
            own = patches.coverage(piece.view.covered)
            own = Coverage(own.seen, own.gap, own.filled, piece.spikes, piece.points)
            coverage = own if coverage is None else _together(coverage, own)
        assert coverage is not None
        return Extent(low, high, lowest, highest, min(least, low), max(most, high), coverage)


class _Piece:
    """One surface: its window, its heights without isolated points, and what is raised above it."""

    def __init__(self, surface: Surface, data: HeightMap) -> None:
        self.view, self._zone = window(surface.zone, data), surface.zone
        self.grid, self.near = self.view.grid(data), surface.near
        z = np.ascontiguousarray(data.z[self.view.rows, self.view.cols])
        self.mask = _mask(surface, self.view, z, self.grid)
        indices = self._in_indices(surface.near, z.shape)
        self._looked = Looked.at(z.shape, self.mask)
        self.noise = noise_in(z, self._looked)
        self.z, scattered, ends = z, 0, ends_of(z, self._looked, indices, self.noise)
        reach = APART * self.noise
        if ends.low < -reach or ends.high > reach:
            self.z, scattered = without_scatter(z, self._looked, indices, self.noise)
            ends = ends_of(self.z, self._looked, indices, self.noise) if scattered else ends
        self.spikes, self.points = ends.spikes + scattered, ends.points + scattered
        self.span = ends.span

    def cells(self, size: float) -> FloatArray:
        """(n, 3) mean positions in mm of the points in cells of a size; isolated points are left out."""
        cell = max(1, round(size / self.grid.dy)), max(1, round(size / self.grid.dx))
        indices = self._in_indices(self.near, self.z.shape)
        sums = cell_sums(self.z, self._looked.mask, self._looked.spans, indices, self.span, cell)
        count, u, v, rise = sums[:, sums[0] >= max(1.0, HALF_FULL * cell[0] * cell[1])]
        self.rim = np.empty((0, 3))
        self.cell_noise = self.noise / math.sqrt(float(np.median(count))) if count.size else 0.0
        rows, cols = self.z.shape
        x = self.grid.x0 + self.grid.dx * ((cols - 1) / 2 + u / count)
        y = self.grid.y0 + self.grid.dy * ((rows - 1) / 2 + v / count)
        cells = np.column_stack([x, y, self.near.height_at(x, y) + rise / count])
        if len(cells) >= FEWEST_FOR_RIM:
            middle = cells.mean(axis=0)
            slopes, *_ = np.linalg.lstsq(cells[:, :2] - middle[:2], cells[:, 2] - middle[2], rcond=None)
            ends = self._zone.outline()
            self.rim = np.column_stack([ends, middle[2] + (ends - middle[:2]) @ slopes])
        return cells

    def beyond(self, plane: Plane, known: tuple[float, float]) -> Ends:
        """Excess of three connected points over known distances from a plane, by more than noise."""
        upright, reach = plane.normal[2], QUIET * self.noise
        start = known[0] / upright - reach, known[1] / upright + reach
        indices = self._in_indices(plane, self.z.shape)
        return replace(farther_ends(self.z, self._looked, indices, start), noise=self.noise)

    def level(self, plane: Plane, at: tuple[int, int], reached: float, sign: float) -> float:
        """Mean residual (times sign) of the points about a place that lie at the level reached there,
        but for noise.

        Of many places the farthest is that where noise adds most; the mean of its neighbours takes that
        off again.
        """
        rows = slice(max(at[0] - AROUND, 0), at[0] + AROUND + 1)
        cols = slice(max(at[1] - AROUND, 0), at[1] + AROUND + 1)
        x = self.grid.x0 + self.grid.dx * np.arange(self.z.shape[1])[None, cols]
        y = self.grid.y0 + self.grid.dy * np.arange(self.z.shape[0])[rows, None]
        off = sign * (self.z[rows, cols] - plane.height_at(x, y))
        if self.mask is not None:
            off = np.where(self.mask[rows, cols], off, np.nan)
        near = off[(off >= reached - AT_LEVEL * self.noise) & (off <= reached + APART * self.noise)]
        return float(near.mean()) if near.size else reached

    def patches(self, plane: Plane) -> Patches:
        """Its unseen patches, with distances from a plane along z."""
        shift = plane.height_at(*self._middle(self.z.shape)) - self.near.height_at(*self._middle(self.z.shape))
        span = self.span[0] - shift, self.span[1] - shift
        looked = self._looked if self.mask is self.view.inside else Looked.at(self.z.shape, self.view.inside)
        return patches_of(self.z, looked, self.grid, self._in_indices(plane, self.z.shape), span, self.noise)

    def point(self, at: tuple[int, int]) -> Point:
        """The point of a row and column."""
        x, y = self.grid.x0 + self.grid.dx * at[1], self.grid.y0 + self.grid.dy * at[0]
        return Point(x, y, float(self.z[at]))

    def _middle(self, shape: tuple[int, ...]) -> tuple[float, float]:
        return (
            self.grid.x0 + self.grid.dx * (shape[1] - 1) / 2,
            self.grid.y0 + self.grid.dy * (shape[0] - 1) / 2,
        )

    def _in_indices(self, plane: Plane, shape: tuple[int, ...]) -> tuple[float, float, float]:
        """A plane as slopes per column and row, and its height in the middle of the window."""
        height = plane.height_at(*self._middle(shape))
        return plane.slope_x * self.grid.dx, plane.slope_y * self.grid.dy, height


def _farthest(plane: Plane, places: FloatArray) -> tuple[float, float, Point, Point]:
    """Least and greatest distance in mm of places (n, 3) from a plane, and those places."""
    off = (places[:, 2] - plane.height_at(places[:, 0], places[:, 1])) * plane.normal[2]
    lowest, highest = (Point(*places[int(k)].tolist()) for k in (off.argmin(), off.argmax()))
    return float(off.min()), float(off.max()), lowest, highest


def _mask(surface: Surface, view: Window, z: Heights, grid: Grid) -> BoolArray | None:
    """Mask of the points that count: those of the zone, or only those near its plane on request."""
    if surface.span is None:
        return view.inside
    near = surface.near
    x, y = grid.x0 + grid.dx * np.arange(z.shape[1]), grid.y0 + grid.dy * np.arange(z.shape[0])
    off = (z - near.height_at(x[None, :], y[:, None])) * near.normal[2]
    with np.errstate(invalid="ignore"):
        kept: BoolArray = (off >= surface.span[0]) & (off <= surface.span[1])
    return kept if view.inside is None else kept & view.inside


def _together(one: Coverage, other: Coverage) -> Coverage:
    """Points of several surfaces taken as one."""
    points = max(one.points + other.points, 1)
    parts = (one.points / points, other.points / points)
    return Coverage(
        parts[0] * one.seen + parts[1] * other.seen,
        max(one.gap, other.gap),
        parts[0] * one.filled + parts[1] * other.filled,
        one.spikes + other.spikes,
        points,
    )
