"""Least-squares planes through a chosen share of the heights in a window of a height map."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry import kernels


@dataclass(frozen=True)
class FitRules:
    """Numbers that steer the fit, each with its reason."""

    bins: int = 16_384
    """Bins of the residual histogram that finds the share; taken again inside a bin that is too wide."""
    resolution: float = 0.001
    """Accuracy of the bounds of the share, mm: a fraction of any sensor's noise."""
    near: float = 1.0
    """First search range about the last bounds of the share, mm."""
    rounds: int = 20
    """Rounds at most of the first, coarse search and of trimming; both settle in two to eight."""
    final_rounds: int = 2
    """Rounds at most with all points: the coarse search has done the work, and points at the very bounds of
    the share change places in every round without changing the plane."""
    settled: float = 0.002
    """mm that the plane may still move anywhere in the window when a selection counts as settled; exact data
    settles at once, noisy data has points at the bounds that go back and forth within this."""
    coarse_points: int = 12_000
    """Points of the first rounds, which only need to find the right neighbourhood."""
    trim_settled: float = 0.001
    """Share of the points that a last round of trimming may still change."""
    trim_floor: float = 1e-4
    """mm; points this near the plane are never outliers, so that exact data keeps its rounding."""


RULES = FitRules()
EVERYTHING = (0.0, 1.0)
UNBOUNDED = (-math.inf, math.inf)

Pair: TypeAlias = tuple[float, float]
Surface: TypeAlias = tuple[float, float, float]
"""a, b and c of the plane residuals are counted from."""


@dataclass(frozen=True)
class GridPlane:
    """A plane over a window in grid indices from the window's centre, with the residuals it was fitted to."""

    a: float
    b: float
    c: float
    low: float
    high: float
    """Residuals in mm between which points were used."""
    moments: FloatArray
    """Moments as `kernels.plane_moments` gives them, for residuals against this plane."""

    @property
    def used(self) -> int:
        """Points used."""
        return int(self.moments[0])

    @property
    def rms(self) -> float:
        """Root mean square of the used residuals in mm."""
        return math.sqrt(float(self.moments[9]) / float(self.moments[0]))


def fit_plane(
    z: NDArray[np.float32],
    inside: BoolArray | None,
    share: tuple[float, float] = EVERYTHING,
    trim: float | None = None,
    rules: FitRules = RULES,
) -> GridPlane:
    """The least-squares plane through the points whose residuals rank within `share`, then trimmed.

    z: (rows, cols) float32 in mm; inside: mask of the same shape or None. share: from and to, 0 lowest and
    1 highest, ranked by residual against the plane itself, which is therefore found in rounds (concentration
    steps as in Rousseeuw & Van Driessen 1999, with a fixed share of ranks). trim: points farther than this many
    root mean squares are dropped, again in rounds (sigma clipping), or None. Most rounds look at a part of the
    rows only; the last ones take all. Raises `NotMeasured` when too few points remain.
    """
    window = _Samples(z, kernels.EVERYWHERE if inside is None else inside, rules)
    try:
        plane, bounds = window.search(share, trim, window.coarse_stride)
    except NotMeasured:
        # sparse data may hide from every n-th row
        plane, bounds = window.search(share, trim, 1)
    if share != EVERYTHING and trim is None:
        return window.concentrate(plane, share, 1, rules.final_rounds)
    if share != EVERYTHING:
        bounds = window.bounds(plane, share, 1, bounds)
    return window.trim(plane, bounds, trim, 1)[0]


