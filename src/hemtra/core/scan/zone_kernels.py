"""Compiled loops over the masks of zones."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from hemtra.core.arrays import BoolArray


@njit(cache=True, nogil=True)
def fill_spans(first: NDArray[np.int64], last: NDArray[np.int64], cols: int) -> BoolArray:
    """(rows, cols) mask that holds the columns from `first` up to, not with, `last` of each row."""
    inside = np.zeros((first.size, cols), np.bool_)
    for i in range(first.size):
        inside[i, first[i] : max(last[i], first[i])] = True
    return inside
