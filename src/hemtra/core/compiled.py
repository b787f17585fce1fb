"""Compiled loops: machine code made at the first call, cached for later starts, run without the GIL."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, TypeVar

import numba

from hemtra.kernel_cache import cache_folder

numba.config.CACHE_DIR = cache_folder()  # type: ignore[attr-defined]
_njit: Any = numba.njit  # whose types do not know all of its options
Loop = TypeVar("Loop", bound=Callable[..., Any])


class Decorator(Protocol):
    """Leaves the type of a function as it is."""

    def __call__(self, function: Loop, /) -> Loop:
        """The function, compiled."""


compiled: Decorator = _njit(cache=True, nogil=True)
"""For any loop."""

inlined: Decorator = _njit(cache=True, nogil=True, inline="always")
"""For a few lines that are called from a loop, and become part of it."""

lean: Decorator = _njit(cache=True, nogil=True, _nrt=False)
"""For a loop that makes no array, nor calls what does.

References to arrays are not counted in it: where arrays come in tuples, counting takes longer than the work.
"""

reordered: Decorator = _njit(cache=True, nogil=True, fastmath={"reassoc", "contract", "nsz"})
"""For a sum whose terms may be added in any order, to fill vector registers; NaN keeps its meaning."""
