"""The surface of a height map as triangles with colours, at full detail or coarser."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import BoolArray, ByteArray, FloatArray, Heights, IntArray
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.maps.reduce import block_means

WALL = 1.2
"""Height difference that no triangle spans, mm: a wall has no data."""
LIGHT = np.array([-0.45, 0.35, 0.82])
AMBIENT = 0.45


@dataclass(frozen=True)
class Mesh:
    """Points (n, 3) float32 in mm, colours (n, 4) uint8, and triangles (m, 3) uint32."""

    points: Heights
    colours: ByteArray
    triangles: IntArray


def surface(
    data: HeightMap, most: int, palette: ByteArray, span: tuple[float, float], values: HeightMap | None = None
) -> Mesh:
    """The surface with at most so many points, coloured by values on its grid over a span.

    values: None for its intensity. palette: (256, 3) uint8.
    """
    rows, cols = data.shape
    fold = max(1, math.ceil(math.sqrt(rows * cols / most)))
    z = data.z if fold == 1 else block_means(data.z, fold, fold).astype(np.float32)
    g = data.grid
    dx, dy = g.dx * fold, g.dy * fold
    x = g.x0 + g.dx * (fold - 1) / 2 + dx * np.arange(z.shape[1], dtype=np.float32)
    y = g.y0 + g.dy * (fold - 1) / 2 + dy * np.arange(z.shape[0], dtype=np.float32)
    points = np.empty((*z.shape, 3), np.float32)
    points[..., 0], points[..., 1], points[..., 2] = x[None, :], y[:, None], z
    there = ~np.isnan(z)
    level = np.where(there, z, np.float32(0.0))
    tint = _tints(data, values, fold, palette, span)
    shade = _shade(level, dx, dy)
    colours = np.empty((*z.shape, 4), np.uint8)
    colours[..., :3] = np.clip(tint * shade[..., None], 0, 255).astype(np.uint8)
    colours[..., 3] = 255
    points[..., 2] = level
    return Mesh(
        points.reshape(-1, 3), colours.reshape(-1, 4), _triangles(level, there, WALL * max(1.0, fold / 2))
    )


def _tints(
    data: HeightMap, values: HeightMap | None, fold: int, palette: ByteArray, span: tuple[float, float]
) -> FloatArray:
    """(rows, cols, 3) colours of the points."""
    source = data.intensity if values is None else values.z
    if source is None:
        source = np.full(data.shape, 160, np.uint8)
    value = block_means(source.astype(np.float32), fold, fold) if fold > 1 else source
    if values is None:
        tints: FloatArray = np.repeat(np.asarray(value, np.float32)[..., None], 3, axis=2)
        return tints
    low, high = span
    scaled = np.nan_to_num((value - low) * (255.0 / max(high - low, 1e-9)))
    coloured: FloatArray = palette[np.clip(scaled, 0, 255).astype(np.uint8)].astype(np.float32)
    return coloured


def _shade(level: Heights, dx: float, dy: float) -> FloatArray:
    """Brightness of the surface under a lamp from the upper left."""
    gy, gx = np.gradient(level, dy, dx)
    length = np.sqrt(gx * gx + gy * gy + 1.0)
    lit = (-gx * LIGHT[0] - gy * LIGHT[1] + LIGHT[2]) / length
    shade: FloatArray = AMBIENT + (1.25 - AMBIENT) * np.clip(lit, 0.0, 1.0)
    return shade


def _triangles(level: Heights, there: BoolArray, wall: float) -> IntArray:
    """Two triangles for each cell whose corners are all there and no wall apart."""
    corners = (level[:-1, :-1], level[:-1, 1:], level[1:, :-1], level[1:, 1:])
    whole = there[:-1, :-1] & there[:-1, 1:] & there[1:, :-1] & there[1:, 1:]
    low = np.minimum(np.minimum(corners[0], corners[1]), np.minimum(corners[2], corners[3]))
    high = np.maximum(np.maximum(corners[0], corners[1]), np.maximum(corners[2], corners[3]))
    whole &= high - low <= wall
    i, j = np.nonzero(whole)
    a = (i * level.shape[1] + j).astype(np.uint32)
    below = a + np.uint32(level.shape[1])
    triangles = np.empty((len(a), 2, 3), np.uint32)
    triangles[:, 0] = np.column_stack([a, a + 1, below + 1])
    triangles[:, 1] = np.column_stack([a, below + 1, below])
    return triangles.reshape(-1, 3)
