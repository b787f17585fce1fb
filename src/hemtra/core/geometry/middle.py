"""Compiled median."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import FloatArray
from hemtra.core.compiled import lean


@lean
def middle_of(values: FloatArray, n: int) -> float:
    """The median of the first n of some values, which are put in another order (Hoare 1961); NaN of none."""
    if n == 0:
        return np.nan
    k, low, high = n // 2, 0, n - 1
    while low < high:
        pivot = values[(low + high) // 2]
        i, j = low, high
        while i <= j:
            while values[i] < pivot:
                i += 1
            while values[j] > pivot:
                j -= 1
            if i <= j:
                values[i], values[j] = values[j], values[i]
                i += 1
                j -= 1
        if k <= j:
            high = j
        elif k >= i:
            low = i
        else:
            break
    upper = float(values[k])
    if n % 2:
        return upper
    lower = -np.inf
    for i in range(k):
        lower = max(lower, float(values[i]))
    return (lower + upper) / 2
