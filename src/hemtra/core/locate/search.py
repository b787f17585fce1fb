"""Finds a taught contour in a map: votes on a coarse grid, then a fit of the edges at full resolution."""

from __future__ import annotations

import math
from dataclasses import astuple, dataclass
from typing import TypeAlias

import numpy as np

from hemtra.core.arrays import BoolArray, FloatArray, Heights, IntArray
from hemtra.core.detection.edge_kernels import HALF, NEAREST, edges_along
from hemtra.core.errors import OffScan
from hemtra.core.geometry.fit_kernels import settle_linear
from hemtra.core.geometry.frames import Frame
from hemtra.core.locate.contour import HEIGHT, Contour, channel_values
from hemtra.core.locate.kernels import cell_means, fill_lowest, fit_turn, steep_cells, vote
from hemtra.core.maps.heightmap import Grid, HeightMap, frozen

CELLS_ACROSS = 36
"""Cells along the contour's longer side in the coarse search."""
DIRECTIONS = 36
"""Bins of edge direction in the vote."""
VOTERS = 260
"""Points of the contour that vote, about."""
CANDIDATES = 14
"""Places that the vote hands on."""
FEWEST_VOTES = 0.5
"""Share of the best place's votes below which a place is skipped."""
COARSE_POINTS = 160
"""Contour points used to distinguish candidates."""
PROMISING = 0.25
"""Share of the contour by which a found candidate may fall short of the best and still be refined."""
FOUND_WITHIN, FOUND_SHARE = 2.5, 1 / 360
"""Points of the map, and share of the contour's size, within which an edge belongs to the contour, at the end.

On a fine map a few points do not reach over a flank that is not upright, nor as far as good parts differ.
"""
FEWEST_SEEN = 0.15
"""Minimum share of the contour with data for a fit."""
SCALE_FLOOR = 0.3
"""Spread of the offsets, in points of the map, that the sampling of a sharp edge alone brings about."""
SHADOW = 4.0
"""mm behind an edge within which the lower surface is searched."""
SAME_STEP = (0.5, 2.0)
"""Difference across an edge that counts, as a share of the one taught: a shadow may end on another surface."""
TUKEY_ROUNDS = 5
LEVEL_FLOOR = 0.002
"""mm by which the level beside a contour point may always be off."""
APART = 0.25
"""Share of the contour's size by which two instances differ in place; nearer ones are the same."""
ACROSS = (-1.0, -0.5, 0.0, 0.5, 1.0)
"""Shares of the reach at which an edge is checked that was not found could have been seen."""
TILT_NEEDS = 40
"""Contour points whose heights must be known for the tilt to be taken from them."""

Maps: TypeAlias = dict[int, Heights]


@dataclass(frozen=True)
class Search:
    """Search range: angles in degrees counter-clockwise, and the minimum percentage of the contour.

    near: x, y and radius in mm about which the contour's centre must lie; None for anywhere.
    """

    near: tuple[float, float, float] | None = None
    turn_from: float = -180.0
    turn_to: float = 180.0
    least_match: float = 0.6


@dataclass(frozen=True)
class Match:
    """A place where the contour was found: its frame, the share of the contour seen there, and which points."""

    frame: Frame
    """Frame of the contour's own coordinates: origin at its centre, z = 0 at its mean height."""
    share: float
    seen: BoolArray
    against: float = 0.0
    """Share of the contour where the surface is seen to continue without an edge: what lies there is not it."""


