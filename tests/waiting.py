"""Waiting for what another thread or process brings about."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

BETWEEN = 0.01
"""Seconds between two looks: a core that only looks is one that the line does not have."""


def until(
    condition: Callable[[], object], still: Callable[[], object] = lambda: True, seconds: float = 60.0
) -> None:
    """Wait until a condition holds; still: what must hold meanwhile."""
    end, pause = time.monotonic() + seconds, threading.Event()
    while not condition():
        assert still(), "it ended before"
        assert time.monotonic() < end, "it does not come"
        pause.wait(BETWEEN)
