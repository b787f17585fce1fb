"""Rounding of single precision between two units, kept as one unit in the last place up or down.

Floats of one sign are in the order of their bit patterns, so the difference of two patterns counts the floats
between (IEEE 754). Two bits a point hold it.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from hemtra.core.arrays import ByteArray
from hemtra.core.compiled import compiled, lean

PER_BYTE = 4
UP, DOWN = 1, 2
NO_NUMBER = np.int32(0x7F800000)
"""Bits that infinities and NaN have all set."""


def packed_size(count: int) -> int:
    """Size for so many points, bytes."""
    return -(-count // PER_BYTE)


@compiled
def lost_places(wanted: NDArray[np.int32], got: NDArray[np.int32]) -> ByteArray:
    """(ceil(n / 4),) by how much float32 bit patterns (n,) differ; more than one place cannot be kept."""
    count = wanted.size
    found = np.zeros(-(-count // PER_BYTE), np.uint8)
    for k in range(found.size):
        first = PER_BYTE * k
        code = 0
        for j in range(min(PER_BYTE, count - first)):
            off = wanted[first + j] - got[first + j]
            if wanted[first + j] & NO_NUMBER == NO_NUMBER:
                continue
            if off == 1:
                code |= UP << (2 * j)
            elif off == -1:
                code |= DOWN << (2 * j)
        found[k] = code
    return found


@lean
def restore_places(patterns: NDArray[np.int32], packed: ByteArray) -> None:
    """Give float32 bit patterns (n,) in place what they have lost."""
    for k in range(packed.size):
        code = packed[k]
        if code:
            first = PER_BYTE * k
            for j in range(min(PER_BYTE, patterns.size - first)):
                what = (code >> (2 * j)) & 3
                if patterns[first + j] & NO_NUMBER == NO_NUMBER:
                    continue
                if what == UP:
                    patterns[first + j] += 1
                elif what == DOWN:
                    patterns[first + j] -= 1
