"""Height maps as coloured pictures, for screens and pages."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.scan.heightmap import HeightMap

SHADE_DEPTH = 0.55
"""How much the hill shading darkens at most, 0 to 1."""
SHADE_GAIN = 0.9
"""Shading per unit of slope: half the effect at 45°, so that small steps show and walls do not drown them."""


@dataclass(frozen=True)
class View:
    """A rectangle of the scan on `width` × `height` pixels: left and top edge in mm, y up, mm per pixel."""

    left: float
    top: float
    scale: float
    width: int
    height: int


def picture(
    data: HeightMap, view: View, palette: ByteArray, low: float, high: float, shade: float = 1.0
) -> ByteArray:
    """(height, width, 4) uint8 RGBA of the heights between low and high mm, blended with hill shading.

    palette: (n, 3) uint8. A pixel that covers several points shows their mean without missing ones, otherwise
    the nearest point; without data it is transparent. shade: 0 none, 1 full, lit from the upper left.
    """
    z = pixel_heights(data.z, *_indices(data, view))
    return _colour(z, palette, low, high, shade, view.scale)


def grey_picture(data: HeightMap, view: View) -> ByteArray:
    """(height, width, 4) uint8 RGBA of the intensity; transparent where there is none."""
    z = pixel_heights(data.z, *_indices(data, view))
    shown = np.zeros((view.height, view.width, 4), np.uint8)
    if data.intensity is not None:
        level = pixel_heights(data.intensity.astype(np.float32), *_indices(data, view))
        shown[..., :3] = np.nan_to_num(level)[..., None].astype(np.uint8)
        shown[..., 3] = np.where(np.isnan(z), 0, 255)
    return shown


def _indices(data: HeightMap, view: View) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(height, 2) rows and (width, 2) columns from, to of the points under each pixel; -1, -1 for none."""
    grid, (rows, cols) = data.grid, data.shape
    x = (view.left + view.scale * np.arange(view.width + 1) - grid.x0) / grid.dx
    y = (view.top - view.scale * np.arange(view.height + 1) - grid.y0) / grid.dy
    return _spans(y[1:], y[:-1], rows), _spans(x[:-1], x[1:], cols)


def _spans(low: FloatArray, high: FloatArray, count: int) -> NDArray[np.int64]:
    first, last = np.ceil(low).astype(np.int64), np.ceil(high).astype(np.int64) - 1
    nearest = np.floor((low + high) / 2 + 0.5).astype(np.int64)
    narrow = last < first
    first, last = np.where(narrow, nearest, first), np.where(narrow, nearest, last)
    outside = (last < 0) | (first >= count)
    spans = np.stack([np.clip(first, 0, count - 1), np.clip(last, 0, count - 1)], axis=1)
    spans[outside] = -1
    return spans


@njit(cache=True, nogil=True)
def pixel_heights(
    z: NDArray[np.float32], rows: NDArray[np.int64], cols: NDArray[np.int64]
) -> NDArray[np.float32]:
    """(height, width) float32 means over spans of rows and columns, NaN where there is no data."""
    found = np.full((rows.shape[0], cols.shape[0]), np.nan, np.float32)
    for i in range(rows.shape[0]):
        if rows[i, 0] < 0:
            continue
        for j in range(cols.shape[0]):
            if cols[j, 0] < 0:
                continue
            total, count = 0.0, 0
            for r in range(rows[i, 0], rows[i, 1] + 1):
                for c in range(cols[j, 0], cols[j, 1] + 1):
                    value = z[r, c]
                    if value == value:
                        total += value
                        count += 1
            if count:
                found[i, j] = total / count
    return found


@njit(cache=True, nogil=True)
def _colour(
    z: NDArray[np.float32], palette: ByteArray, low: float, high: float, shade: float, scale: float
) -> ByteArray:
    height, width = z.shape
    shown = np.zeros((height, width, 4), np.uint8)
    top = palette.shape[0] - 1
    per_mm = top / max(high - low, 1e-12)
    for i in range(height):
        above = max(i - 1, 0)
        for j in range(width):
            value = z[i, j]
            if value != value:
                continue
            k = int(min(max((value - low) * per_mm, 0.0), float(top)))
            left, up = z[i, max(j - 1, 0)], z[above, j]
            slope = 0.0
            if left == left:
                slope += value - left
            if up == up:
                slope += value - up
            lit = SHADE_GAIN * slope / scale
            light = 1.0 + shade * SHADE_DEPTH * lit / (1.0 + abs(lit))
            for band in range(3):
                shown[i, j, band] = np.uint8(min(255.0, palette[k, band] * light))
            shown[i, j, 3] = 255
    return shown
