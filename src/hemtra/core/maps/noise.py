"""The noise of a scan: how its points scatter from profile to profile, and copies of it with as much more."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray, Heights, IntArray
from hemtra.core.maps.heightmap import HeightMap

BLOCK = 32
"""Points of the map along a side of the blocks that are thought to scatter alike."""
TOGETHER = 4
"""Neighbours of a row whose mean gives the noise."""
ROWS = 48
"""Rows that give the noise of a whole map."""
FEWEST = 64
"""Differences that give the noise of a block; with fewer it is that of the whole map."""
BLURRED = 0.5
"""Noise, as a share of the step between heights, from which on a mean is as good as that of exact heights."""
LOOKED_AT, FEWEST_STEPS = 4096, 8
"""Points that show the steps of a map, and how many heights they must hold."""
FINEST, OFF_STEP = 2e-6, 0.1
"""Least step as a share of the heights, which are of single precision; share of it that they may lie off."""
REGION, DRAWN, PRIME = 128, 65_536, 7919
"""Points along a side of regions whose heights were rounded apart from each other; random numbers for that."""
LEAST = 1e-6
"""mm; a scan is never without any."""


@dataclass(frozen=True)
class Noise:
    """Noise of a map: mm by which each point (rows, cols) scatters, as means over several feel it."""

    level: FloatArray
    step: float = 0.0
    """mm between heights that the map can hold, where its noise does not blur them; else 0."""

    @property
    def typical(self) -> float:
        """mm, the median over the map."""
        return float(np.median(self.level))

    def added_to(self, data: HeightMap, rng: np.random.Generator) -> HeightMap:
        """A copy of the map with noise like its own added."""
        noise = rng.standard_normal(data.shape, np.float32) * self.level.astype(np.float32)
        if self.step > 0.0:
            noise += self._unrounded(data.z, rng)
        g = data.grid
        return HeightMap(data.z + noise, data.intensity, g.dx, g.dy, g.x0, g.y0)

    def _unrounded(self, z: Heights, rng: np.random.Generator) -> Heights:
        """(rows, cols) mm by which what was rounded to the same height may lie off it, all over and by regions.

        No mean over many points takes that away.
        """
        rounded = np.rint(np.nan_to_num(z) / self.step).astype(np.int64)
        rows, cols = (np.arange(n) // REGION for n in z.shape)
        region = (rows[:, None] * (int(cols[-1]) + 1) + cols) * PRIME
        both = rng.uniform(-0.5, 0.5, (2, DRAWN)).astype(np.float32) * np.float32(self.step * math.sqrt(0.5))
        off: Heights = both[0][rounded % DRAWN] + both[1][(rounded + region) % DRAWN]
        return off


def noise_of(data: HeightMap) -> Noise:
    """By blocks of the map, from the third differences of four rows, which neither slopes nor bends add to.

    Points that were interpolated along a row share their noise with their neighbours: a mean over several
    scatters more than they do alone would suggest, so the noise is taken of means over `TOGETHER`.
    """
    rows, cols = data.shape
    whole = typical_noise(data)
    step = step_of(data.z)
    level = np.full((-(-rows // BLOCK), -(-cols // BLOCK)), whole)
    if rows >= 4:
        bend = _bend(data.z, np.arange(rows - 3))
        across = BLOCK // TOGETHER
        for i in range(level.shape[0]):
            for j in range(level.shape[1]):
                block = bend[i * BLOCK : (i + 1) * BLOCK, j * across : (j + 1) * across]
                known = block[~np.isnan(block)]
                if known.size >= FEWEST:
                    level[i, j] = max(_scatter(known), LEAST)
    spread = np.repeat(np.repeat(level, BLOCK, axis=0), BLOCK, axis=1)[:rows, :cols]
    return Noise(spread, step if whole < BLURRED * step else 0.0)


def step_of(z: Heights) -> float:
    """mm between the heights that a map holds; 0 where too few show it, or they are as fine as numbers are."""
    some = z[~np.isnan(z)][:: max(1, z.size // LOOKED_AT)].astype(np.float64)
    heights = np.unique(some)
    if heights.size < FEWEST_STEPS or 2 * heights.size > some.size:
        return 0.0
    apart = np.diff(heights)
    step = float(apart.min())
    whole = apart / step
    # of several thousand steps the first is not known well enough to count the others by
    fine = step < FINEST * float(np.abs(heights).max()) or np.abs(whole - np.rint(whole)).max() > OFF_STEP
    return 0.0 if fine else step


def typical_noise(data: HeightMap) -> float:
    """Standard deviation of a point over the whole map, from some of its rows, mm."""
    rows = data.shape[0]
    if rows < 4:
        return LEAST
    bend = _bend(data.z, np.unique(np.linspace(0, rows - 4, min(ROWS, rows - 3)).astype(int)))
    known = bend[~np.isnan(bend)]
    return max(_scatter(known), LEAST) if known.size else LEAST


def noise_within(z: Heights) -> float | None:
    """Standard deviation of a point of a window (rows, cols), mm; None with too few points."""
    if z.shape[0] < 4:
        return None
    bend = _bend(z, np.arange(z.shape[0] - 3))
    known = bend[~np.isnan(bend)]
    return max(_scatter(known), LEAST) if known.size >= FEWEST else None


def _bend(z: Heights, at: IntArray) -> FloatArray:
    """Third differences (n, cols / TOGETHER) of rows, of means of neighbours as if each were a point alone."""
    first, second, third, fourth = (z[at + k].astype(np.float64) for k in range(4))
    bend = fourth - 3.0 * (third - second) - first
    many = bend.shape[1] // TOGETHER
    together: FloatArray = bend[:, : many * TOGETHER].reshape(len(bend), many, TOGETHER).mean(axis=2)
    scaled: FloatArray = together * math.sqrt(TOGETHER)
    return scaled


def _scatter(bend: FloatArray) -> float:
    """Standard deviation of a point, from third differences of points that scatter alone."""
    return float(1.4826 * np.median(np.abs(bend)) / math.sqrt(20.0))
