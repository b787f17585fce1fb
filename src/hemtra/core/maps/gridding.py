"""Clouds of points laid on a grid: one height a cell."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import scipy  # its parts load when they are used first
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray, ByteArray, FloatArray, IntArray
from hemtra.core.compiled import lean
from hemtra.core.errors import HemtraError

Take = Literal["mean", "highest", "median"]
"""Choice among the heights of the points in a cell."""
SAMPLE = 20_000
"""Points that the spacing of a cloud is found from."""
REGULAR = 0.5
"""Share of the places of a grid that a cloud must fill to be one."""
DENSE = 4
"""Points in a usual cell from which on how full one is says where the cloud ends."""
SPARSEST, FEW = 40, 10_000
"""Places of a grid for each point of a cloud at most, and as many in any case."""
ROUNDS, TRIPLES, FEW_SAMPLE = 10, 300, 2000
"""Fit of the largest plane: rounds, planes tried through three points, and points used."""
SPREADS = 4.0
"""Median distances from the plane up to which a point belongs to it."""
STEP = 1e-6
"""Tolerance of places on one line of a grid, mm."""


def spacing_of(places: FloatArray) -> tuple[float, float]:
    """The spacing in x and y of a cloud's places (n, 2): of its grid where it is one, else that of neighbours.

    Raises `HemtraError` where there is nothing between them.
    """
    (x, columns), (y, rows) = (_lines(places[:, axis]) for axis in (0, 1))
    if min(columns, rows) > 1 and len(places) >= REGULAR * columns * rows:
        return _rounded(x), _rounded(y)
    middle = np.median(places, axis=0)
    near = np.argsort(np.abs(places - middle).max(axis=1), kind="stable")[:SAMPLE]
    some = places[near]
    if len(some) < 2:
        raise HemtraError("it holds too few points")
    found, _ = scipy.spatial.cKDTree(some).query(some, k=2)
    apart = np.asarray(found)[:, 1]
    between = apart[apart > 0.0]
    if not between.size:
        raise HemtraError("all of its points lie at one place")
    # of points strewn at random the nearest lies at half of the spacing of a grid of as many
    extent = np.ptp(some, axis=0)
    even = math.sqrt(float(extent[0] * extent[1]) / len(some)) if extent.min() > 0.0 else 0.0
    spacing = _rounded(max(float(np.median(between)), even))
    return spacing, spacing


def gridded(
    points: FloatArray,
    intensity: FloatArray | None,
    spacing: tuple[float, float],
    take: Take,
    most: int,
) -> tuple[NDArray[np.float32], ByteArray | None, float, float]:
    """Heights (rows, cols) of a cloud (n, 3), NaN in empty cells; intensity alike; x and y of the first cell.

    Each point goes to the cell about the nearest place of the grid. Where a dense cloud ends, a cell less than
    half full stays empty, since its middle lies beyond the end. Raises `HemtraError` where the grid would have
    more than `most` points.
    """
    dx, dy = spacing
    if not len(points):
        raise HemtraError("it holds no points")
    low, high = points[:, :2].min(axis=0), points[:, :2].max(axis=0)
    sides = np.floor((high - low) / spacing + 0.5) + 1
    if float(sides[0]) * float(sides[1]) > min(most, SPARSEST * len(points) + FEW):
        raise HemtraError(
            f"at {dx:g} × {dy:g} mm its {len(points)} points make a grid of {sides[0]:.6g} × {sides[1]:.6g},"
            " which is too many; leave out what lies far off, or give a coarser spacing"
        )
    cols, rows = (int(n) for n in sides)
    cells = np.floor((points[:, 1] - low[1]) / dy + 0.5).astype(np.int64) * cols
    cells += np.floor((points[:, 0] - low[0]) / dx + 0.5).astype(np.int64)
    z, counts = np.full(rows * cols, np.nan), np.zeros(rows * cols, np.int64)
    if take == "median":
        _fill_medians(cells, points[:, 2], z)
        counts = np.bincount(cells, minlength=rows * cols)
    else:
        _fill(cells, np.ascontiguousarray(points[:, 2]), take == "highest", z, counts)
    grey = None
    if intensity is not None:
        light, counts = np.full(rows * cols, np.nan), np.zeros(rows * cols, np.int64)
        _fill(cells, np.ascontiguousarray(intensity, np.float64), False, light, counts)
        grey = np.clip(np.nan_to_num(light), 0, 255).round().astype(np.uint8).reshape(rows, cols)
    z[_beyond_ends(counts.reshape(rows, cols)).ravel()] = np.nan
    return z.astype(np.float32).reshape(rows, cols), grey, float(low[0]), float(low[1])


def _beyond_ends(counts: IntArray) -> BoolArray:
    """Cells (rows, cols) at an end of a dense cloud that lie beyond it by more than half, by their points."""
    usual = float(np.median(counts[counts > 0]))
    if usual < DENSE:
        return np.zeros(counts.shape, np.bool_)
    full = counts >= usual / 2.0
    # what lies by itself is no end of anything
    beside = scipy.ndimage.binary_dilation(counts == 0, border_value=1) & scipy.ndimage.binary_dilation(
        full, np.ones((3, 3), np.bool_)
    )
    found: BoolArray = ~full & beside
    return found


def levelled(points: FloatArray) -> FloatArray:
    """A cloud turned about its middle so that the plane through most of it is horizontal, at z = 0."""
    middle = np.median(points, axis=0)
    some = points[:: max(1, len(points) // SAMPLE)] - middle
    centre, normal = _largest_plane(some[:: max(1, len(some) // FEW_SAMPLE)])
    for _ in range(ROUNDS):
        off = np.abs((some - centre) @ normal)
        near = some[off <= max(SPREADS * float(np.median(off)), 1e-6)]
        # the direction in which what lies near spreads least (total least squares)
        centre = near.mean(axis=0)
        normal = np.linalg.svd(near - centre, full_matrices=False)[2][2]
    normal = normal if normal[2] >= 0.0 else -normal
    across = np.cross(normal, [1.0, 0.0, 0.0])
    across /= np.linalg.norm(across)
    turn = np.stack([np.cross(across, normal), across, normal])
    turned: FloatArray = (points - middle) @ turn.T
    turned[:, 2] -= float((centre @ turn.T)[2])
    return turned


def _largest_plane(some: FloatArray) -> tuple[FloatArray, FloatArray]:
    """A point and the normal of the plane near which half of some points lie (least median, Rousseeuw 1984)."""
    rng = np.random.default_rng(0)
    one, two, three = (some[rng.integers(0, len(some), TRIPLES)] for _ in range(3))
    normals = np.cross(two - one, three - one)
    lengths = np.linalg.norm(normals, axis=1)
    real = lengths > 1e-9
    if not real.any():
        raise HemtraError("its points lie on one line, and no plane goes through most of them")
    normals, one = normals[real] / lengths[real, None], one[real]
    off = np.median(np.abs(some @ normals.T - (one * normals).sum(axis=1)), axis=0)
    best = int(np.argmin(off))
    return one[best], normals[best]


def _lines(places: FloatArray) -> tuple[float, int]:
    """Spacing of the lines of a grid that coordinates (n,) lie on, and how many there are; 0 where they do not.

    Of a sample, drawn at random: every so many of them could lie on the same few lines.
    """
    some = places
    if len(places) > SAMPLE:
        some = places[np.random.default_rng(0).integers(0, len(places), SAMPLE)]
    lines = np.unique(np.round(some / STEP) * STEP)
    if not 1 < len(lines) <= SAMPLE // 4:
        return 0.0, 0
    apart = float(np.median(np.diff(lines)))
    return apart, round(float(places.max() - places.min()) / apart) + 1


def _rounded(spacing: float) -> float:
    """To four digits, as a person would type it."""
    return float(f"{spacing:.4g}")


def _fill_medians(cells: IntArray, heights: FloatArray, z: FloatArray) -> None:
    """Write the median height of each cell into z."""
    order = np.lexsort((heights, cells))
    cells, heights = cells[order], heights[order]
    first = np.flatnonzero(np.diff(cells, prepend=-1))
    count = np.diff(np.append(first, len(cells)))
    z[cells[first]] = (heights[first + (count - 1) // 2] + heights[first + count // 2]) / 2.0


@lean
def _fill(cells: IntArray, heights: FloatArray, highest: bool, z: FloatArray, counts: IntArray) -> None:
    """Write the mean or the maximum height of each cell into z."""
    for k in range(cells.size):
        cell, height = cells[k], heights[k]
        if counts[cell] == 0:
            z[cell] = height
        elif highest:
            z[cell] = max(z[cell], height)
        else:
            z[cell] += (height - z[cell]) / (counts[cell] + 1)
        counts[cell] += 1
