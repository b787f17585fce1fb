"""Throughput of parts, and the time each takes."""

from __future__ import annotations

import time
from collections import deque
from dataclasses import dataclass

RECENT = 200
"""Parts whose times make the rate and latency that are shown."""


@dataclass(frozen=True)
class Times:
    """Rate in parts/s, and s from scan complete to the verdict on record and signal given."""

    rate: float = 0.0
    latency: float = 0.0
    worst: float = 0.0


class RecentTimes:
    """Times of the last parts."""

    def __init__(self) -> None:
        self._recent: deque[tuple[float, float]] = deque(maxlen=RECENT)

    def through(self, scanned: float) -> None:
        """A part whose scan was complete at a time, in s since 1970, is through now."""
        self._recent.append((time.monotonic(), time.time() - scanned))

    @property
    def now(self) -> Times:
        """Current times."""
        recent = list(self._recent)
        if len(recent) < 2:
            return Times(0.0, recent[0][1] if recent else 0.0, recent[0][1] if recent else 0.0)
        span = recent[-1][0] - recent[0][0]
        late = sorted(late for _, late in recent)
        return Times((len(recent) - 1) / span if span > 0 else 0.0, late[len(late) // 2], late[-1])