class Model:
    """A contour about its own centre, ready to be searched for."""

    def __init__(self, contour: Contour) -> None:
        self.contour = contour
        low = np.array([contour.x.min(), contour.y.min()])
        high = np.array([contour.x.max(), contour.y.max()])
        self.centre = (low + high) / 2
        steps = contour.channel == HEIGHT
        self.level = float(contour.z[steps if steps.any() else slice(None)].mean())
        self.points = np.column_stack(
            [contour.x - self.centre[0], contour.y - self.centre[1], contour.z - self.level]
        )
        self.normals = np.column_stack([np.cos(contour.direction), np.sin(contour.direction)])
        self.walls = np.where(steps, contour.step, 0.0)
        self.size = float(max(high - low))
        self.outermost = float(np.hypot(self.points[:, 0], self.points[:, 1]).max())
        self.radius = float(np.sqrt((self.points[:, :2] ** 2).sum(axis=1).mean()))

    def strokes(self, frame: Frame, length: float) -> FloatArray:
        """(n, 2, 3) short strokes in mm along the contour, placed in a frame."""
        tangent = np.column_stack([-self.normals[:, 1], self.normals[:, 0], np.zeros(len(self.normals))])
        ends = [frame.outward(self.points + side * length / 2 * tangent) for side in (-1, 1)]
        return np.stack(ends, axis=1)

    @property
    def home(self) -> Frame:
        """Zone in which it was taught."""
        return Frame(x=float(self.centre[0]), y=float(self.centre[1]), z=self.level)


def find(model: Model, data: HeightMap, search: Search) -> list[Match]:
    """The places where the contour lies, best first; those that share less than asked are left out."""
    finder = _Finder(model, _cropped(data, model, search))
    guesses = finder.vote(search)
    coarse: list[Match] = []
    for guess in guesses:
        best = max((match.share for match in coarse), default=0.0)
        match = finder.settled(guess, best - PROMISING)
        coarse += [] if match is None else [match]
    if not coarse:
        return []
    best = max(match.share for match in coarse)
    distinct = _distinct([m for m in coarse if m.share >= best - PROMISING], model)
    fine = [found for m in distinct if (found := finder.refined(m.frame)) is not None]
    kept = [m for m in fine if m.share >= search.least_match and _allowed(m.frame, search)]
    return _distinct(kept, model)


def _cropped(data: HeightMap, model: Model, search: Search) -> HeightMap:
    """The part of a map that the contour can lie in."""
    if search.near is None:
        return data
    x, y, reach = search.near
    reach += model.outermost + 2.0 * model.size / CELLS_ACROSS
    g, (rows, cols) = data.grid, data.shape
    c0, c1 = (int(np.clip(round((x + side * reach - g.x0) / g.dx), 0, cols)) for side in (-1, 1))
    r0, r1 = (int(np.clip(round((y + side * reach - g.y0) / g.dy), 0, rows)) for side in (-1, 1))
    if c1 - c0 < 2 or r1 - r0 < 2:
        raise OffScan("the search area of the outline lies outside the scan")
    part = np.s_[r0:r1, c0:c1]
    grid = g.shifted(r0, c0)
    grey = None if data.intensity is None else data.intensity[part]
    return HeightMap(data.z[part], grey, g.dx, g.dy, grid.x0, grid.y0)


def _known_across(values: Heights, grid: Grid, placed: FloatArray, reach: float) -> BoolArray:
    """(n,) where a map holds data all the way across places with normals (n, 4), so many mm to either side."""
    known = np.ones(len(placed), np.bool_)
    rows, cols = values.shape
    for share in ACROSS:
        j = np.rint((placed[:, 0] + share * reach * placed[:, 2] - grid.x0) / grid.dx).astype(np.intp)
        i = np.rint((placed[:, 1] + share * reach * placed[:, 3] - grid.y0) / grid.dy).astype(np.intp)
        known &= (i >= 0) & (i < rows) & (j >= 0) & (j < cols)
        known &= ~np.isnan(values[np.clip(i, 0, rows - 1), np.clip(j, 0, cols - 1)])
    return known


def _distinct(matches: list[Match], model: Model) -> list[Match]:
    """Best first, without those that are another one again."""
    kept: list[Match] = []
    for match in sorted(matches, key=lambda m: -m.share):
        if all(differ(match.frame, other.frame, model) for other in kept):
            kept.append(match)
    return kept


