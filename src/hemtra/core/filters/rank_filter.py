"""Median of a square window, exact beside missing data and at borders.

Each window is sorted by a network of compare-exchanges (Batcher 1968) of which only those are kept that the
middle depends on. The network runs on many pixels side by side, so that the processor compares sixteen at once.
Missing points enter as minus and plus infinity in turns, which leave the middle of the others where it is; one
more place makes the number of places even, so that one network serves odd and even counts. For windows of 3 and
5 the network is written out in `median_kernels`; larger ones go through it place by place.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from hemtra.core.compiled import compiled, lean
from hemtra.core.filters.median_kernels import median_rows_3, median_rows_5
from hemtra.core.filters.sorting_network import middle_network
from hemtra.core.parallel_rows import in_halves

TILE = 256
"""Width of a tile, pixels; its windows of 5 x 5 stay in the nearest cache."""
WORTH_TWO = 200_000
"""Points from which a second thread is worth its start."""


def median_filter(z: NDArray[np.float32], size: int) -> NDArray[np.float32]:
    """The median of the points with data in a window of `size` x `size` about each point with data.

    z: (rows, cols) in mm, NaN without data; such points stay without. Of an even count it is the mean of the
    two middle heights. size: odd, 3 to 9. At borders the window is what lies inside.
    """
    if size % 2 == 0 or not 3 <= size <= 9:
        raise ValueError(f"a window of {size} points has no middle or is too large")
    z = np.ascontiguousarray(z)
    written_out = {3: median_rows_3, 5: median_rows_5}.get(size)
    if written_out is not None:
        padded, result = np.pad(z, size // 2, constant_values=np.nan), np.empty_like(z)
        in_halves(lambda r: written_out(padded, r.start, r.stop, result), len(z), worth=z.size > WORTH_TWO)
        return result
    network, out = middle_network(size * size + 1), np.empty_like(z)

    def some(rows: slice) -> None:
        _median_rows(z, size // 2, network, rows.start, rows.stop, out)

    in_halves(some, z.shape[0], worth=z.size > WORTH_TWO)
    return out


@lean
def _exchange(low: NDArray[np.float32], high: NDArray[np.float32]) -> None:
    """The smaller of each pair into low, the larger into high."""
    for c in range(low.size):
        a, b = low[c], high[c]
        low[c] = a if a < b else b
        high[c] = b if a < b else a


@lean
def _pair_up(line: NDArray[np.float32], odd: NDArray[np.int32]) -> None:
    """Replace points without data by plus and minus infinity in turns; odd: whether plus is next."""
    plus, minus = np.float32(np.inf), np.float32(-np.inf)
    for c in range(line.size):
        value = line[c]
        missing = np.int32(value != value)
        pad = plus if odd[c] != 0 else minus
        line[c] = pad if missing != 0 else value
        odd[c] = odd[c] ^ missing


@compiled
def _median_rows(
    z: NDArray[np.float32],
    reach: int,
    network: NDArray[np.int64],
    first: int,
    last: int,
    out: NDArray[np.float32],
) -> None:
    """Fill rows first to last of out."""
    rows, cols = z.shape
    side = 2 * reach + 1
    places = side * side + 1
    window = np.empty((places, TILE), np.float32)
    odd = np.empty(TILE, np.int32)
    infinity = np.float32(np.inf)
    for i in range(first, last):
        for start in range(0, cols, TILE):
            width = min(TILE, cols - start)
            odd[:] = 0
            for place in range(places - 1):
                row, shift = i + place // side - reach, start + place % side - reach
                line = window[place]
                if 0 <= row < rows:
                    begin = min(width, max(0, -shift))
                    end = max(begin, min(width, cols - shift))
                    line[:begin] = np.nan
                    line[end:width] = np.nan
                    line[begin:end] = z[row, shift + begin : shift + end]
                else:
                    line[:width] = np.nan
                _pair_up(line, odd)
            line = window[places - 1]
            for c in range(width):
                line[c] = infinity if odd[c] else -infinity
            for k in range(network.shape[0]):
                _exchange(window[network[k, 0]], window[network[k, 1]])
            lower, upper = window[places // 2 - 1], window[places // 2]
            for c in range(width):
                here = z[i, start + c]
                if here != here:
                    out[i, start + c] = np.nan
                elif odd[c]:
                    out[i, start + c] = np.float32(0.5) * (lower[c] + upper[c])
                else:
                    out[i, start + c] = upper[c]
