"""Landmarks of a reference scan: places that a drawing is likely to ask something of."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal, TypeAlias

import numpy as np
import scipy  # its parts load when they are used first
import zxingcpp

from hemtra.core.arrays import BoolArray, FloatArray
from hemtra.core.detection.part_box import part_box
from hemtra.core.errors import NotMeasured
from hemtra.core.geometry.elements import Plane
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.proposals.pick_detection import RING_ROOM, seen_at

Place = tuple[float, float]
LEVEL, BIN = 0.12, 0.02
"""Half height of a level, and bin width for finding levels, mm."""
SMALLEST, WIDEST_NARROW = 6.0, 0.7
"""Smallest area of a surface, mm², and smallest distance from its border to its middle, mm."""
NEARLY = 0.5
"""Search distance about the main surface for separate pieces, mm."""
APART = 0.3
"""Minimum distance between two levels, mm."""
RAISED = 0.25
"""Minimum height of a ridge, mm."""
RIDGE_AREA, SLENDER = 30.0, 45.0
"""Minimum area of a ridge, mm², and in squares of its half width."""
WIDEST_RIDGE = 4.0
"""Largest distance from the border of a ridge to its middle, mm."""
GAP, BESIDE = 3.0, 1.2
"""Widest gap beside a surface, and distance beside it of the clicks on its sides, mm."""
ROUND_ALIKE = 0.03
"""Largest relative difference between circles of one size."""
MOST = 60
"""Largest number of surfaces examined; a part with more has none that stand out."""


ProfileMark: TypeAlias = Literal["groove", "arc", "stretch", "flank", "edge"]
"""Landmarks of a profile; places are x and z there. A flank is a straight stretch that is not level."""


@dataclass(frozen=True)
class Landmark:
    """A landmark. height: mm above the main surface. size: mm of its diameter or side.

    surface, main: a level piece, and the one all others stand on. hole, boss: a round rim. edge: a straight
    one. ridge: something long and narrow. gap: between a surface and what surrounds it, `place` on one side
    and `other` on the other. code: something printed that can be read.
    """

    kind: Literal["surface", "main", "hole", "boss", "edge", "ridge", "gap", "code"] | ProfileMark
    place: Place
    centre: Place
    height: float = 0.0
    size: float = 0.0
    other: Place | None = None

    def near(self, other: Landmark) -> bool:
        """Whether both belong to one thing on the part."""
        reach = 0.75 * max(self.size, other.size, 2.0) + 1.0
        return math.dist(self.centre, other.centre) <= reach


def landmarks(data: HeightMap, plane: Plane) -> tuple[Landmark, ...]:
    """All raised regions of a plane on a map."""
    x, y = np.meshgrid(data.x, data.y)
    height = np.asarray(data.z, np.float64) - plane.height_at(x, y)
    on_part = _part(data)
    found = list(_surfaces(data, height, on_part))
    found += _rims(data, found, height, on_part)
    found += _ridges(data, height, on_part, found)
    found += _sides(data, on_part)
    found += [gap for mark in found if mark.kind == "surface" for gap in _gaps(data, height, mark)]
    found += _codes(data)
    return tuple(found)


def _part(data: HeightMap) -> BoolArray:
    """Mask of the part: inside its box, without the borders of the scan."""
    box = part_box(data)
    x0, x1, y0, y1 = data.extent if box is None else box
    inside = (data.x[None, :] >= x0) & (data.x[None, :] <= x1)
    return inside & (data.y[:, None] >= y0) & (data.y[:, None] <= y1)


def _surfaces(data: HeightMap, height: FloatArray, on_part: BoolArray) -> Iterator[Landmark]:
    """Level pieces, the largest first: of each the place with most room around it."""
    known = height[on_part & ~np.isnan(height)]
    if known.size == 0:
        return
    low, high = np.percentile(known, [0.2, 99.8])
    counts, edges = np.histogram(known, max(int((high - low) / BIN), 8), (low, high))
    smooth = scipy.ndimage.gaussian_filter1d(counts.astype(float), 1.5)
    least = SMALLEST / (data.grid.dx * data.grid.dy)
    peaks = [
        k
        for k in np.argsort(-smooth)
        if smooth[k] * 2 * LEVEL / BIN >= least / 4 and smooth[k] >= smooth[max(k - 1, 0) : k + 2].max()
    ]
    levels: list[float] = []
    for k in peaks:
        level = float(edges[k] + edges[k + 1]) / 2
        if all(abs(level - other) >= APART for other in levels):
            levels.append(level)
    # what lies nearly as high as the main surface but apart from it is a surface of its own
    masks = [(level, np.abs(height - level) <= LEVEL) for level in levels]
    masks.append((0.0, np.abs(height) <= NEARLY))
    pieces = [piece for level, mask in masks for piece in _pieces(data, height, mask & on_part)]
    pieces.sort(key=lambda piece: -piece.size)
    main = next((p for p in pieces if abs(p.height) <= APART / 2), None)
    kept: list[Landmark] = []
    for piece in pieces[:MOST]:
        kind: Literal["main", "surface"] = "main" if piece is main else "surface"
        # the wider look finds again what has a level of its own
        if not any(math.dist(piece.centre, k.centre) < 1.0 and 0.8 < piece.size / k.size < 1.25 for k in kept):
            kept.append(replace(piece, kind=kind))
    yield from kept


def _pieces(data: HeightMap, height: FloatArray, mask: BoolArray) -> Iterator[Landmark]:
    """The pieces of a mask that are wide enough to be surfaces."""
    grid, cell = data.grid, data.grid.dx * data.grid.dy
    labels, number = scipy.ndimage.label(scipy.ndimage.binary_opening(mask, np.ones((3, 3), bool)))
    sizes = np.bincount(labels.ravel(), minlength=number + 1) * cell
    for k, piece in enumerate(scipy.ndimage.find_objects(labels), 1):
        if sizes[k] < SMALLEST:
            continue
        own = labels[piece] == k
        inner = _depth(own, grid.dx, grid.dy)
        row, col = np.unravel_index(int(np.argmax(inner)), inner.shape)
        if inner[row, col] < WIDEST_NARROW:
            continue
        x, y = data.x[piece[1]], data.y[piece[0]]
        centre = (float(x[[0, -1]].mean()), float(y[[0, -1]].mean()))
        level = float(np.median(height[piece][own]))
        place = (float(x[col]), float(y[row]))
        yield Landmark("surface", place, centre, level, math.sqrt(float(sizes[k])))


def _depth(mask: BoolArray, dx: float, dy: float) -> FloatArray:
    """Distance of each point of a mask from its border, mm."""
    found: FloatArray = scipy.ndimage.distance_transform_edt(np.pad(mask, 1), sampling=(dy, dx))[1:-1, 1:-1]
    return found


def _rims(data: HeightMap, surfaces: list[Landmark], height: FloatArray, on_part: BoolArray) -> list[Landmark]:
    """Round holes and bosses about surfaces, and holes that nothing lies in."""
    places = [place for mark in surfaces for place in (mark.place, mark.centre)]
    open_ = on_part & (np.isnan(height) | (height < -0.5))
    labels, _ = scipy.ndimage.label(scipy.ndimage.binary_opening(open_, np.ones((3, 3), bool)))
    least = SMALLEST / (data.grid.dx * data.grid.dy)
    for k, piece in enumerate(scipy.ndimage.find_objects(labels), 1):
        if len(places) < 4 * MOST and np.count_nonzero(labels[piece] == k) >= least:
            places.append(
                (float(data.x[piece[1]].mean()), float(data.y[piece[0]].mean())),
            )
    found: list[Landmark] = []
    for place in places:
        try:
            seen = seen_at(data, *place)
        except NotMeasured:
            continue
        if seen.what not in ("hole", "boss"):
            continue
        size = seen.zone.width - RING_ROOM
        centre = (seen.zone.x, seen.zone.y)
        same = (m for m in found if m.kind == seen.what and math.dist(m.centre, centre) < 0.5)
        if all(abs(m.size - size) > 0.5 for m in same):
            kind: Literal["hole", "boss"] = "hole" if seen.what == "hole" else "boss"
            found.append(Landmark(kind, place, centre, size=size))
    return found


def _ridges(
    data: HeightMap, height: FloatArray, on_part: BoolArray, surfaces: list[Landmark]
) -> Iterator[Landmark]:
    """Long narrow raised regions, such as beads: of each a place on its top."""
    mask = on_part & (height >= RAISED)
    grid = data.grid
    labels, _ = scipy.ndimage.label(mask)
    for k, piece in enumerate(scipy.ndimage.find_objects(labels), 1):
        own = labels[piece] == k
        area = np.count_nonzero(own) * grid.dx * grid.dy
        if area < RIDGE_AREA:
            continue
        inner = _depth(own, grid.dx, grid.dy)
        half = float(inner.max())
        if half > WIDEST_RIDGE or area / half**2 < SLENDER:
            continue
        top = np.where(inner >= 0.7 * half, height[piece], -np.inf)
        row, col = np.unravel_index(int(np.argmax(top)), top.shape)
        place = (float(data.x[piece[1]][col]), float(data.y[piece[0]][row]))
        yield Landmark("ridge", place, place, float(top[row, col]), half)


def _sides(data: HeightMap, on_part: BoolArray) -> Iterator[Landmark]:
    """The four sides of the part, in the middle of each; the part may lie turned."""
    known = on_part & ~np.isnan(data.z)
    low = float(np.nanpercentile(data.z[known], 2)) if known.any() else 0.0
    border = known & (data.z > low + 0.5)
    rows, cols = np.nonzero(border if border.any() else known)
    if rows.size < 50:
        return
    points = np.column_stack([data.x[cols], data.y[rows]])
    hull = points[scipy.spatial.ConvexHull(points).vertices]
    sides = np.diff(np.vstack([hull, hull[:1]]), axis=0)
    turns = np.arctan2(sides[:, 1], sides[:, 0]) % (np.pi / 2)
    best = min(turns, key=lambda turn: float(np.prod(np.ptp(_turned(hull, -turn), axis=0))))
    ends = _turned(hull, -best)
    (u0, v0), (u1, v1) = ends.min(axis=0), ends.max(axis=0)
    middle = ((u0 + u1) / 2, (v0 + v1) / 2)
    inner = 1.0
    for u, v, size in (
        (u0 + inner, middle[1], v1 - v0),
        (u1 - inner, middle[1], v1 - v0),
        (middle[0], v0 + inner, u1 - u0),
        (middle[0], v1 - inner, u1 - u0),
    ):
        (x, y) = _turned(np.array([[u, v]]), best)[0]
        yield Landmark("edge", (float(x), float(y)), (float(x), float(y)), size=float(size))


def _turned(points: FloatArray, angle: float) -> FloatArray:
    c, s = math.cos(angle), math.sin(angle)
    found: FloatArray = points @ np.array([[c, s], [-s, c]])
    return found


def _gaps(data: HeightMap, height: FloatArray, surface: Landmark) -> Iterator[Landmark]:
    """Narrow openings between a surface and its surroundings, searched both ways along x and y."""
    grid = data.grid
    col = int(np.clip(round((surface.place[0] - grid.x0) / grid.dx), 0, height.shape[1] - 1))
    row = int(np.clip(round((surface.place[1] - grid.y0) / grid.dy), 0, height.shape[0] - 1))
    for along, step, way in (
        (height[row, col:], grid.dx, (1, 0)),
        (height[row, col::-1], grid.dx, (-1, 0)),
        (height[row:, col], grid.dy, (0, 1)),
        (height[row::-1, col], grid.dy, (0, -1)),
    ):
        level = np.abs(along - surface.height) <= 2 * LEVEL
        off = np.flatnonzero(~level)
        if off.size == 0:
            continue
        first = int(off[0])
        beyond = along[first : first + int(GAP / step)]
        back = np.flatnonzero(np.abs(beyond) <= 4 * LEVEL)
        if back.size == 0 or back[0] * step < 0.15:
            continue
        if np.nanmax(np.append(beyond[: back[0]], -np.inf)) > max(surface.height, 0.0) - 0.2:
            continue
        near, far = first * step - BESIDE, (first + int(back[0])) * step + BESIDE
        x, y = surface.place
        sides = [(x + way[0] * at, y + way[1] * at) for at in (near, far)]
        middle = ((sides[0][0] + sides[1][0]) / 2, (sides[0][1] + sides[1][1]) / 2)
        size = float(back[0]) * step
        yield Landmark("gap", sides[0], middle, surface.height, size, sides[1])


def _codes(data: HeightMap) -> Iterator[Landmark]:
    """Printed codes anywhere on the map."""
    if data.intensity is None:
        return
    grid = data.grid
    grey = np.ascontiguousarray(data.intensity.astype(np.uint8))
    # codes are read from square points
    tall = max(1, round(grid.dy / grid.dx)) if grid.dy > grid.dx else 1
    wide = max(1, round(grid.dx / grid.dy)) if grid.dx > grid.dy else 1
    image = np.repeat(np.repeat(grey, tall, axis=0), wide, axis=1)
    for code in zxingcpp.read_barcodes(image):
        corner = code.position
        ends = (corner.top_left, corner.top_right, corner.bottom_left, corner.bottom_right)
        col, row = (float(np.mean([getattr(p, axis) for p in ends])) for axis in ("x", "y"))
        place = (grid.x0 + grid.dx * col / wide, grid.y0 + grid.dy * row / tall)
        size = math.dist((ends[0].x, ends[0].y), (ends[3].x, ends[3].y)) * grid.dx / wide
        yield Landmark("code", place, place, size=size)
