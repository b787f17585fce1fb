"""How fast parts come through, as it is shown."""

import pytest

from hemtra.runtime import times
from hemtra.runtime.times import RECENT, RecentTimes, Times


class Clock:
    """Stands for the module `time`."""

    def __init__(self):
        self.now = 1000.0

    def time(self):
        return self.now

    monotonic = time


def test_rate_and_latency_are_those_of_the_last_parts(monkeypatch):
    clock, recent = Clock(), RecentTimes()
    monkeypatch.setattr(times, "time", clock)
    assert recent.now == Times(0.0, 0.0, 0.0)
    recent.through(clock.now - 0.3)
    assert recent.now == Times(0.0, pytest.approx(0.3), pytest.approx(0.3))
    for late in (0.1, 0.5, 0.2):
        clock.now += 0.5
        recent.through(clock.now - late)
    assert recent.now == Times(pytest.approx(2.0), pytest.approx(0.3), pytest.approx(0.5))
    for _ in range(RECENT):
        clock.now += 0.1
        recent.through(clock.now - 0.05)
    assert recent.now == Times(pytest.approx(10.0), pytest.approx(0.05), pytest.approx(0.05)), "older ones went"
