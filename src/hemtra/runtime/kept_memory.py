"""Memory of height maps that are done with, kept for the next ones."""

from __future__ import annotations

import ctypes
from functools import cache

TRIM_THRESHOLD, MMAP_THRESHOLD = -1, -3
"""Numbers of these settings in malloc.h of the GNU C library."""
KEPT, LARGEST = 512 << 20, 32 << 20
"""Bytes that are kept, and those of the largest array that shares them, the most that the library takes."""


@cache
def keep_memory() -> bool:
    """Have this process keep what it frees, and say whether its C library can.

    Where the environment sets the first of both, as the guards of Dask's workers do, the library no longer
    adapts the second: then each map comes from the system and goes back to it, a fifth of the time.
    """
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (OSError, AttributeError):
        return False
    return bool(mallopt(MMAP_THRESHOLD, LARGEST) and mallopt(TRIM_THRESHOLD, KEPT))
