"""Triggers: which profiles belong to which scan. A state machine without a clock of its own.

Everything is counted in profiles along the travel: profile k is the k-th that the line has made due. A trigger
at k opens a scan `delay` profiles later, since the eye sits upstream of the laser; it takes `length` profiles.
A delay may also be a time, and a length may last until whatever triggered has passed.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Literal, TypeAlias

from hemtra.core.station.travel import MOST_PROFILES

Early: TypeAlias = Literal["ignore", "close", "pad", "share"]
"""What a trigger does whose scan would begin before the one before is complete: it is ignored; or it closes
that one short; or closes it and pads it to full size with no data; or both share the overlapping profiles."""

CLIPPED = "the scan before it was still being taken where it begins"
TOO_EARLY = "the scan before it was not complete"


@dataclass(frozen=True)
class TriggerRules:
    """Rules by which triggers become scans, in profiles and seconds."""

    delay: int
    """Profiles from a trigger to its scan; below zero the scan begins before its trigger."""
    length: int | None
    """None: until the trigger ends."""
    early: Early = "ignore"
    waiting: int = 8
    """Triggers in the queue between photo-eye and laser."""
    time_limit: float | None = None
    """A scan that takes longer is closed as faulty."""
    tail: int = 0
    """Profiles from a trigger's end to the end of its scan."""
    delay_time: float | None = None
    """Seconds from a trigger to its scan, instead of profiles; then `tail_time` counts for its end."""
    tail_time: float = 0.0
    longest: int = MOST_PROFILES
    """Profiles after which a scan that waits for its trigger's end is closed as faulty."""


@dataclass(frozen=True)
class Opened:
    """A scan begins with this profile."""

    scan: int
    profile: int


@dataclass(frozen=True)
class Closed:
    """A scan is over: it took the profiles from `first` on, `taken` of them, and `padded` rows of no data.

    before: of these, rows that come before what it took, where another scan had them.
    """

    scan: int
    first: int
    taken: int
    padded: int
    how: Literal["complete", "short", "padded", "faulty"]
    reason: str = ""
    before: int = 0


@dataclass(frozen=True)
class Ignored:
    """A trigger that led to no scan, and why."""

    at: int
    reason: str
    place: int = 0
    """Position along the travel, in profiles as the encoder counts them."""


TriggerChange: TypeAlias = Opened | Closed | Ignored


@dataclass
class _Open:
    at: int
    """When its trigger came."""
    first: int | None
    """The first profile that is its own; None until its time has come."""
    begins: float
    scan: int = 0
    started: float = 0.0
    last: int | None = None
    """The first profile that is no longer its own; None while the trigger lasts."""
    ends: float | None = None
    clipped: int = 0
    """Profiles at its beginning that the scan before it has taken."""

    @property
    def start(self) -> int:
        """Its first profile, which an open scan has."""
        assert self.first is not None
        return self.first