class _Samples:
    """Window of heights during a fit."""

    def __init__(self, z: NDArray[np.float32], mask: BoolArray, rules: FitRules) -> None:
        self.z, self.mask, self.rules = np.ascontiguousarray(z), mask, rules
        self.coarse_stride = max(1, min(z.size // rules.coarse_points, z.shape[0] // 8))

    def search(self, share: Pair, trim: float | None, stride: int) -> tuple[GridPlane, Pair]:
        """The plane as every `stride`-th row shows it, and between which residuals the share lies."""
        least, greatest = self._heights(stride)
        plane = self._fit(self._level((least + greatest) / 2), *UNBOUNDED, stride)
        bounds = UNBOUNDED
        if share != EVERYTHING:
            # ranks that start out wrong can settle wrong: a level start suits a level part with much on it, a
            # start along all the data suits a tilted one; whichever ends flatter is the plane
            low, high = self.bounds(self._level(0.0), share, stride)
            starts = (self._level((low + high) / 2), plane)
            ends = [self.concentrate(start, share, stride, self.rules.rounds) for start in starts]
            plane = min(ends, key=lambda end: end.rms)
            bounds = plane.low, plane.high
        return self.trim(plane, bounds, trim, stride)

    def concentrate(self, plane: GridPlane, share: Pair, stride: int, rounds: int) -> GridPlane:
        """Fit to the share of residuals until the plane stays where it is."""
        for _ in range(rounds):
            bounds = self.bounds(plane, share, stride, (plane.low, plane.high))
            fresh = self._fit(plane, *bounds, stride)
            moved = self._moved(plane, fresh)
            plane = fresh
            if moved < self.rules.settled:
                break
        return plane

    def trim(self, plane: GridPlane, bounds: Pair, times: float | None, stride: int) -> tuple[GridPlane, Pair]:
        """Fit to the residuals between the bounds and within `times` root mean squares, until that settles.

        The bounds are returned as residuals against the new plane.
        """
        for _ in range(self.rules.rounds):
            reach = math.inf if times is None else max(times * plane.rms, self.rules.trim_floor)
            fresh = self._fit(plane, max(bounds[0], -reach), min(bounds[1], reach), stride)
            shift = fresh.c - plane.c
            bounds = bounds[0] - shift, bounds[1] - shift
            changed = abs(plane.used - fresh.used)
            plane = fresh
            if times is None or changed <= self.rules.trim_settled * fresh.used:
                break
        return plane, bounds

    def bounds(self, plane: GridPlane, share: Pair, stride: int, near: Pair = UNBOUNDED) -> Pair:
        """Residuals against the plane between which the share of the points lies; near: where it was last."""
        surface, rules = (plane.a, plane.b, plane.c), self.rules
        if math.isfinite(near[0]) and math.isfinite(near[1]):
            bins = math.ceil(2 * rules.near / rules.resolution)
            ends = kernels.residual_ends(self.z, self.mask, surface, stride, near, rules.near, bins, share)
            if not np.isnan(ends).any():
                return float(ends[0, 0]), float(ends[1, 1])
        rows, cols = self.z.shape
        swing = abs(plane.a) * cols / 2 + abs(plane.b) * rows / 2
        least, greatest = self._heights(stride)
        span = least - rules.resolution - plane.c - swing, greatest + rules.resolution - plane.c + swing
        counts = kernels.residual_histogram(self.z, self.mask, surface, stride, span, rules.bins)
        points = int(counts.sum())
        if points == 0:
            raise NotMeasured("there is no data in the zone")
        low, _ = self._ranked(surface, stride, span, counts, share[0] * points)
        _, high = self._ranked(surface, stride, span, counts, share[1] * points - 0.5)
        return low, high

    def _heights(self, stride: int) -> Pair:
        """Least and maximum height in every `stride`-th row."""
        rows = self.z[::stride]
        least, greatest = float(np.fmin.reduce(rows, axis=None)), float(np.fmax.reduce(rows, axis=None))
        if math.isnan(least):
            raise NotMeasured("there is no data in the zone")
        return least, greatest

    def _ranked(
        self, surface: Surface, stride: int, span: Pair, counts: NDArray[np.int64], rank: float
    ) -> Pair:
        """Ends of the narrow bin that holds the residual of a rank; `counts` are those over `span`."""
        k, below = kernels.bin_of_rank(counts, rank)
        width = (span[1] - span[0]) / counts.size
        found = span[0] + k * width, span[0] + (k + 1) * width
        if width <= self.rules.resolution or width <= 1e-6 * abs(found[0]):
            return found
        finer = kernels.residual_histogram(self.z, self.mask, surface, stride, found, counts.size)
        return self._ranked(surface, stride, found, finer, rank - below)

    def _fit(self, plane: GridPlane, low: float, high: float, stride: int) -> GridPlane:
        """Least squares over the residuals of `plane` between low and high.

        The bounds move along with the plane: they are kept as residuals against the plane returned.
        """
        z, mask = self.z, self.mask
        m = kernels.plane_moments(z, mask, plane.a, plane.b, plane.c, low, high, stride)
        da, db, dc = _solve(m)
        a, b, c = plane.a + da, plane.b + db, plane.c + dc
        n, su, sv, suu, suv, svv, sr, sur, svr, srr = m
        # the same sums seen from the new plane, without another pass over the data
        squares = srr - da * sur - db * svr - dc * sr
        left = np.array([n, su, sv, suu, suv, svv, 0.0, 0.0, 0.0, max(squares, 0.0)])
        return GridPlane(a, b, c, low - dc, high - dc, left)

    @staticmethod
    def _level(height: float) -> GridPlane:
        return GridPlane(0.0, 0.0, height, *UNBOUNDED, np.zeros(10))

    def _moved(self, before: GridPlane, after: GridPlane) -> float:
        rows, cols = self.z.shape
        slopes = abs(after.a - before.a) * cols / 2 + abs(after.b - before.b) * rows / 2
        return float(slopes + abs(after.c - before.c))


def _solve(m: FloatArray) -> tuple[float, float, float]:
    n, su, sv, suu, suv, svv, sr, sur, svr, _ = (float(s) for s in m)
    if n < 3:
        raise NotMeasured(f"a plane needs three points and the zone gives {int(n)}")
    # about the centroid, where the two slopes separate from the height
    mu, mv = su / n, sv / n
    cuu, cuv, cvv = suu - n * mu * mu, suv - n * mu * mv, svv - n * mv * mv
    cur, cvr = sur - mu * sr, svr - mv * sr
    determinant = cuu * cvv - cuv * cuv
    if determinant <= 1e-9 * max(cuu * cvv, 1.0):
        raise NotMeasured("the points in the zone lie on one line; a plane needs an area")
    a = (cur * cvv - cvr * cuv) / determinant
    b = (cvr * cuu - cur * cuv) / determinant
    return a, b, sr / n - a * mu - b * mv
