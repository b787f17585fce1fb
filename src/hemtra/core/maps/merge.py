"""Several height maps on one grid, made into one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import ByteArray
from hemtra.core.maps.assemble import JUMP

Layer = tuple[NDArray[np.float32], ByteArray]
"""z and intensity (rows, cols), z NaN without data."""


def blend(layers: Sequence[Layer]) -> Layer:
    """Merge several maps on one grid; where they overlap, each fades out towards the border of its view.

    Where two differ by more than a step of the surface would let them, the one farther inside its view counts:
    a mean of the top and the toe of a wall would be neither.
    """
    z, grey = layers[0][0].copy(), layers[0][1].copy()
    if len(layers) == 1:
        return z, grey
    weight = _inwardness(z)[None, :] * ~np.isnan(z)
    for other_z, other_grey in layers[1:]:
        other_weight = _inwardness(other_z)[None, :] * ~np.isnan(other_z)
        total = weight + other_weight
        share = np.divide(other_weight, total, out=np.zeros_like(total), where=total > 0)
        apart = np.abs(other_z - z) > JUMP
        share = np.where(apart, np.round(share), share)
        both = (weight > 0) & (other_weight > 0)
        mixed = np.where(both, z + share * (other_z - z), np.where(other_weight > 0, other_z, z))
        tone = np.where(both, grey + share * (other_grey.astype(np.float64) - grey), 0.0)
        grey = np.where(both, (tone + 0.5).astype(np.uint8), np.where(other_weight > 0, other_grey, grey))
        z = mixed.astype(np.float32)
        weight = np.maximum(weight, other_weight)
    return z, grey


def _inwardness(z: NDArray[np.float32]) -> NDArray[np.float64]:
    """(cols,) how many columns lie between each one and the border of the view, at least 1 inside."""
    seen = np.flatnonzero(~np.isnan(z).all(axis=0))
    inward = np.zeros(z.shape[1])
    if seen.size:
        columns = np.arange(seen[0], seen[-1] + 1)
        inward[columns] = np.minimum(columns - seen[0], seen[-1] - columns) + 1.0
    return inward
