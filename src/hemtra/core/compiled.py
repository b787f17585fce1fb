"""Compiled loops: machine code made at the first call, cached for later starts, run without the GIL."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import Any, Protocol, TypeVar

import numba

from hemtra.kernel_cache import KernelCache, cache_folder

numba.config.CACHE_DIR = cache_folder()
Loop = TypeVar("Loop", bound=Callable[..., Any])


class Decorator(Protocol):
    """Leaves the type of a function as it is."""

    def __call__(self, function: Loop, /) -> Loop:
        """The function, compiled."""


def _njit(**options: Any) -> Decorator:
    """The compiler with its options, and a cache that stops nobody."""
    make: Any = numba.njit(nogil=True, **options)

    def kept(function: Loop, /) -> Loop:
        made: Any = make(function)
        with suppress(RuntimeError):  # there is no folder for code, so none is kept
            made._cache = KernelCache(function)
        compiled_loop: Loop = made
        return compiled_loop

    return kept


compiled = _njit()
"""For any loop."""

lean = _njit(_nrt=False)
"""For a loop that makes no array, nor calls what does.

References to arrays are not counted in it: where arrays come in tuples, counting takes longer than the work.
"""

reordered = _njit(fastmath={"reassoc", "contract", "nsz"})
"""For a sum whose terms may be added in any order, to fill vector registers; NaN keeps its meaning."""
