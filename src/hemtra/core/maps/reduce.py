"""Coarser versions of height arrays."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import FloatArray


def block_means(values: FloatArray, rows: int, cols: int, least: float = 0.0) -> FloatArray:
    """Means over blocks of rows × cols points, without missing ones; the last blocks may be smaller.

    values: (r, c) with NaN where there is no data. A block that holds data in less than the share `least` of
    its points is NaN. Returns (ceil(r / rows), ceil(c / cols)) float64.
    """
    found = ~np.isnan(values)
    row_starts = np.arange(0, values.shape[0], rows)
    col_starts = np.arange(0, values.shape[1], cols)

    def block_sums(array: FloatArray) -> FloatArray:
        by_row: FloatArray = np.add.reduceat(array, row_starts, axis=0)
        sums: FloatArray = np.add.reduceat(by_row, col_starts, axis=1)
        return sums

    count = block_sums(found.astype(np.float64))
    total = block_sums(np.where(found, values, 0.0).astype(np.float64))
    enough = (count > 0) & (count >= least * rows * cols)
    means: FloatArray = np.divide(total, count, out=np.full(count.shape, np.nan), where=enough)
    return means
