"""Progress of long work."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

Progress: TypeAlias = Callable[[int, int, str], bool]
"""Called with how many of how many are done and what comes next; answers whether to continue."""


def pace(done: int, of: int, seconds: float) -> str:
    """Speed so far and time left: “3.2/s, 12 s left”; empty before anything is done."""
    if not done:
        return ""
    speed = done / max(seconds, 1e-9)
    return f"{speed:.3g}/s, {(of - done) / speed:.0f} s left"
