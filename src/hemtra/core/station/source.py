"""Source of profiles and triggers: a sensor with its encoder and photo-eye, real or simulated."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from hemtra.core.station.assembler import Arrival


class Source(Protocol):
    """Profiles and triggers in the order they happen.

    Iterating runs it, and raises `HemtraError` where sensor or encoder do not deliver what they should. What is
    delivered may come sooner than it happens where it is simulated; its times are what counts.
    """

    def __iter__(self) -> Iterator[Arrival]:
        """Begin."""

    def counted(self, time: float) -> float:
        """Travel of the belt at a time in s, as the station counts it, mm."""
