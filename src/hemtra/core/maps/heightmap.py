"""Height maps: what a laser-profile sensor and an encoder make of a part."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, DTypeLike, NDArray

from hemtra.core.arrays import BoolArray, ByteArray, FloatArray
from hemtra.core.errors import HemtraError


@dataclass(frozen=True, slots=True)
class Grid:
    """Grid of a height map: column j at x0 + j dx, row i at y0 + i dy, all in mm."""

    x0: float
    y0: float
    dx: float
    dy: float

    def __post_init__(self) -> None:
        if not all(map(math.isfinite, (self.x0, self.y0, self.dx, self.dy))):
            raise HemtraError("The grid of a height map needs finite numbers.")
        if self.dx <= 0 or self.dy <= 0:
            raise HemtraError(f"The spacing of a height map must be above zero, not {self.dx} × {self.dy} mm.")

    def shifted(self, rows: int, cols: int) -> Grid:
        """The grid that starts at the given row and column of this one."""
        return Grid(self.x0 + cols * self.dx, self.y0 + rows * self.dy, self.dx, self.dy)


class HeightMap:
    """Heights on a regular x/y grid, immutable.

    z: (rows, cols) float32 in mm, NaN where there is no data; row = y (along travel), column = x (along
    the laser line). intensity: (rows, cols) uint8 on the same grid, or None. dx, dy: spacing in mm; x0, y0:
    position in mm of the first column and row. Raises `HemtraError` when the arrays do not fit together.
    """

    def __init__(
        self,
        z: ArrayLike,
        intensity: ArrayLike | None = None,
        dx: float = 0.1,
        dy: float = 0.1,
        x0: float = 0.0,
        y0: float = 0.0,
    ) -> None:
        self.grid = Grid(float(x0), float(y0), float(dx), float(dy))
        heights = _owned(np.asarray(z, dtype=np.float32))
        if heights.ndim != 2 or heights.size == 0:
            raise HemtraError(f"A height map needs rows and columns of heights, not shape {heights.shape}.")
        infinite = np.isinf(heights)
        if infinite.any():
            heights = np.where(infinite, np.float32(np.nan), heights)
        self.z: NDArray[np.float32] = frozen(heights)
        self.intensity: ByteArray | None = None
        if intensity is not None:
            grey = _owned(np.asarray(intensity, dtype=np.uint8))
            if grey.shape != heights.shape:
                raise HemtraError(f"Intensity {grey.shape} and heights {heights.shape} differ in shape.")
            self.intensity = frozen(grey)

    def __repr__(self) -> str:
        (rows, cols), grid = self.shape, self.grid
        heights = "no data"
        if not self.is_empty:
            low, high = float(np.nanmin(self.z)), float(np.nanmax(self.z))
            heights = f"z {low:.3f} … {high:.3f} mm, {100.0 * self.data_share:.1f} % with data"
        light = "" if self.intensity is None else ", intensity"
        return f"HeightMap({rows} × {cols} points, {grid.dx:g} × {grid.dy:g} mm apart, {heights}{light})"

    def __getstate__(self) -> dict[str, Any]:
        """What it is made of, without what was derived from it."""
        return {"grid": self.grid, "z": self.z, "intensity": self.intensity}

    def __setstate__(self, state: dict[str, Any]) -> None:
        """In another process arrays could be written to again, and loops would be compiled for that too."""
        self.__dict__.update(state)
        frozen(self.z)
        if self.intensity is not None:
            frozen(self.intensity)

    def __array__(self, dtype: DTypeLike | None = None, copy: bool | None = None) -> NDArray[Any]:
        """Its heights, for NumPy."""
        if copy is False and dtype is not None and np.dtype(dtype) != self.z.dtype:
            raise ValueError("heights are float32; another type needs a copy")
        return np.array(self.z, dtype, copy=copy)

    @property
    def shape(self) -> tuple[int, int]:
        """(rows, cols)"""
        return (self.z.shape[0], self.z.shape[1])

    @property
    def x(self) -> FloatArray:
        """(cols,) float64 positions in mm."""
        return self.grid.x0 + self.grid.dx * np.arange(self.shape[1])

    @property
    def y(self) -> FloatArray:
        """(rows,) float64 positions in mm."""
        return self.grid.y0 + self.grid.dy * np.arange(self.shape[0])

    @property
    def extent(self) -> tuple[float, float, float, float]:
        """x from, x to, y from, y to of the outermost points in mm."""
        (rows, cols), g = self.shape, self.grid
        return g.x0, g.x0 + g.dx * (cols - 1), g.y0, g.y0 + g.dy * (rows - 1)

    @cached_property
    def data_share(self) -> float:
        """Share of the points that hold data, 0 to 1."""
        return 1.0 - float(np.count_nonzero(np.isnan(self.z))) / self.z.size

    @cached_property
    def is_empty(self) -> bool:
        """Whether no point holds data."""
        # a row through the part settles it, but for maps that hold next to nothing
        return bool(np.isnan(self.z[self.shape[0] // 2]).all() and np.isnan(self.z).all())

    @cached_property
    def seen_intensity(self) -> NDArray[np.float32] | None:
        """(rows, cols) intensity, NaN where there is no height; None on a map without intensity."""
        if self.intensity is None:
            return None
        return frozen(np.where(np.isnan(self.z), np.float32(np.nan), self.intensity.astype(np.float32)))

    def is_same(self, other: HeightMap) -> bool:
        """Whether both hold the same scan; a plan's reference is read apart from the tray's parts."""
        if self is other:
            return True
        return self.grid == other.grid and np.array_equal(self.z, other.z, equal_nan=True)

    def height_at(self, x: float, y: float) -> float | None:
        """Height of the nearest grid point in mm; None where there is no data or no scan."""
        place = self._nearest(x, y)
        return None if place is None or np.isnan(self.z[place]) else float(self.z[place])

    def intensity_at(self, x: float, y: float) -> int | None:
        """Intensity of the nearest grid point, 0 to 255; None without data, scan or intensity there."""
        place = self._nearest(x, y)
        if place is None or self.intensity is None or np.isnan(self.z[place]):
            return None
        return int(self.intensity[place])

    def _nearest(self, x: float, y: float) -> tuple[int, int] | None:
        g, (rows, cols) = self.grid, self.shape
        row, col = round((y - g.y0) / g.dy), round((x - g.x0) / g.dx)
        return (row, col) if 0 <= row < rows and 0 <= col < cols else None


@dataclass(frozen=True)
class Profile:
    """One cross-section: x and z in mm, intensity 0 to 255 or None, (n,) each; z is NaN without data."""

    x: FloatArray
    z: FloatArray
    intensity: FloatArray | None = None

    @property
    def valid(self) -> BoolArray:
        """(n,) which points hold data."""
        return ~np.isnan(self.z)


def _owned(array: NDArray[Any]) -> NDArray[Any]:
    """A contiguous array that nobody outside can write to; already frozen ones are shared."""
    return np.ascontiguousarray(array) if not array.flags.writeable else np.array(array, order="C")


def frozen(array: NDArray[Any]) -> NDArray[Any]:
    """The array, which nobody can write to any more, as those of maps: code is compiled once for both."""
    array.flags.writeable = False
    return array