class TriggerMachine:
    """Feed it triggers and profiles in the order they happen; it answers with what begins and ends."""

    def __init__(self, rules: TriggerRules) -> None:
        self._rules = rules
        self._waiting: deque[_Open] = deque()
        self._open: list[_Open] = []
        self._scans = 0
        self._end = 0
        """End of the scan closed last."""

    @property
    def open_scans(self) -> tuple[tuple[int, int, int | None], ...]:
        """Scans that take the profiles arriving now: number, first profile, and end where it is known."""
        return tuple((scan.scan, scan.start, scan.last) for scan in self._open)

    @property
    def waiting(self) -> int:
        """Triggers between the eye and the laser."""
        return len(self._waiting)

    def oldest_wanted(self, now: int) -> int:
        """The first profile that a scan may still want; all before it can be forgotten."""
        wanted = [now + min(0, self._rules.delay)]
        wanted += [scan.first for scan in (*self._open, *self._waiting) if scan.first is not None]
        return min(wanted)

    def trigger(self, at: int, time: float) -> tuple[TriggerChange, ...]:
        """Start of a trigger when profile `at` was due."""
        rules = self._rules
        first = at + rules.delay if rules.delay_time is None else None
        if rules.early == "ignore" and first is not None and self._is_early(first):
            return (Ignored(at, TOO_EARLY),)
        if len(self._waiting) >= rules.waiting:
            full = f"{rules.waiting} triggers were waiting already"
            return (Ignored(at, f"{full}; allow more, or move the eye nearer to the laser"),)
        scan = _Open(at, first, time + (rules.delay_time or 0.0))
        if first is not None and rules.length is not None:
            scan.last = first + rules.length
        self._waiting.append(scan)
        return ()

    def _is_early(self, first: int) -> bool:
        """Whether a scan from there on would begin before the one before it is complete."""
        before = self._waiting[-1] if self._waiting else (self._open[-1] if self._open else None)
        if before is None:
            return first < self._end
        return before.last is None or first < before.last

    def release(self, at: int, time: float) -> tuple[TriggerChange, ...]:
        """End of the trigger's cause; matters only to a scan that lasts as long as its trigger."""
        lasting = [s for s in (*self._open, *self._waiting) if s.last is None and s.ends is None]
        if lasting and self._rules.length is None:
            scan = lasting[0]
            if scan.first is None or self._rules.delay_time is not None:
                scan.ends = time + self._rules.tail_time
            else:
                scan.last = max(at + self._rules.tail, scan.first + 1)
        return ()

    def profile(self, index: int, time: float) -> tuple[TriggerChange, ...]:
        """Profile `index` is due at `time` in seconds, whether the sensor delivers it or misses it."""
        events: list[TriggerChange] = []
        for scan in tuple(self._open):
            if scan.last is None and scan.ends is not None and time >= scan.ends:
                scan.last = index
            if scan.last is not None and index >= scan.last:
                events.append(self._close(scan, scan.last))
        while self._waiting and self._is_due(self._waiting[0], index, time):
            events += self._begin(self._waiting.popleft(), index, time)
        return (*events, *self._overdue(index, time))

    @staticmethod
    def _is_due(scan: _Open, index: int, time: float) -> bool:
        return time >= scan.begins if scan.first is None else index >= scan.first

    def _begin(self, scan: _Open, index: int, time: float) -> list[TriggerChange]:
        rules = self._rules
        if scan.first is None:
            scan.first = index
            scan.last = None if rules.length is None else index + rules.length
        if rules.early == "ignore" and (self._open or scan.first < self._end):
            return [Ignored(scan.at, TOO_EARLY)]
        events: list[TriggerChange] = []
        if rules.early != "share":
            events += [self._cut(before, scan.first) for before in tuple(self._open)]
            scan.clipped = max(self._end - scan.first, 0)
            scan.first += scan.clipped
        self._scans += 1
        scan.scan, scan.started = self._scans, time
        self._open.append(scan)
        return [*events, Opened(scan.scan, scan.first)]

    def tick(self, index: int, time: float) -> tuple[TriggerChange, ...]:
        """Time continues without profiles: a line that stands still must not leave a scan open for ever."""
        return tuple(self._overdue(index, time))

    def stop(self, index: int) -> tuple[TriggerChange, ...]:
        """The line is stopped before profile `index`: what is open is closed with what it has."""
        closed = tuple(self._close(scan, index) for scan in tuple(self._open))
        self._waiting.clear()
        return closed

    def _close(self, scan: _Open, end: int) -> Closed:
        taken = self._over(scan, end)
        if scan.last is None or end < scan.last:
            return self._less(scan, taken, 0, f"the line stopped after {taken} profiles")
        if scan.clipped:
            return self._less(scan, taken, 0, CLIPPED)
        return Closed(scan.scan, scan.start, taken, 0, "complete")

    def _less(self, scan: _Open, taken: int, behind: int, reason: str) -> Closed:
        """A scan that lacks profiles: filled up to full size where that is the rule, else short by name."""
        before = scan.clipped if self._rules.early == "pad" else 0
        if before or behind:
            return Closed(scan.scan, scan.start, taken, before + behind, "padded", reason, before)
        return Closed(scan.scan, scan.start, taken, 0, "short", reason)

    def _over(self, scan: _Open, end: int) -> int:
        """Take a scan from the open ones; answers how many profiles it took."""
        self._open.remove(scan)
        self._end = max(self._end, end)
        return max(0, end - scan.start)

    def _cut(self, scan: _Open, end: int) -> Closed:
        """Closed by the next trigger."""
        taken = self._over(scan, end)
        behind = scan.last - end if self._rules.early == "pad" and scan.last is not None else 0
        return self._less(scan, taken, behind, "the next part came early")

    def _overdue(self, index: int, time: float) -> list[TriggerChange]:
        found: list[TriggerChange] = []
        for scan in tuple(self._open):
            reason = self._fault(scan, index + 1 - scan.start, time)
            if reason:
                taken = self._over(scan, index + 1)
                found.append(Closed(scan.scan, scan.start, taken, 0, "faulty", reason))
        return found

    def _fault(self, scan: _Open, taken: int, time: float) -> str:
        limit = self._rules.time_limit
        if limit is not None and time - scan.started > limit:
            wanted = "?" if scan.last is None else str(scan.last - scan.start)
            return f"{taken} of {wanted} profiles in {time - scan.started:.1f} s"
        if scan.last is None and taken >= self._rules.longest:
            return f"the trigger had not ended after {taken} profiles"
        return ""
