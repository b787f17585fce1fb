"""Sorting networks: fixed compare-exchanges that bring the middle of some values into place."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray


@cache
def middle_network(places: int) -> NDArray[np.int64]:
    """(n, 2) places to compare and exchange, in order, until the two middle ones of an even number are right.

    Batcher's odd-even merge sort of the next power of two, without what lies outside or decides nothing.
    """
    size = 1 << (places - 1).bit_length()
    pairs: list[tuple[int, int]] = []
    p = 1
    while p < size:
        k = p
        while k >= 1:
            for j in range(k % p, size - k, 2 * k):
                for i in range(min(k, size - j - k)):
                    if (i + j) // (2 * p) == (i + j + k) // (2 * p):
                        pairs.append((i + j, i + j + k))
            k //= 2
        p *= 2
    # places beyond the window would hold plus infinity, and never move
    pairs = [(a, b) for a, b in pairs if b < places]
    wanted, kept = {places // 2 - 1, places // 2}, []
    for a, b in reversed(pairs):
        if a in wanted or b in wanted:
            wanted |= {a, b}
            kept.append((a, b))
    return np.array(kept[::-1], np.int64)
