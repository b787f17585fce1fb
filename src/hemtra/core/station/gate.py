"""Outputs that switch farther down the belt: each part is followed by the encoder until it gets there."""

from __future__ import annotations

import heapq
from dataclasses import dataclass, field


@dataclass(frozen=True, order=True)
class Switch:
    """A line switched at a place of the belt, in mm of travel."""

    at: float
    order: int
    line: int = field(compare=False)
    on: bool = field(compare=False)
    pulse: float = field(compare=False, default=0.0)
    """Time after which it goes back, s; 0 until it is switched again."""
    part: int = field(compare=False, default=0)


@dataclass
class GateTracker:
    """Several parts in flight between sensor and gate. Pure bookkeeping: it is given travel and time.

    Switches that belong to the same place come out in the order they were put in, so a later part on the same
    line wins.
    """

    _due: list[Switch] = field(default_factory=list)
    _back: list[tuple[float, int, int, bool]] = field(default_factory=list)
    _count: int = 0
    _pulses: dict[int, int] = field(default_factory=dict)

    def put(self, at: float, line: int, on: bool, *, pulse: float = 0.0, part: int = 0) -> None:
        """Switch a line when the belt has moved to `at` mm."""
        self._count += 1
        heapq.heappush(self._due, Switch(at, self._count, line, on, pulse, part))

    def advance(self, travel: float, time: float) -> list[Switch]:
        """Switches now due, in order: travel in mm, time in s, both never falling."""
        found: list[Switch] = []
        while self._back and self._back[0][0] <= time:
            _, order, line, on = heapq.heappop(self._back)
            # a newer switch of the line has replaced it
            if self._pulses.get(line) == order:
                found.append(Switch(travel, order, line, on))
        while self._due and self._due[0].at <= travel:
            switch = heapq.heappop(self._due)
            found.append(switch)
            self._pulses[switch.line] = switch.order
            if switch.pulse > 0.0:
                heapq.heappush(self._back, (time + switch.pulse, switch.order, switch.line, not switch.on))
        return found

    @property
    def in_flight(self) -> int:
        """Switches that wait for the belt."""
        return len(self._due)

    @property
    def pulsing(self) -> int:
        """Lines that go back by themselves after a while."""
        return sum(self._pulses.get(line) == order for _, order, line, _ in self._back)
