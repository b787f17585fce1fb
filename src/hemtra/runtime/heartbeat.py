"""Heartbeat of a line in the records, for everyone who monitors many lines."""

from __future__ import annotations

import platform
import threading
from collections.abc import Callable
from dataclasses import replace

from hemtra.core.errors import HemtraError
from hemtra.storage.records import Records
from hemtra.storage.records.lines import LineState, say

EVERY = 5.0
"""Interval of the heartbeat, s."""


class Heartbeat:
    """Says every so often what a line does, in a thread of its own; that it cannot stops nothing."""

    def __init__(self, records: Callable[[], Records | None], now: Callable[[], LineState]) -> None:
        """records: where it is said, None where they are away. now: what the line does."""
        self._records, self._now = records, now
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._run, name="heartbeat", daemon=True)

    def start(self) -> None:
        """Begin, with a first sign at once."""
        self._thread.start()

    def stop(self) -> None:
        """Record that the line has stopped, and end."""
        self._stopping.set()
        self._thread.join()
        self._say("stopped")

    def _run(self) -> None:
        self._say()
        while not self._stopping.wait(EVERY):
            self._say()

    def _say(self, state: str = "") -> None:
        records = self._records()
        if records is None:
            return
        try:
            line = self._now()
            say(records, replace(line, state=state) if state else line)
        except HemtraError:
            return  # whoever writes parts there says so


def host() -> str:
    """The name of this computer."""
    return platform.node()