def differ(a: Frame, b: Frame, model: Model) -> bool:
    """Whether two frames place the contour differently, and not just a little off."""
    turn = abs((a.rotation - b.rotation + 180.0) % 360.0 - 180.0)
    return math.hypot(a.x - b.x, a.y - b.y) > APART * model.size or turn > math.degrees(APART)


def _allowed(frame: Frame, search: Search) -> bool:
    """Whether a found place is one that was requested."""
    if search.near is not None and math.dist((frame.x, frame.y), search.near[:2]) > search.near[2]:
        return False
    slack = 1e-6
    return (frame.rotation - search.turn_from) % 360.0 <= search.turn_to - search.turn_from + slack


class _Finder:
    """A search in one map."""

    def __init__(self, model: Model, data: HeightMap) -> None:
        self.model, self.data = model, data
        self.spacing = max(data.grid.dx, data.grid.dy)
        contour = model.contour
        self.channels = [int(c) for c in np.unique(contour.channel)]
        self.values = {c: v for c in self.channels if (v := channel_values(data, c)) is not None}
        cell, g = max(model.size / CELLS_ACROSS, 2 * self.spacing), data.grid
        # the reduced map has about as many points to a cell as a cell has points of the reduced map
        self.fold = max(1, round(math.sqrt(cell / self.spacing)))
        inner = cell / self.fold
        self.block = max(1, round(inner / g.dy)), max(1, round(inner / g.dx))
        self.reduced = {c: frozen(cell_means(v, *self.block)) for c, v in self.values.items()}
        dx, dy = g.dx * self.block[1], g.dy * self.block[0]
        self.reduced_grid = Grid(g.x0 + (dx - g.dx) / 2, g.y0 + (dy - g.dy) / 2, dx, dy)
        self.cell = self.fold * math.sqrt(dx * dy)
        self.bounds = contour.step[:, None] * np.array(SAME_STEP)
        stride = max(1, len(contour) // COARSE_POINTS)
        self.few = np.arange(0, len(contour), stride)

    def vote(self, search: Search) -> list[Frame]:
        """The places with the most votes, the best first."""
        contour, fine = self.model.contour, self.reduced_grid
        width, height = self.fold * fine.dx, self.fold * fine.dy
        x0, y0 = fine.x0 + (width - fine.dx) / 2, fine.y0 + (height - fine.dy) / 2
        span = math.radians(min(search.turn_to - search.turn_from, 360.0))
        turn = self.cell / self.model.radius
        count = max(1, math.ceil(span / turn))
        angles = math.radians(search.turn_from) + (np.arange(count) + 0.5) * span / count
        votes: IntArray | None = None
        for channel, values in self.reduced.items():
            which = np.flatnonzero(contour.channel == channel)
            means = frozen(cell_means(values, self.fold, self.fold))
            if means.size == 0 or np.isnan(means).all():
                continue
            rows, cols = means.shape
            filled = fill_lowest(means, float(np.nanmin(means)))
            least = 0.35 * float(np.percentile(contour.step[which], 10))
            edges = np.column_stack(steep_cells(filled, width, height, least))
            edges = edges * (width, height, 1.0) + (x0, y0, 0.0)
            model, first = self._binned(which)
            box = (x0 - width / 2, y0 - height / 2, self.cell)
            # cells of the vote are square, whatever the blocks are
            shape = math.ceil(rows * height / self.cell), math.ceil(cols * width / self.cell)
            page = vote(edges, model, first.astype(np.int64), angles, box, shape)
            votes = page if votes is None else votes + page
        return [] if votes is None else self._peaks(votes, angles, box)

    def _binned(self, which: IntArray) -> tuple[FloatArray, IntArray]:
        """One point per cell of the contour, sorted by direction bin, and the start of each bin."""
        points, directions = self.model.points[which, :2], self.model.contour.direction[which]
        bins = (np.mod(directions, 2 * np.pi) / (2 * np.pi) * DIRECTIONS).astype(np.int64) % DIRECTIONS
        keys = np.column_stack([np.floor(points / self.cell).astype(np.int64), bins // 3])
        _, one = np.unique(keys, axis=0, return_index=True)
        one = one[:: max(1, round(one.size / VOTERS))]
        one = one[np.argsort(bins[one], kind="stable")]
        first = np.searchsorted(bins[one], np.arange(DIRECTIONS + 1))
        return np.column_stack([points[one], directions[one]]), first

    def _peaks(self, votes: IntArray, angles: FloatArray, box: tuple[float, float, float]) -> list[Frame]:
        """The best places of a vote: votes of neighbouring cells and angles together, best first."""
        wide = votes.copy()
        wide[:, 1:] += votes[:, :-1]
        wide[:, :-1] += votes[:, 1:]
        summed = wide.copy()
        summed[:, :, 1:] += wide[:, :, :-1]
        summed[:, :, :-1] += wide[:, :, 1:]
        found: list[Frame] = []
        highest = 0.0
        reach = max(1, round(APART * self.model.size / self.cell / 2))
        near_turns = max(1, round(math.radians(12.0) * self.model.radius / self.cell))
        for _ in range(CANDIDATES):
            at = int(np.argmax(summed))
            k, i, j = np.unravel_index(at, summed.shape)
            top = float(summed[k, i, j])
            highest = max(highest, top)
            if top <= 0.0 or top < FEWEST_VOTES * highest:
                break
            u, v = _centroid(votes[k], int(i), int(j))
            found.append(
                Frame(
                    x=box[0] + box[2] * (u + 0.5),
                    y=box[1] + box[2] * (v + 0.5),
                    rotation=math.degrees(float(angles[k])),
                )
            )
            turns = np.arange(k - near_turns, k + near_turns + 1) % len(angles)
            rows = slice(max(int(i) - reach, 0), int(i) + reach + 1)
            cols = slice(max(int(j) - reach, 0), int(j) + reach + 1)
            summed[turns, rows, cols] = 0.0
        return found

    def settled(self, guess: Frame, least: float) -> Match | None:
        """The frame near a vote that fits a few edges of the reduced map; None where too few are seen.

        least: share of the contour below which it need not be settled.
        """
        frame = guess
        for reach, enough in ((2.2, 0.0), (1.2, least), (0.6, least)):
            placed = self._placed(frame, self.few)
            edge = self._edges(self.reduced, self.reduced_grid, placed, self.few, reach * self.cell)
            if self._too_few(edge, enough):
                return None
            frame = self._fitted(frame, placed, edge, self.reduced_grid)
        return self._seen(frame, self.reduced, self.reduced_grid, self.few, 0.5 * self.cell)

    def refined(self, guess: Frame) -> Match | None:
        """The frame near a settled one that fits all edges at full resolution."""
        frame, everything = guess, np.arange(len(self.model.contour))
        fine = max(FOUND_WITHIN * self.spacing, FOUND_SHARE * self.model.size)
        for which, reach in ((self.few, max(0.4 * self.cell, fine)), (everything, fine), (everything, fine)):
            placed = self._placed(frame, which)
            edge = self._edges(self.values, self.data.grid, placed, which, reach)
            if self._too_few(edge):
                return None
            frame = self._tilted(self._fitted(frame, placed, edge, self.data.grid), which, edge)
        return self._seen(frame, self.values, self.data.grid, everything, fine)

    def _too_few(self, edge: FloatArray, least: float = 0.0) -> bool:
        return int(np.count_nonzero(~np.isnan(edge[:, 0]))) < max(8, max(FEWEST_SEEN, least) * len(edge))

    def _seen(self, frame: Frame, maps: Maps, grid: Grid, which: IntArray, within: float) -> Match:
        placed = self._placed(frame, which)
        seen = ~np.isnan(self._edges(maps, grid, placed, which, within)[:, 0])
        plain = ~seen
        for channel, values in maps.items():
            mine = plain & (self.model.contour.channel[which] == channel)
            plain[mine] = _known_across(values, grid, placed[mine], within)
        return Match(frame, float(seen.mean()), seen, float(plain.mean()))

    def _placed(self, frame: Frame, which: IntArray) -> FloatArray:
        """(n, 4) x, y and normal of contour points in a frame."""
        points = frame.outward(self.model.points[which])
        c, s = math.cos(math.radians(frame.rotation)), math.sin(math.radians(frame.rotation))
        nx, ny = self.model.normals[which].T
        normals = np.column_stack([c * nx - s * ny, s * nx + c * ny])
        # an upright wall that tilts into view has its edge half way down, one that tilts out of it at the top
        down = np.maximum(normals @ -frame.matrix[:2, 2], 0.0) * self.model.walls[which] / 2
        return np.column_stack([points[:, :2] + down[:, None] * normals, normals])

    def _edges(self, maps: Maps, grid: Grid, placed: FloatArray, which: IntArray, reach: float) -> FloatArray:
        """(n, 3) offset in mm and values above and below of the edges at placed points, NaN where none is."""
        found = np.full((len(which), 3), np.nan)
        for channel, values in maps.items():
            mine = self.model.contour.channel[which] == channel
            points, bounds = placed[mine], self.bounds[which][mine]
            spacing = min(grid.dx, grid.dy)
            edges = edges_along(
                values, astuple(grid), points, bounds, reach, SHADOW, spacing, NEAREST, HALF, False
            )
            found[mine] = edges[:, :3]
        return found

    def _fitted(self, frame: Frame, placed: FloatArray, edge: FloatArray, grid: Grid) -> Frame:
        """The frame moved and turned so that the contour meets the edges."""
        floor = SCALE_FLOOR * grid.dx
        x, y, turn = fit_turn(placed, np.ascontiguousarray(edge[:, 0]), frame.x, frame.y, floor, TUKEY_ROUNDS)
        rotation = (frame.rotation + math.degrees(turn) + 180.0) % 360.0 - 180.0
        return Frame(frame.x + x, frame.y + y, frame.z, rotation, frame.tilt_x, frame.tilt_y)

    def _tilted(self, frame: Frame, which: IntArray, edge: FloatArray) -> Frame:
        """The frame with height and tilt taken from the levels beside the contour."""
        usable = ~np.isnan(edge[:, 0]) & (self.model.contour.channel[which] == HEIGHT)
        if np.count_nonzero(usable) < TILT_NEEDS:
            return frame
        u, v, w = self.model.points[which][usable].T
        rise = edge[usable, 1] - w
        design = np.column_stack([np.ones(u.size), u, v])
        solution, _ = settle_linear(design, rise, np.array([np.median(rise), 0.0, 0.0]), LEVEL_FLOOR)
        # a plane z = a + b u + c v seen along the frame's own axes: tilt about y is -b, about x is c
        tilt_y = -math.degrees(math.atan(float(solution[1])))
        tilt_x = math.degrees(math.atan(float(solution[2])))
        return Frame(frame.x, frame.y, float(solution[0]), frame.rotation, tilt_x, tilt_y)


def _centroid(page: IntArray, i: int, j: int) -> tuple[float, float]:
    """Column and row of the centre of the votes about a cell."""
    rows = slice(max(i - 1, 0), i + 2)
    cols = slice(max(j - 1, 0), j + 2)
    part = page[rows, cols].astype(np.float64)
    total = part.sum()
    if total <= 0:
        return float(j), float(i)
    v, u = np.mgrid[rows.start : rows.start + part.shape[0], cols.start : cols.start + part.shape[1]]
    return float((u * part).sum() / total), float((v * part).sum() / total)
