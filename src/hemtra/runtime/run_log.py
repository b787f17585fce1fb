"""Signals and events of a run, until they are on record."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable

from hemtra.core.errors import HemtraError
from hemtra.core.events import Event
from hemtra.storage.records import Records
from hemtra.storage.records.store import NOT_SENT, SENT, Lot


class RunLog:
    """Taken from any thread, and written down by the one that finishes parts, so that no other waits."""

    def __init__(self, records: Records, heard: Callable[[Event], None]) -> None:
        """heard: is called with each event at once."""
        self._records, self._heard = records, heard
        self._answers: deque[tuple[int, str, float | None]] = deque()
        self._events: deque[tuple[Lot, Event, int | None]] = deque()
        """Not on record yet, each with its lot and the key of its part."""
        self.unsignalled = 0
        """Parts whose signals did not all reach the module."""

    def event(self, lot: Lot, event: Event, part: int | None = None) -> None:
        """Record an event."""
        self._events.append((lot, event, part))
        self._heard(event)

    def signalled(self, key: int, *, sent: bool) -> None:
        """Whether all signals of a part stood there."""
        self.unsignalled += not sent
        self._answers.append((key, SENT if sent else NOT_SENT, time.time() if sent else None))

    def write(self) -> None:
        """Write down what is not on record yet. Raises `RecordsError`, and loses nothing by it."""
        answers = [self._answers.popleft() for _ in range(len(self._answers))]
        try:
            self._records.signalled({key: (state, when) for key, state, when in answers})
        except HemtraError:
            self._answers.extendleft(reversed(answers))
            raise
        while self._events:
            self._records.event(*self._events[0])
            self._events.popleft()
