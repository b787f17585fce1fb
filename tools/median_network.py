"""Writes src/hemtra/core/scan/median_kernels.py: sorting networks written out."""

from pathlib import Path

from hemtra.core.filters.sorting_network import middle_network

TARGET = Path(__file__).parent.parent / "src" / "hemtra" / "core" / "filters" / "median_kernels.py"

HEAD = '''"""Medians of small windows, by sorting networks written out; made by tools/median_network.py.

Written out, a window is a set of variables and no array: the compiler keeps it in vector registers, many
windows side by side. `rank_filter` says how missing points are paired up.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from hemtra.core.arrays import Heights

INFINITY, HALF = np.float32(np.inf), np.float32(0.5)
'''


def kernel(size: int) -> str:
    """The function for windows of size x size."""
    places, reach = size * size + 1, size // 2
    network = middle_network(places)
    lines = [
        "",
        "",
        "@njit(cache=True, nogil=True)",
        f"def median_rows_{size}(padded: Heights, first: int, last: int, out: Heights) -> None:",
        f'    """Fill rows first to last of out (rows, cols); padded: the map, {reach} of NaN around it."""',
        "    for i in range(first, last):",
        *(f"        r{r} = padded[i + {r}]" for r in range(size)),
        "        line = out[i]",
        "        for j in range(out.shape[1]):",
        "            odd = np.int32(0)",
    ]
    for place in range(places - 1):
        row, col = divmod(place, size)
        lines += [
            f"            v{place} = r{row}[j + {col}]",
            f"            gone = v{place} != v{place}",
            f"            v{place} = (INFINITY if odd != 0 else -INFINITY) if gone else v{place}",
            "            odd = odd ^ np.int32(gone)",
        ]
    lines.append(f"            v{places - 1} = INFINITY if odd != 0 else -INFINITY")
    lines += [f"            v{a}, v{b} = min(v{a}, v{b}), max(v{a}, v{b})" for a, b in network]
    low, high = places // 2 - 1, places // 2
    lines += [
        f"            here = r{reach}[j + {reach}]",
        f"            middle = HALF * (v{low} + v{high}) if odd != 0 else v{high}",
        "            line[j] = middle if here == here else here",
    ]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    TARGET.write_text(HEAD + kernel(3) + kernel(5))
