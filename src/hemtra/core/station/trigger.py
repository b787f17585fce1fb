"""Triggers: which profiles belong to which scan. A state machine without a clock of its own.

Everything is counted in profiles along the travel: profile k is the k-th that the line has made due. A trigger
at k opens a scan `delay` profiles later, since the eye sits upstream of the laser; it takes `length` profiles.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Literal, TypeAlias

Early: TypeAlias = Literal["ignore", "close", "pad", "share"]
"""What a trigger does whose scan would begin before the one before is complete: it is ignored; or it closes
that one short; or closes it and pads it to full size with no data; or both share the overlapping profiles."""


@dataclass(frozen=True)
class TriggerRules:
    """How triggers become scans; delay and length in profiles, the time limit in seconds."""

    delay: int
    length: int | None
    """None: until the trigger ends."""
    early: Early = "ignore"
    waiting: int = 8
    """Triggers that may be on the way from the eye to the laser."""
    time_limit: float | None = None
    """A scan that takes longer is closed as faulty."""


@dataclass(frozen=True)
class Opened:
    """A scan begins with this profile."""

    scan: int
    profile: int


@dataclass(frozen=True)
class Closed:
    """A scan is over: it took the profiles from `first` on, `taken` of them, and `padded` rows of no data."""

    scan: int
    first: int
    taken: int
    padded: int
    how: Literal["complete", "short", "padded", "faulty"]
    reason: str = ""


@dataclass(frozen=True)
class Ignored:
    """A trigger that led to no scan, and why."""

    at: int
    reason: str


Event: TypeAlias = Opened | Closed | Ignored


@dataclass
class _Open:
    scan: int
    first: int
    started: float
    last: int | None
    """The first profile that is no longer its own; None while the trigger lasts."""


class TriggerMachine:
    """Feed it triggers and profiles in the order they happen; it answers with what begins and ends."""

    def __init__(self, rules: TriggerRules) -> None:
        self._rules = rules
        self._waiting: deque[_Open] = deque()
        self._open: deque[_Open] = deque()
        self._next_scan = 1

    @property
    def open_scans(self) -> tuple[int, ...]:
        """Scans that take the profiles arriving now."""
        return tuple(scan.scan for scan in self._open)

    def oldest_wanted(self, now: int) -> int:
        """The first profile that a scan may still want; all before it can be forgotten."""
        return min((scan.first for scan in (*self._open, *self._waiting)), default=now)

    def trigger(self, at: int) -> tuple[Event, ...]:
        """The eye saw a part when profile `at` was due."""
        rules = self._rules
        start = at + rules.delay
        before = self._waiting[-1] if self._waiting else (self._open[-1] if self._open else None)
        if rules.early == "ignore" and before is not None and (before.last is None or start < before.last):
            return (Ignored(at, "the scan before it was not complete"),)
        if len(self._waiting) >= rules.waiting:
            full = f"{rules.waiting} triggers were waiting already"
            return (Ignored(at, f"{full}; allow more, or move the eye nearer to the laser"),)
        last = None if rules.length is None else start + rules.length
        self._waiting.append(_Open(self._next_scan, start, 0.0, last))
        self._next_scan += 1
        return ()

    def release(self, at: int) -> tuple[Event, ...]:
        """The eye saw the part's end; only a scan that lasts as long as its trigger cares."""
        lasting = [scan for scan in (*self._open, *self._waiting) if scan.last is None]
        if lasting:
            # the part's end needs as long from the eye to the laser as its beginning did
            lasting[0].last = max(at + self._rules.delay, lasting[0].first + 1)
        return ()

    def profile(self, index: int, time: float) -> tuple[Event, ...]:
        """Profile `index` is due at `time` in seconds, whether the sensor delivers it or misses it."""
        events: list[Event] = []
        while self._open and self._ended(self._open[0], index):
            scan = self._open.popleft()
            events.append(self._closed(scan, scan.last if scan.last is not None else index))
        while self._waiting and self._waiting[0].first <= index:
            scan = self._waiting.popleft()
            if self._open and self._rules.early != "share":
                events.append(self._cut(self._open.popleft(), scan.first))
            scan.started = time
            self._open.append(scan)
            events.append(Opened(scan.scan, scan.first))
        return (*events, *self._overdue(index, time))

    def tick(self, index: int, time: float) -> tuple[Event, ...]:
        """Time goes on without profiles: a line that stands still must not leave a scan open for ever."""
        return tuple(self._overdue(index, time))

    def stop(self, index: int) -> tuple[Event, ...]:
        """The line is stopped before profile `index`: what is open is closed with what it has."""
        closed = tuple(self._closed(scan, index) for scan in self._open)
        self._open.clear()
        self._waiting.clear()
        return closed

    @staticmethod
    def _ended(scan: _Open, index: int) -> bool:
        return scan.last is not None and index >= scan.last

    def _closed(self, scan: _Open, end: int) -> Closed:
        taken = max(0, end - scan.first)
        complete = scan.last is not None and end >= scan.last
        reason = "" if complete else f"the line stopped after {taken} profiles"
        return Closed(scan.scan, scan.first, taken, 0, "complete" if complete else "short", reason)

    def _cut(self, scan: _Open, end: int) -> Closed:
        """Closed by the next trigger."""
        taken = end - scan.first
        if self._rules.early == "pad" and scan.last is not None:
            return Closed(scan.scan, scan.first, taken, scan.last - end, "padded", "the next part came early")
        return Closed(scan.scan, scan.first, taken, 0, "short", "the next part came early")

    def _overdue(self, index: int, time: float) -> list[Event]:
        limit = self._rules.time_limit
        if limit is None:
            return []
        found: list[Event] = []
        for scan in [s for s in self._open if time - s.started > limit]:
            self._open.remove(scan)
            taken = index - scan.first + 1
            wanted = "?" if scan.last is None else str(scan.last - scan.first)
            reason = f"{taken} of {wanted} profiles in {time - scan.started:.1f} s"
            found.append(Closed(scan.scan, scan.first, taken, 0, "faulty", reason))
        return found
