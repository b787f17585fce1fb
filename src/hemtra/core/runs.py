"""Runs of neighbours that are set."""

from __future__ import annotations

import numpy as np

from hemtra.core.arrays import BoolArray


def runs(mask: BoolArray, closed: bool) -> list[tuple[int, int]]:
    """First index and count of each run of neighbours that are set; round the start where it is closed."""
    if mask.size and mask.all():
        return [(0, int(mask.size))]
    ends = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8))).reshape(-1, 2)
    found = [(int(a), int(b - a)) for a, b in ends]
    if closed and len(found) > 1 and mask[0] and mask[-1]:
        (_, head), (first, tail) = found[0], found[-1]
        found = [*found[1:-1], (first, tail + head)]
    return found
