"""Height maps as coloured pictures, for screens and pages."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import ByteArray, FloatArray
from hemtra.core.compiled import compiled, lean
from hemtra.core.maps.heightmap import HeightMap
from hemtra.core.parallel_rows import in_halves
from hemtra.core.rendering.colouring import isolines

SHADE_DEPTH = 0.55
"""Largest darkening by hill shading, 0 to 1."""
SHADE_GAIN = 0.7
"""Shading per unit of slope: small steps show well before walls have all they can have."""


WORTH_TWO = 500_000
"""Points from which a second thread is worth its start."""
LIGHTS = 65
"""Steps of shading from darkest to lightest; the middle one is flat."""


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
    z = view_heights(data.z, *_indices(data, view))
    per_mm = (palette.shape[0] - 1) / max(high - low, 1e-12)
    packed = _colour(z, _shaded(palette, shade), low, per_mm, SHADE_GAIN / view.scale)
    return packed.view(np.uint8).reshape(*packed.shape, 4)


def grey_picture(data: HeightMap, view: View) -> ByteArray:
    """(height, width, 4) uint8 RGBA of the intensity; transparent where there is none."""
    z = view_heights(data.z, *_indices(data, view))
    shown = np.zeros((view.height, view.width, 4), np.uint8)
    if data.intensity is not None:
        level = view_heights(data.intensity.astype(np.float32), *_indices(data, view))
        shown[..., :3] = np.nan_to_num(level)[..., None].astype(np.uint8)
        shown[..., 3] = np.where(np.isnan(z), 0, 255)
    return shown


def isoline_picture(data: HeightMap, view: View, pixels: ByteArray, step: float) -> ByteArray:
    """A picture (height, width, 4) with dark lines where the map crosses multiples of a step in mm."""
    lines = isolines(view_heights(data.z, *_indices(data, view)), step)
    drawn = pixels.copy()
    drawn[..., :3][lines] = drawn[..., :3][lines] // 3
    return drawn


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


def view_heights(
    z: NDArray[np.float32], rows: NDArray[np.int64], cols: NDArray[np.int64]
) -> NDArray[np.float32]:
    """(height, width) float32 means over spans of rows and columns, NaN where there is no data."""
    found = np.full((rows.shape[0], cols.shape[0]), np.nan, np.float32)

    def some(part: slice) -> None:
        pixel_heights(z, rows[part], cols, found[part])

    in_halves(some, len(rows), worth=z.size > WORTH_TWO)
    return found


@compiled
def pixel_heights(
    z: NDArray[np.float32],
    rows: NDArray[np.int64],
    cols: NDArray[np.int64],
    found: NDArray[np.float32],
) -> None:
    """Fill found (height, width), NaN before, with means over spans of rows and columns where there is data.

    Each row of pixels first adds its rows of points, all columns at once, then each pixel its columns: the long
    loop runs along memory and in vector registers.
    """
    sums, counts = np.empty(z.shape[1], np.float32), np.empty(z.shape[1], np.float32)
    for i in range(rows.shape[0]):
        first, last = rows[i, 0], rows[i, 1]
        if first < 0:
            continue
        if first == last:
            _take_row(z[first], cols, found[i])
            continue
        _add_rows(z, first, last, sums, counts)
        for j in range(cols.shape[0]):
            if cols[j, 0] < 0:
                continue
            total, count = np.float32(0.0), np.float32(0.0)
            for c in range(cols[j, 0], cols[j, 1] + 1):
                total += sums[c]
                count += counts[c]
            if count > 0:
                found[i, j] = total / count


@lean
def _add_rows(
    z: NDArray[np.float32], first: int, last: int, sums: NDArray[np.float32], counts: NDArray[np.float32]
) -> None:
    """Sums and counts of the heights of some rows, by column, without missing ones."""
    sums[:] = 0.0
    counts[:] = 0.0
    for r in range(first, last + 1):
        row = z[r]
        for c in range(row.size):
            there = row[c] == row[c]
            sums[c] += row[c] if there else np.float32(0.0)
            counts[c] += np.float32(1.0) if there else np.float32(0.0)


@lean
def _take_row(row: NDArray[np.float32], cols: NDArray[np.int64], found: NDArray[np.float32]) -> None:
    """Paint a row of pixels from a row of points."""
    for j in range(cols.shape[0]):
        if cols[j, 0] < 0:
            continue
        if cols[j, 0] == cols[j, 1]:
            found[j] = row[cols[j, 0]]
            continue
        total, count = np.float32(0.0), 0
        for c in range(cols[j, 0], cols[j, 1] + 1):
            if row[c] == row[c]:
                total += row[c]
                count += 1
        if count:
            found[j] = total / np.float32(count)


@compiled
def _colour(
    z: NDArray[np.float32], colours: NDArray[np.uint32], low: float, per_mm: float, gain: float
) -> NDArray[np.uint32]:
    """Look up one packed colour per pixel in a table of (lights, heights); 0 without data."""
    height, width = z.shape
    shown = np.zeros((height, width), np.uint32)
    lights, top = colours.shape[0], colours.shape[1] - 1
    middle = (lights - 1) * np.float32(0.5)
    # single precision throughout: twice as many pixels in a register, and colours need no more
    start, step, steep = np.float32(low), np.float32(per_mm), np.float32(gain)
    for i in range(height):
        row, above = z[i], z[max(i - 1, 0)]
        left = np.float32(np.nan)
        for j in range(width):
            value = row[j]
            if value == value:
                slope = np.float32(0.0)
                if left == left:
                    slope += value - left
                if above[j] == above[j]:
                    slope += value - above[j]
                lit = min(max(steep * slope, np.float32(-1.0)), np.float32(1.0))
                light = np.int32(middle + middle * lit + np.float32(0.5))
                place = min(max((value - start) * step, np.float32(0.0)), np.float32(top))
                shown[i, j] = colours[light, np.int32(place)]
            left = value
    return shown


def _shaded(palette: ByteArray, shade: float) -> NDArray[np.uint32]:
    """(LIGHTS, n) packed RGBA of a palette from its darkest to its lightest shading."""
    light = 1.0 + shade * SHADE_DEPTH * np.linspace(-1.0, 1.0, LIGHTS)
    table = np.full((LIGHTS, palette.shape[0], 4), 255, np.uint8)
    table[..., :3] = np.clip(light[:, None, None] * palette, 0, 255)
    return table.view(np.uint32)[..., 0]
