"""Targets of known geometry: frustums on a level base, as they stand on a drawing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from hemtra.core.arrays import FloatArray


@dataclass(frozen=True)
class Piece:
    """A frustum: its top face in mm, and how far its flanks run out per mm of height (0 = upright walls).

    half_x, half_y: half size of the top face; of a round one half_x is the radius.
    """

    x: float
    y: float
    half_x: float
    half_y: float
    top: float
    flank: float = 0.0
    round: bool = False


@dataclass(frozen=True)
class Target:
    """Pieces whose highest face counts at every place; below `base` there is only what it lies on."""

    name: str
    pieces: tuple[Piece, ...]
    base: float

    def height(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """z in mm at places in mm, NaN beside the target. Arrays of one shape."""
        z = np.full(np.shape(x), -np.inf)
        for piece in self.pieces:
            z = np.maximum(z, _height(piece, x, y))
        return np.where(z > self.base, z, np.nan)

    def slopes(self, x: FloatArray, y: FloatArray, reach: float = 0.02) -> tuple[FloatArray, FloatArray]:
        """dz/dx and dz/dy at places in mm, over twice the `reach`; NaN beside the target."""
        along_x = self.height(x + reach, y) - self.height(x - reach, y)
        along_y = self.height(x, y + reach) - self.height(x, y - reach)
        return along_x / (2 * reach), along_y / (2 * reach)


def _height(piece: Piece, x: FloatArray, y: FloatArray) -> FloatArray:
    """Height of one piece's top and flanks, -inf beside it."""
    if piece.round:
        outside = np.hypot(x - piece.x, y - piece.y) - piece.half_x
    else:
        outside = np.maximum(np.abs(x - piece.x) - piece.half_x, np.abs(y - piece.y) - piece.half_y)
    outside = np.maximum(outside, 0.0)
    if piece.flank == 0.0:
        return np.where(outside > 0.0, -np.inf, piece.top)
    sloped: FloatArray = piece.top - outside / piece.flank
    return sloped


def stepped_wedge(base: float, width: float = 250.0, steps: int = 9, rise: float = 1.5) -> Target:
    """The alignment target: a wedge of steps rising along x, its flanks at 45°, lying on `base`.

    Flanks across x show where a sensor stands beside the target, those across y where along travel, and the
    faces how high and how tilted; being sloped, they do so to a fraction of the sensor's spacing.
    """
    step, first = width / steps, base + 6.0
    half_y = 20.0
    pieces = []
    for k in range(steps):
        left, top = -width / 2 + k * step, first + k * rise
        pieces.append(Piece((left + width / 2) / 2, 0.0, (width / 2 - left) / 2, half_y - k * 0.5, top, 1.0))
    # a bar across the steps, so that every step has two more flanks across travel
    pieces.append(Piece(0.0, 0.0, width / 2, 5.0, first + steps * rise, 1.0))
    return Target("stepped wedge", tuple(pieces), base)
